package backoff

import (
	"testing"
	"time"
)

// TestPausesGrow compares pauses with a plain model: doubled one by one, however many failures.
func TestPausesGrow(t *testing.T) {
	for _, g := range []Growing{{time.Second, 5 * time.Minute}, {200 * time.Millisecond, 20 * time.Second},
		{time.Hour, time.Second}, {time.Nanosecond, 1 << 61}} {
		want := g.First
		for n := range 200 {
			if got := g.After(n); got != min(want, g.Most) {
				t.Fatalf("%+v after %d: %s, not %s", g, n, got, min(want, g.Most))
			}
			if d := g.Apart(n); d < g.After(n)/4*3 || d > g.After(n)/4*5+4 {
				t.Fatalf("%+v after %d, apart: %s", g, n, d)
			}
			if want < g.Most {
				want *= 2
			}
		}
		if g.After(-3) != min(g.First, g.Most) {
			t.Errorf("%+v before any failure: %s", g, g.After(-3))
		}
	}
}
