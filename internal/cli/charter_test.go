package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
)

// TestChartersOnTheCommandLine compares files and folders, enacts them with a secret from a
// file, and takes them down.
func TestChartersOnTheCommandLine(t *testing.T) {
	s := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	is, _ := harness.Standin(t, standin.Faults{}, "plates")
	dir := t.TempDir()
	write(t, filepath.Join(dir, "house", "a.yaml"),
		[]byte("charter: house\nbuckets:\n  drawers: {versioning: on, quota: '${room}'}\nkeys:\n  visitor: {role: reader}\n"))
	write(t, filepath.Join(dir, "house", "b.yml"),
		[]byte("endpoints:\n  annex:\n    url: "+is.URL+"\n    key: "+harness.StandinKey+
			"\n    secret: {file: DIR/secret}\nreplication:\n  out: {bucket: drawers, targets: [{address: '@annex/plates'}], existing: backfill, mend: true}\n"))
	b, err := os.ReadFile(filepath.Join(dir, "house", "b.yml"))
	if err != nil {
		t.Fatal(err)
	}
	write(t, filepath.Join(dir, "house", "b.yml"), []byte(strings.ReplaceAll(string(b), "DIR", dir)))
	write(t, filepath.Join(dir, "house", "notes.txt"), []byte("not of the charter"))
	write(t, filepath.Join(dir, "bad.yaml"),
		[]byte("charter: house\nbuckets:\n  drawers: {verzioning: on}\n  x: {quota: lots}\n"))
	if err := os.Symlink("house", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	for _, st := range []step{
		{"charter list", 0, "No charter was enacted"},
		{"charter compare DIR/link --set room=1GiB", 0, "quota: 1.0 GiB"},
		{"charter compare DIR/bad.yaml", 1, "DIR/bad.yaml:3:13"},
		{"charter compare DIR/none.yaml", 1, "cannot be read"},
		{"charter compare DIR/house", 1, "there is no variable room"},
		{"charter compare DIR/house --set room=1GiB --check", 5, "quota: 1.0 GiB"},
		{"charter enact DIR/house --set room=1GiB --yes", 1, "no secret at file"},
	} {
		try(t, s, dir, st)
	}
	write(t, filepath.Join(dir, "secret"), []byte(harness.StandinSecret+"\n"))
	code, out, errs := run(t, s, "", "charter", "enact", filepath.Join(dir, "house"), "--set", "room=1GiB", "--yes")
	if code != 0 || !strings.Contains(out, "Done: 4 steps") || !strings.Contains(out, "It is shown this once") {
		t.Fatalf("%d %s%s", code, out, errs)
	}
	for _, line := range strings.Split(out, "\n") {
		if _, secret, ok := strings.Cut(line, "secret  "); ok {
			harness.Secretly("a key of a charter", strings.TrimSpace(secret))
		}
	}
	for _, st := range []step{
		{"charter compare DIR/house --set room=1GiB --check", 0, "All is as the charter house declares: 4 things"},
		{"charter compare DIR/house --set room=2GiB", 0, "quota: 2.0 GiB, not 1.0 GiB"},
		{"bucket change drawers --quota none --versioning paused", 0, "drawers"},
		{"charter drift house --check", 5, "quota: nothing, declared 1.0 GiB"},
		{"charter list", 0, "enacted"},
		{"charter history house", 0, "4 of 4"},
		{"charter history nothing", 4, "no charter"},
		{"charter export --bucket drawers", 0, "versioning: paused"},
		{"charter export --bucket nothing", 4, "no bucket"},
		{"charter retire DIR/house --set room=1GiB", 2, "4 steps in the account herbarium"},
		{"charter retire DIR/house --set room=1GiB --yes", 0, "4/4  remove endpoint annex"},
		{"charter list", 0, "retired"},
		{"endpoint list", 0, ""},
	} {
		try(t, s, dir, st)
	}
	code, out, _ = run(t, s, "", "charter", "schema")
	var schema map[string]any
	if err := json.Unmarshal([]byte(out), &schema); code != 0 || err != nil || !strings.Contains(out, "deleteMarkers") ||
		schema["$defs"] == nil {
		t.Errorf("the schema: %v", err)
	}
}
