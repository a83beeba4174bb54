package charterfile

import (
	"strings"
	"testing"

	"spindle/internal/core/charter"
	"spindle/internal/core/fault"
)

// TestHostileFiles are refused before a parser loses itself in them.
func TestHostileFiles(t *testing.T) {
	deep := strings.Builder{}
	for i := range 400 {
		deep.WriteString(strings.Repeat(" ", i) + "a:\n")
	}
	lines := func(s string, n int) string { return strings.Repeat(s+"\n", n) }
	for name, text := range map[string]string{"brackets": strings.Repeat("[", 1<<20), "brackets by line": lines("[",
		1<<19),
		"maps": lines("{a: ", 1<<18), "dashes": strings.Repeat("- ", 4000), "marks": strings.Repeat("? ", 4000),
		"types": strings.Repeat("!t ", 1<<18), "indents": deep.String(), "names": "a: " + strings.Repeat("&x ", 1<<18)} {
		_, err := Read([]charter.Source{{Name: "a.yaml", Text: text}}, nil, none)
		if err == nil || !fault.HasCode(fault.All(err)[0], "charter") || !strings.HasPrefix(fault.All(err)[0].Field,
			"a.yaml:") {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, text := range map[string]string{"types": strings.Repeat("!t ", 2000), "names": "a: " + strings.Repeat("&x ",
		2000),
		"quotes": "a: " + strings.Repeat("'", 4001), "tabs": "a:\n\t- b\n", "nothing": "", "no text": "\x00\xff\xfe",
		"far apart": lines("# x", 1<<18)} {
		_, _ = Read([]charter.Source{{Name: "a.yaml", Text: text}}, nil, none) // whatever it is, it ends
		t.Log(name)
	}
	for _, x := range [][2]string{{"buckets: [a]", "buckets: [b]"}, {"buckets: {a: {}}", "buckets: [b]"},
		{"buckets: [b]", "buckets: {a: {}}"}, {"buckets: x", "buckets: y"}} {
		if _, err := Read([]charter.Source{{Name: "a.yaml", Text: "charter: h\n" + x[0] + "\n"}, {Name: "b.yaml",
			Text: x[1] + "\n"}}, nil, none); err == nil {
			t.Errorf("%q beside %q is taken", x[0], x[1])
		}
	}
	wide := "buckets:\n" + lines("  a: {tags: {a: '[', b: '{'}}", 1)
	if _, err := Read([]charter.Source{{Name: "a.yaml", Text: wide}}, nil, none); err != nil {
		t.Errorf("brackets in texts: %v", err)
	}
}
