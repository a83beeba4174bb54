package object

import (
	"maps"
	"testing"
	"time"

	"spindle/internal/core/fault"
)

func TestVersionIDsReadBack(t *testing.T) {
	for _, id := range []VersionID{1, 31, 32, 18342, 1 << 40, 1<<62 + 7, Plain} {
		got, err := ParseVersionID(id.String())
		if err != nil || got != id {
			t.Errorf("%d is written %q and read as %d, %v", id, id, got, err)
		}
	}
	for _, s := range []string{"", "0", "00000000", "-0000001", "12", "0000000Z", "00000001 ", "NULL",
		"99999999999999999999"} {
		if id, err := ParseVersionID(s); !fault.HasCode(err, "version-malformed") {
			t.Errorf("%q is read as %d, %v", s, id, err)
		}
	}
}

func TestMomentsAsPeopleWriteThem(t *testing.T) {
	zone := time.FixedZone("here", 3600)
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, zone)
	for s, want := range map[string]time.Time{
		"2026-11-20 14:00":          time.Date(2026, 11, 20, 14, 0, 0, 0, zone),
		"2026-11-20":                time.Date(2026, 11, 20, 0, 0, 0, 0, zone),
		"2026-11-20T14:00:05Z":      time.Date(2026, 11, 20, 14, 0, 5, 0, time.UTC),
		"2026-11-20T14:00:05+02:00": time.Date(2026, 11, 20, 12, 0, 5, 0, time.UTC),
		"2026-11-20 14:00 +02:00":   time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC),
		"2026-11-20 14:00Z":         time.Date(2026, 11, 20, 14, 0, 0, 0, time.UTC),
		"2026-11-20 14:00 UTC":      time.Date(2026, 11, 20, 14, 0, 0, 0, time.UTC),
		"2026-11-20 America/Lima":   time.Date(2026, 11, 20, 5, 0, 0, 0, time.UTC),
		" 36h ":                     now.Add(-36 * time.Hour),
		"7d":                        now.AddDate(0, 0, -7),
	} {
		if got, err := ParseMoment(s, now); err != nil || !got.Equal(want) {
			t.Errorf("%q is %v, %v; want %v", s, got, err, want)
		}
	}
	for _, s := range []string{"", "yesterday", "2026-13-01", "2026-11-24", "-3h", "-3d", "1e9d",
		"2026-11-20 Nowhere/City", "UTC"} {
		if got, err := ParseMoment(s, now); !fault.HasCode(err, "moment") {
			t.Errorf("%q is %v, %v", s, got, err)
		}
	}
}

func TestTagLimits(t *testing.T) {
	many := map[string]string{}
	for i := range 11 {
		many[string(rune('a'+i))] = ""
	}
	long := make([]byte, 257)
	for i := range long {
		long[i] = 'x'
	}
	for code, tags := range map[string]map[string]string{
		"tag-count": many, "tag-name": {"a?b": ""}, "tag-value": {"a": string(long)},
	} {
		if _, err := NewTags(tags, MaxTags); !fault.HasCode(err, code) {
			t.Errorf("%v: %v, want %s", tags, err, code)
		}
	}
	_, err := NewTags(map[string]string{"site": "Öland\x07"}, MaxTags)
	if f := fault.From(err); f.Field != "site" || f.Message != `character 6 of the value, '\a', is not allowed` {
		t.Errorf("a control character: %+v", f)
	}
	if _, err := NewTags(map[string]string{"site": "Öland north/east", "x:y": "a=b@c"}, MaxTags); err != nil {
		t.Error(err)
	}
}

func TestEdits(t *testing.T) {
	before := map[string]string{"taxon": "Erica", "sheet": "7"}
	got := Edit{Set: map[string]string{"Taxon": "Calluna"}, Unset: []string{"SHEET", "nix"}}.Apply(before, true)
	if !maps.Equal(got, map[string]string{"taxon": "Calluna"}) || before["taxon"] != "Erica" {
		t.Errorf("%v, and %v before", got, before)
	}
	if got := (Edit{Set: map[string]string{"A": "1"}, Clear: true}).
		Apply(before, false); !maps.Equal(got, map[string]string{"A": "1"}) {
		t.Errorf("after clearing: %v", got)
	}
}
