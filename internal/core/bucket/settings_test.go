package bucket

import (
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

func TestSettingsAreChecked(t *testing.T) {
	n := func(i int64) *int64 { return &i }
	for code, list := range map[string][]Settings{
		"":            {{}, {Quota: n(1)}},
		"quota-value": {{Quota: n(0)}, {Quota: n(-1)}},
	} {
		for _, s := range list {
			if err := s.Check(); code == "" && err != nil || code != "" && !fault.HasCode(err, code) {
				t.Errorf("%+v: %v, want %q", s, err, code)
			}
		}
	}
}

func TestDifferencesNameWhatChanged(t *testing.T) {
	quota := int64(5)
	before := Settings{Versioning: object.On, Quota: &quota, Tags: object.Tags{"a": "1"}, Tier: "cellar"}
	after := before.Clone()
	if d := after.Differences(before); len(d) != 0 {
		t.Errorf("a clone differs in %v", d)
	}
	after.Tags["a"] = "2"
	*after.Quota = 6
	if before.Tags["a"] != "1" || quota != 5 {
		t.Error("a clone shares what it was made of")
	}
	for _, edit := range []Edit{Quota(nil), Tags(nil), Sealing(true), Versioning(object.Paused), Tier("main")} {
		if err := edit(&after); err != nil {
			t.Fatal(err)
		}
	}
	d := after.Differences(before)
	if len(d) != 5 || d["quota"] != nil || d["tier"] != "" || d["sealing"] != true || d["versioning"] != "paused" {
		t.Errorf("%v", d)
	}
	if tags, ok := d["tags"].(object.Tags); !ok || len(tags) != 0 {
		t.Errorf("tags that went: %v", d["tags"])
	}
	if err := EditTags(object.Edit{Set: map[string]string{"": "x"}})(&after); err == nil {
		t.Error("a tag without a name was taken")
	}
}
