package cli_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/harness"
)

// TestWhatProgramsRead runs every command that prints with --json and parses
// what comes, line by line.
func TestWhatProgramsRead(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	for i := range 7 {
		write(t, filepath.Join(dir, "in", fmt.Sprintf("d%d", i%2), fmt.Sprint("f", i)), []byte(strings.Repeat("x", i)))
	}
	parse := func(wantLines int, field string, args ...string) []map[string]any {
		t.Helper()
		code, out, errs := run(t, s, "", args...)
		if code != 0 || errs != "" {
			t.Fatalf("%v: exit %d: %s%s", args, code, out, errs)
		}
		var docs []map[string]any
		for line := range strings.Lines(out) {
			var d map[string]any
			if err := json.Unmarshal([]byte(line), &d); err != nil {
				t.Fatalf("%v: %q: %v", args, line, err)
			}
			if _, ok := d[field]; field != "" && !ok {
				t.Errorf("%v: %q has no %s", args, line, field)
			}
			docs = append(docs, d)
		}
		if len(docs) != wantLines {
			t.Errorf("%v: %d lines, want %d", args, len(docs), wantLines)
		}
		return docs
	}
	parse(1, "name", "bucket", "create", "plates", "--quota", "1MiB", "--json")
	for _, d := range parse(7, "etag", "object", "put", filepath.Join(dir, "in"), "plates/p/", "--json") {
		if d["state"] != "put" || d["bucket"] != "plates" {
			t.Errorf("put: %v", d)
		}
	}
	parse(1, "quota", "bucket", "list", "--json")
	parse(1, "usage", "bucket", "show", "plates", "--json")
	parse(2, "prefix", "object", "list", "plates/p/", "--json")
	parse(7, "key", "object", "list", "plates/", "--flat", "--json")
	parse(3, "key", "object", "list", "plates/", "--flat", "--limit", "3", "--json")
	parse(4, "key", "object", "list", "plates/", "--flat", "--after", "p/d0/f4", "--json")
	tree := parse(4, "objects", "object", "tree", "plates", "--json")
	if tree[0]["objects"] != 7.0 || tree[0]["bytes"] != 21.0 || tree[0]["depth"] != 0.0 {
		t.Errorf("tree: %v", tree[0])
	}
	parse(1, "digests", "object", "show", "plates/p/d0/f2", "--json")
	parse(1, "key", "object", "copy", "plates/p/d0/f2", "plates/c", "--json")
	for _, d := range parse(7, "local", "object", "get", "plates/p/", filepath.Join(dir, "out"), "--json") {
		if d["state"] != "got" {
			t.Errorf("get: %v", d)
		}
	}
	// One file is damaged on the way, one is missing: the same command mends both.
	write(t, filepath.Join(dir, "out", "d0", "f4"), []byte("xxxy"))
	if err := os.Remove(filepath.Join(dir, "out", "d1", "f5")); err != nil {
		t.Fatal(err)
	}
	states := map[any]int{}
	for _, d := range parse(7, "state", "object", "get", "plates/p/", filepath.Join(dir, "out"), "--replace", "--json") {
		states[d["state"]]++
	}
	if states["got"] != 2 || states["there"] != 5 {
		t.Errorf("resumed: %v", states)
	}
	if q := parse(1, "bytes", "object", "remove", "plates/p/", "--rehearse", "--json")[0]; q["objects"] != 7.0 {
		t.Errorf("rehearsal: %v", q)
	}
	parse(1, "objects", "object", "remove", "plates/c", "--yes", "--json")
	parse(1, "objects", "bucket", "empty", "plates", "--yes", "--json")
	parse(1, "removed", "bucket", "remove", "plates", "--json")
	if left, _ := filepath.Glob(filepath.Join(dir, "out", "*", ".spindle-part-*")); len(left) > 0 {
		t.Errorf("parts are left behind: %v", left)
	}
}

// TestEveryCommandHasExamples reads the help of every command.
func TestEveryCommandHasExamples(t *testing.T) {
	_, out, _ := run(t, nil, "", "reference")
	n := 0
	for _, section := range strings.Split(out, "\n## ")[1:] {
		name, _, _ := strings.Cut(section, "\n")
		if name == "spindle version" {
			continue
		}
		n++
		_, help, _ := run(t, nil, "", append(strings.Fields(name)[1:], "--help")...)
		_, ex, _ := strings.Cut(help, "Examples:")
		ex, _, _ = strings.Cut(ex, "OPTIONS:")
		if strings.Count(ex, strings.TrimPrefix(name, "spindle ")) < 2 {
			t.Errorf("%s --help has no two examples:\n%s", name, help)
		}
	}
	if n < 18 {
		t.Errorf("only %d commands were looked at", n)
	}
}
