package charter

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
)

// Thing is something that is declared, or there.
type Thing struct {
	Kind   string         `json:"kind"`
	Name   string         `json:"name"`
	Ref    string         `json:"-"` // by which it is known where it is, when not by its name
	Fields map[string]any `json:"fields"`
}

// Deed is what is done with a thing.
type Deed string

// The deeds.
const (
	Make   Deed = "make"
	Change Deed = "change"
	Remove Deed = "remove"
)

// FieldChange is a field that differs.
type FieldChange struct {
	Field string `json:"field"` // with what is in it after points, such as tags.kind
	From  any    `json:"from"`  // nil: it is not there
	To    any    `json:"to"`    // nil: it goes
}

// Step brings a thing to what is declared of it.
type Step struct {
	Do      Deed          `json:"do"`
	Kind    string        `json:"kind"`
	Name    string        `json:"name"`
	Changes []FieldChange `json:"changes,omitempty"`
	Want    *Thing        `json:"-"` // nil: nothing is declared
	There   *Thing        `json:"-"` // nil: it is not there
}

type id struct{ kind, name string }

func index(list []Thing) map[id]*Thing {
	out := make(map[id]*Thing, len(list))
	for i := range list {
		out[id{list[i].Kind, list[i].Name}] = &list[i]
	}
	return out
}

// Compare gives the steps from what is there to what is declared. order are the kinds, those
// that others may name first. before is what the charter declared when it was last enacted.
// whole are kinds of which what is not declared goes.
func Compare(order []string, declared, before, there []Thing, whole []string) (steps []Step) {
	want, have := index(declared), index(there)
	for _, t := range sorted(order, declared) {
		is := have[id{t.Kind, t.Name}]
		if is == nil {
			steps = append(steps, Step{Do: Make, Kind: t.Kind, Name: t.Name, Changes: Differences(t.Fields, nil), Want: t})
		} else if d := Differences(t.Fields, is.Fields); len(d) > 0 {
			steps = append(steps, Step{Do: Change, Kind: t.Kind, Name: t.Name, Changes: d, Want: t, There: is})
		}
	}
	named := index(before)
	var gone []Thing
	for _, t := range there {
		at := id{t.Kind, t.Name}
		if want[at] == nil && (named[at] != nil || slices.Contains(whole, t.Kind)) {
			gone = append(gone, t)
		}
	}
	return append(steps, removals(order, gone)...)
}

// Retire gives the steps that take away what is declared and there.
func Retire(order []string, declared, there []Thing) []Step {
	want := index(declared)
	var gone []Thing
	for _, t := range there {
		if want[id{t.Kind, t.Name}] != nil {
			gone = append(gone, t)
		}
	}
	return removals(order, gone)
}

func removals(order []string, gone []Thing) (steps []Step) {
	list := sorted(order, gone)
	slices.Reverse(list)
	for _, t := range list {
		steps = append(steps, Step{Do: Remove, Kind: t.Kind, Name: t.Name, There: t})
	}
	return steps
}

// sorted gives things by kind, in the order of kinds, and by name.
func sorted(order []string, list []Thing) []*Thing {
	out := make([]*Thing, len(list))
	for i := range list {
		out[i] = &list[i]
	}
	slices.SortFunc(out, func(a, b *Thing) int {
		return cmp.Or(cmp.Compare(slices.Index(order, a.Kind), slices.Index(order, b.Kind)), cmp.Compare(a.Name, b.Name))
	})
	return out
}

// Differences gives the fields that are wanted and not so, by name.
func Differences(want, have map[string]any) (out []FieldChange) {
	for _, name := range slices.Sorted(maps.Keys(want)) {
		out = append(out, differ(name, want[name], have[name])...)
	}
	return out
}

func differ(at string, want, have any) []FieldChange {
	if empty(want) && empty(have) {
		return nil
	}
	w, wok := parts(want)
	h, hok := parts(have)
	if wok && hok {
		var out []FieldChange
		for _, name := range slices.Sorted(maps.Keys(union(w, h))) {
			out = append(out, differ(at+"."+name, w[name], h[name])...)
		}
		return out
	}
	if reflect.DeepEqual(want, have) {
		return nil
	}
	return []FieldChange{{at, have, want}}
}

func union(a, b map[string]any) map[string]any {
	out := maps.Clone(a)
	maps.Copy(out, b)
	return out
}

// parts gives what is in a value by name: of a map, and of a list of things with names.
func parts(v any) (map[string]any, bool) {
	switch v := v.(type) {
	case map[string]any:
		return v, true
	case []any:
		out := make(map[string]any, len(v))
		for _, x := range v {
			m, _ := x.(map[string]any)
			name, ok := m["name"].(string)
			if !ok || out[name] != nil {
				return nil, false
			}
			out[name] = m
		}
		return out, len(v) > 0
	}
	return nil, false
}

func empty(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case string:
		return v == ""
	case bool:
		return !v
	case float64:
		return v == 0
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	}
	return false
}

// Words says a step in a few words.
func (s *Step) Words() string {
	return fmt.Sprintf("%s the %s %s", s.Do, s.Kind, s.Name)
}
