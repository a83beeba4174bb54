package usage_test

import (
	"math"
	"testing"
	"time"

	"spindle/internal/core/usage"
)

func TestForecast(t *testing.T) {
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	var steady, flat, steps []usage.Point
	for i := range 60 {
		at := now.AddDate(0, 0, i-59)
		steady = append(steady, usage.Point{At: at, Bytes: int64(i) * 1000})
		flat = append(flat, usage.Point{At: at, Bytes: 5000})
		if i%10 == 0 {
			steps = append(steps, usage.Point{At: at, Bytes: int64(i) * 100})
		}
	}
	for name, x := range map[string]struct {
		points []usage.Point
		want   float64
	}{"steady": {steady, 1000}, "flat": {flat, 0}, "in steps": {steps, 100}, "none": {nil, 0}, "one": {steady[59:], 0},
		"since yesterday": {steady[58:], 1000}} {
		if got := usage.PerDay(x.points, now); math.Abs(got-x.want) > 12 {
			t.Errorf("%s: %f a day, want %f", name, got, x.want)
		}
	}
	if at := usage.FullOn(59_000, 69_000, 1000, now); at == nil || at.Format(time.DateOnly) != "2026-11-30" {
		t.Errorf("full on %v", at)
	}
	if at := usage.FullOn(70, 69, 0, now); at == nil || !at.Equal(now) {
		t.Errorf("what is full is full on %v", at)
	}
	for _, perDay := range []float64{0, -5, 0.001} {
		if at := usage.FullOn(0, 1<<40, perDay, now); at != nil {
			t.Errorf("%f a day: full on %v", perDay, at)
		}
	}
}
