package charterfile

import (
	"encoding/json"
	"strings"
	"testing"

	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
)

func none(map[string]any) []Complaint { return nil }

func TestFilesArePutTogether(t *testing.T) {
	tree, err := Read([]charter.Source{{Name: "a.yaml",
		Text: "charter: fenn\nvariables: {days: 400, room: cellar}\nbuckets:\n  plates:\n    journal: {days: '${days}'}\n    note: in the ${room}, $${room}\n"},
		{Name: "b.yaml", Text: "buckets:\n  loans: {quota: 4_000, tags: {kind: x, n: '7'}}\n---\nsync: {nightly: {like: [a, 'b*'], on: true, note: null}}\n"}},
		map[string]string{"room": "attic"}, none)
	if err != nil {
		t.Fatal(err)
	}
	b, _ := json.Marshal(tree)
	want := `{"buckets":{"loans":{"quota":4000,"tags":{"kind":"x","n":"7"}},"plates":{"journal":{"days":400},"note":"in the attic, ${room}"}},` +
		`"charter":"fenn","sync":{"nightly":{"like":["a","b*"],"note":null,"on":true}}}`
	if string(b) != want {
		t.Errorf("%s", b)
	}
}

// All that is wrong is told at once, each where it is.
func TestWhatIsWrongIsToldWhereItIs(t *testing.T) {
	for _, x := range []struct{ text, more, want string }{
		{"a: [1\n", "", "a.yaml:1"},
		{"- a\n", "", "a.yaml:1:1: a charter is sections"},
		{"charter: x\nbuckets:\n  plates: {quota: 1}\n", "charter: y\nbuckets:\n  plates: {quota: 2}\n",
			"b.yaml:3:3: buckets.plates is declared twice; b.yaml:1:1: charter is said twice"},
		{"buckets:\n  plates: &x {quota: 1}\n  loans: *x\n", "", "a.yaml:2:11: anchors; a.yaml:3:10: anchors"},
		{"buckets:\n  plates:\n    note: '${nothing} ${more}'\n", "",
			"a.yaml:3:5: there is no variable nothing; a.yaml:3:5: there is no variable more"},
		{"a: 1\na: 2\n", "", "a.yaml:2:1"},
		{"a: !!binary x\n", "", "a.yaml:1:4: anchors"},
		{"variables: {v: 1}\n", "variables: {v: 2}\n", "b.yaml:1:13: the variable v is set twice"},
		{"buckets:\n  wrong: {quota: 1}\n", "", "a.yaml:2:11: buckets.wrong.quota: no"},
	} {
		files := []charter.Source{{Name: "a.yaml", Text: x.text}}
		if x.more != "" {
			files = append(files, charter.Source{Name: "b.yaml", Text: x.more})
		}
		_, err := Read(files, nil, func(tree map[string]any) []Complaint {
			if b, _ := tree["buckets"].(map[string]any); b["wrong"] != nil {
				return []Complaint{{"buckets.wrong.quota", "no"}}
			}
			return nil
		})
		got := ""
		if err != nil {
			for _, f := range fault.All(err) {
				got += f.Field + ": " + f.Message + "\n"
			}
		}
		for _, want := range strings.Split(x.want, "; ") {
			if !strings.Contains(got, want) {
				t.Errorf("%q: %q is not told:\n%s", x.text, want, got)
			}
		}
	}
	deep := strings.Repeat("{a: ", 100) + "1" + strings.Repeat("}", 100)
	if _, err := Read([]charter.Source{{Name: "a.yaml", Text: "a: " + deep}}, nil, none); err == nil ||
		!strings.Contains(err.Error(), "deep") {
		t.Errorf("very deep: %v", err)
	}
	if _, err := Read([]charter.Source{{Name: "a.yaml", Text: strings.Repeat("# x\n", 1<<20)}}, nil,
		none); !fault.HasCode(fault.All(err)[0],
		"charter") {
		t.Errorf("very long: %v", err)
	}
}
