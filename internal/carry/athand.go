package carry

import (
	"context"
	"fmt"

	"spindle/internal/core/syncing"
	"spindle/internal/side"
)

// atHandMost is how many contents that are at the target alone are remembered.
const atHandMost = 100_000

// atHand are contents at the target under keys that the source does not have: what was
// renamed at the source is copied there instead of being sent.
type atHand struct {
	at   map[string]syncing.Entry // by digest and size
	want map[string]int64         // of what is new, by digest: for a rehearsal
}

// names gives by what a content is known.
func names(e *syncing.Entry) (out []string) {
	if e == nil || e.Size == 0 {
		return nil
	}
	if e.CRC64 != nil {
		out = append(out, fmt.Sprintf("%d crc %x", e.Size, *e.CRC64))
	}
	if e.MD5 != "" {
		out = append(out, fmt.Sprintf("%d md5 %s", e.Size, e.MD5))
	}
	return out
}

// add remembers what a step tells of contents.
func (h *atHand) add(s *syncing.Step) {
	switch {
	case s.Source == nil && len(h.at) < atHandMost:
		for _, n := range names(s.Target) {
			if h.at == nil {
				h.at = map[string]syncing.Entry{}
			}
			h.at[n] = *s.Target
		}
	case s.Do == syncing.Write && s.Target == nil && len(h.want) < atHandMost:
		for _, n := range names(s.Source) {
			if h.want == nil {
				h.want = map[string]int64{}
			}
			h.want[n]++
		}
	}
}

// count counts the new objects whose content is at hand.
func (h *atHand) count(t *syncing.Totals) {
	counted := map[string]bool{}
	for n, e := range h.at {
		if h.want[n] > 0 && !counted[e.Key] {
			counted[e.Key] = true
			t.AtHand.Objects += h.want[n]
			t.AtHand.Bytes += h.want[n] * e.Size
		}
	}
}

// find gives what is at the target with the content of an object.
func (h *atHand) find(e syncing.Entry) (side.Facts, bool) {
	for _, n := range names(&e) {
		if at, ok := h.at[n]; ok {
			return side.Facts{Key: at.Key, Size: at.Size, ETag: at.ETag, Modified: at.Modified, CRC64: at.CRC64}, true
		}
	}
	return side.Facts{}, false
}

// copied has the target copy a content that it holds under another key. It reports false
// when it must be sent all the same.
func (j *Job) copied(ctx context.Context, key string, from side.Facts, w side.Write) bool {
	at, ok := j.hand.find(from.Entry())
	if !ok {
		return false
	}
	f, err := side.Copy(ctx, j.To, at, key, w)
	return err == nil && f.Size == from.Size
}
