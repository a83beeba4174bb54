package lifecycle

import (
	"time"

	"spindle/internal/core/object"
)

// Version is one of a key's versions as rules see it.
type Version struct {
	Number   int64
	Created  time.Time
	Replaced time.Time // zero for the current one
	Size     int64
	Mask     Mask // the rules that hold it; of a delete marker those of KeyMask
	Tier     int16
	Marker   bool
	Plain    bool // written while versioning was off or paused
}

// Key is a key with all its versions, the current one first, then by falling age of
// their replacement.
type Key struct {
	Versions []Version
	Mask     Mask // of KeyMask
}

// Verdict is what is due for one of a key's versions.
type Verdict struct {
	Index  int // in Versions
	Due    Due
	Others []*Due // of other rules, which would have acted
}

// item gives a version of the key as an item; ok is false for a delete marker that
// hides something.
func (k *Key) item(i, newer int) (it Item, ok bool) {
	v := &k.Versions[i]
	it = Item{Mask: v.Mask, Since: v.Created, Tier: v.Tier}
	switch {
	case i > 0:
		it.Of, it.Since, it.Newer, it.Empty = Previous, v.Replaced, newer, v.Marker
	case v.Marker:
		it.Of = Markers
		return it, len(k.Versions) == 1
	}
	return it, true
}

// Item gives a version of the key as rules see it; ok is false for a delete marker that
// hides something, which they leave alone.
func (k *Key) Item(i int) (it Item, ok bool) {
	newer := 0
	for j := 1; j < i; j++ {
		if !k.Versions[j].Marker {
			newer++
		}
	}
	return k.item(i, newer)
}

// items calls f with each version that rules can be about.
func (k *Key) items(f func(i int, it Item)) {
	newer := 0
	for i := range k.Versions {
		if it, ok := k.item(i, newer); ok {
			f(i, it)
		}
		if i > 0 && !k.Versions[i].Marker {
			newer++
		}
	}
}

// Judge gives what is due for the key's versions at a moment.
func (s *Set) Judge(k *Key, now time.Time) (out []Verdict) {
	k.items(func(i int, it Item) {
		if best, others := s.due(it, now); best != nil {
			out = append(out, Verdict{i, *best, others})
		}
	})
	return out
}

// Outcome is what rules do, or would do, to a version.
type Outcome struct {
	Day     int // from now
	At      time.Time
	Due     Due
	Others  []*Due
	Version Version // as it was before
}

// Play runs the rules on a key, as if the runner came by each day for so many days
// beginning with now, and calls f with each thing that it would do, in order. Nothing
// but the rules changes the key meanwhile.
func (s *Set) Play(k Key, versioning object.Versioning, now time.Time, days int, f func(Outcome)) {
	for day := 0; day <= days; {
		at := now.Add(time.Duration(day) * Day)
		for {
			verdicts := s.Judge(&k, at)
			if len(verdicts) == 0 {
				break
			}
			for _, v := range verdicts {
				f(Outcome{day, at, v.Due, v.Others, k.Versions[v.Index]})
			}
			k.Versions = act(&k, verdicts, versioning, at)
		}
		day = s.nextDay(&k, now, day)
	}
}

// nextDay gives the first day after another on which something comes to be due.
func (s *Set) nextDay(k *Key, now time.Time, after int) int {
	const never = 1 << 30
	next := never
	k.items(func(_ int, it Item) {
		for _, at := range s.moments(it) {
			day := int((at.Sub(now) + Day - 1) / Day)
			if day > after && day < next {
				next = day
			}
		}
	})
	return next
}

// act gives the versions that a key has after what is due was done.
func act(k *Key, verdicts []Verdict, versioning object.Versioning, at time.Time) []Version {
	gone, deleted := map[int]bool{}, false
	list := append([]Version(nil), k.Versions...)
	for _, v := range verdicts {
		switch {
		case v.Due.Action.Move:
			list[v.Index].Tier = v.Due.Action.To
		case v.Due.Action.Of == Current && versioning != object.Off:
			deleted = true
			list[v.Index].Replaced = at
			gone[v.Index] = versioning == object.Paused && list[v.Index].Plain
		default:
			gone[v.Index] = true
		}
	}
	var out []Version
	if deleted {
		out = append(out, Version{Created: at, Mask: k.Mask, Marker: true, Plain: versioning == object.Paused})
	}
	for i, v := range list {
		if !gone[i] && !(deleted && versioning == object.Paused && v.Plain) {
			out = append(out, v)
		}
	}
	return out
}
