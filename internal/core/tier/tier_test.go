package tier

import (
	"testing"
	"time"

	"spindle/internal/core/fault"
)

// What a tier cannot be is told by field and code, and what it can be is taken.
func TestCheck(t *testing.T) {
	dirs := func(names ...string) (out []Volume) {
		for _, n := range names {
			out = append(out, Volume{Dir: n})
		}
		return out
	}
	at := func(bucket, prefix string) []Volume {
		return []Volume{{Place: &Place{Endpoint: 1, Name: "annex", Bucket: bucket, Prefix: prefix}}}
	}
	for name, x := range map[string]struct {
		t           Tier
		field, code string
	}{
		"directories":          {Tier{Name: "dry", Copies: 2, Volumes: dirs("/a", "/b")}, "", ""},
		"a bucket":             {Tier{Name: "far", Copies: 1, Volumes: at("bodies", "")}, "", ""},
		"beneath a prefix":     {Tier{Name: "far", Copies: 1, Volumes: at("bodies", "deep/")}, "", ""},
		"a prefix with no end": {Tier{Name: "far", Copies: 1, Volumes: at("bodies", "deep")}, "volumes", "volume-place"},
		"no bucket":            {Tier{Name: "far", Copies: 1, Volumes: at("", "")}, "volumes", "volume-place"},
		"two copies there":     {Tier{Name: "far", Copies: 2, Volumes: at("bodies", "")}, "copies", "tier-elsewhere"},
		"there and here": {Tier{Name: "far", Copies: 1, Volumes: append(at("bodies", ""), dirs("/a")...)}, "volumes",
			"tier-elsewhere"},
		"more copies than room": {Tier{Name: "dry", Copies: 3, Volumes: dirs("/a")}, "copies", "tier-copies"},
		"a path that is none":   {Tier{Name: "dry", Copies: 1, Volumes: dirs("a/b")}, "volumes", "volume-dir"},
		"a directory twice":     {Tier{Name: "dry", Copies: 1, Volumes: dirs("/a", "/a")}, "volumes", "volume-twice"},
		"no volumes":            {Tier{Name: "dry", Copies: 1}, "copies", "tier-copies"},
		"a price below nothing": {Tier{Name: "dry", Copies: 1, Volumes: dirs("/a"), Price: -1}, "price", "tier-price"},
		"restored never": {Tier{Name: "dry", Copies: 1, Volumes: dirs("/a"), Restore: &Restore{Delay: time.Hour}},
			"restore.days",
			"tier-restore"},
		"no name": {Tier{Name: "D", Copies: 1, Volumes: dirs("/a")}, "name", "tier-name"},
	} {
		err := x.t.Check()
		if x.code == "" {
			if err != nil {
				t.Errorf("%s: %v", name, err)
			}
			continue
		}
		if err == nil {
			t.Errorf("%s is taken", name)
			continue
		}
		if f := fault.All(err)[0]; f.Field != x.field || f.Code != x.code {
			t.Errorf("%s: %v, code %s", name, f, f.Code)
		}
	}
	far := Tier{Volumes: at("bodies", "deep/")}
	if p := far.Elsewhere(); p == nil || p.String() != "@annex/bodies/deep/" {
		t.Errorf("the place is %v", p)
	}
}
