package bucket

import (
	"slices"
	"testing"

	"spindle/internal/core/fault"
	"spindle/internal/core/object"
)

func TestBreaches(t *testing.T) {
	list := Requirements{{Field: "taxon", Kind: AnyText, Refuse: true}, {Field: "elevation-m", Kind: Numeral,
		Optional: true},
		{Field: "licence", Kind: AnyText, OneOf: []string{"CC0 1.0", "CC BY 4.0"}, Prefix: "2026/"},
		{Field: "collected-on", Kind: Day, Optional: true}, {Field: "checked", Kind: YesNo, Optional: true},
		{Field: "sheet", Kind: AnyText, Like: "FH-*", Optional: true}}
	s := Settings{}
	if err := Require(list)(&s); err != nil || s.Check() != nil {
		t.Fatal(err, s.Check())
	}
	for _, x := range []struct {
		key  string
		meta object.Metadata
		want []string
	}{
		{"a", object.Metadata{"taxon": "Carex"}, nil},
		{"a", object.Metadata{}, []string{"taxon"}},
		{"a", object.Metadata{"taxon": "", "elevation-m": "12px"}, []string{"elevation-m"}},
		{"2026/a", object.Metadata{"taxon": "Carex"}, []string{"licence"}},
		{"2026/a", object.Metadata{"taxon": "Carex", "licence": "mine"}, []string{"licence"}},
		{"2026/a", object.Metadata{"taxon": "Carex", "licence": "CC0 1.0", "collected-on": "2026-11-20", "checked": "yes",
			"sheet": "FH-1"}, nil},
		{"a", object.Metadata{"taxon": "x", "collected-on": "20.11.2026", "checked": "ja", "sheet": "1"},
			[]string{"collected-on", "checked", "sheet"}},
	} {
		var got []string
		for _, b := range s.Required.Breaches(x.key, x.meta) {
			got = append(got, b.Field)
		}
		slices.Sort(got)
		slices.Sort(x.want)
		if !slices.Equal(got, x.want) {
			t.Errorf("%s %v: %v, want %v", x.key, x.meta, got, x.want)
		}
	}
	if err := Refused(s.Required.Breaches("a", object.Metadata{"elevation-m": "x", "taxon": "t"})); err != nil {
		t.Errorf("what is only told is refused: %v", err)
	}
	if err := Refused(s.Required.Breaches("a", nil)); !fault.HasCode(err, "metadata-required") {
		t.Errorf("what is refused is taken: %v", err)
	}
	for _, bad := range []Requirements{{{Field: "", Kind: AnyText}}, {{Field: "Taxon", Kind: AnyText}},
		{{Field: "a", Kind: "shoe"}},
		{{Field: "a", Kind: Numeral, OneOf: []string{"x"}}}, {{Field: "a", Kind: AnyText, Like: "\\"}},
		{{Field: "a", Kind: AnyText}, {Field: "a", Kind: AnyText}}, make(Requirements, MaxRequirements+1)} {
		if err := (Settings{Required: bad}).Check(); !fault.HasCode(err, "requirement") && !fault.HasCode(err, "pattern") {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}
