package store

import (
	"context"
	"time"

	"spindle/internal/core/usage"
)

// Filling is how full the disks of a tier are.
type Filling struct {
	Tier        string
	Free, Total int64      // bytes
	FullOn      *time.Time // when all accounts go on so, of the first tier; nil: nobody can say
}

// Filling gives how full the disks of the tiers are, the first tier first, but for those that
// are away and those that are elsewhere.
func (s *Store) Filling(ctx context.Context, now time.Time) (out []Filling, err error) {
	days, err := s.Catalog.DaySums(ctx, now.AddDate(0, 0, -usage.Window-1), "")
	if err != nil {
		return nil, err
	}
	var points []usage.Point
	var sum int64
	for _, d := range days {
		sum += d.Bytes + d.PreviousBytes
		points = append(points, usage.Point{At: d.Day, Bytes: sum})
	}
	tiers, err := s.Tiers(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tiers {
		space, err := s.Spaces.Of(t.ID)
		if err != nil {
			continue
		}
		free, total, err := space.Free()
		if err != nil || total == 0 {
			continue
		}
		f := Filling{Tier: t.Name, Free: free, Total: total}
		if space == s.Spaces.First() {
			f.FullOn = usage.FullOn(total-free, total, usage.PerDay(points, now), now)
		}
		out = append(out, f)
	}
	return out, nil
}
