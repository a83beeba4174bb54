package cli_test

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"spindle/internal/harness"
)

// session runs steps one after another. In arguments and expectations NAME in
// braces stands for what an earlier step captured.
type session struct {
	t   *testing.T
	s   *harness.Running
	got map[string]string
}

func (x *session) fill(s string) string {
	for name, v := range x.got {
		s = strings.ReplaceAll(s, "{"+name+"}", v)
	}
	return s
}

func (x *session) run(code int, says string, args ...string) string {
	x.t.Helper()
	for i := range args {
		args[i] = x.fill(args[i])
	}
	c, out, errs := run(x.t, x.s, "", args...)
	if c != code || !strings.Contains(out+errs, x.fill(says)) {
		x.t.Errorf("spindle %s: exit %d, want %d with %q:\n%s%s", strings.Join(args, " "), c, code, x.fill(says), out, errs)
	}
	return out
}

// capture keeps what a pattern finds in the output of a command.
func (x *session) capture(name, pattern string, args ...string) {
	x.t.Helper()
	out := x.run(0, "", args...)
	m := regexp.MustCompile(pattern).FindStringSubmatch(out)
	if m == nil {
		x.t.Fatalf("spindle %v says nothing like %s:\n%s", args, pattern, out)
	}
	x.got[name] = m[1]
}

func TestVersionsFromTheCommandLine(t *testing.T) {
	x := &session{t, harness.Service(t, nil), map[string]string{"DIR": t.TempDir()}}
	dir := x.got["DIR"]
	for _, body := range []string{"one", "two", "three"} {
		write(t, filepath.Join(dir, body), []byte(body))
	}
	x.run(0, "versioning on", "bucket", "create", "plates", "--versioning", "on", "--tag", "kind=scans")
	x.run(0, "Put 1 object", "object", "put", "{DIR}/one", "plates/k")
	x.capture("FIRST", `"version":"([0-9a-v]{8})"`, "object", "put", "{DIR}/two", "plates/k", "--json")
	x.got["WHEN"] = time.Now().Format(time.RFC3339Nano)
	time.Sleep(2 * time.Millisecond)
	x.capture("THIRD", `"version":"([0-9a-v]{8})"`, "object", "put", "{DIR}/three", "plates/k", "--json")
	x.run(0, "{THIRD}", "object", "show", "plates/k")
	x.run(0, "two", "object", "get", "plates/k", "-", "--version", "{FIRST}")
	x.run(0, "two", "object", "get", "plates/k", "-", "--as-of", "{WHEN}")
	x.run(2, "give one of them", "object", "get", "plates/k", "-", "--as-of", "1d", "--version", "{FIRST}")
	x.run(0, "2, 6 B (6 bytes)", "bucket", "show", "plates")
	x.run(0, "Tag kind", "bucket", "show", "plates")
	x.run(0, "Would remove version {FIRST} of plates/k, 3 B", "object", "remove", "plates/k", "--version", "{FIRST}",
		"--rehearse")
	x.run(0, "can be brought back", "object", "remove", "plates/k", "--rehearse")
	x.run(0, "Removed 1 object", "object", "remove", "plates/k", "--yes")
	x.run(4, "was deleted on", "object", "show", "plates/k")
	x.run(4, "spindle object history plates/k", "object", "get", "plates/k", "-")
	x.run(0, "deleted", "object", "list", "plates", "--versions")
	x.run(0, "3 previous versions", "object", "list", "plates")
	x.run(0, "As it stood", "object", "list", "plates", "--as-of", "{WHEN}")
	x.run(0, "version", "object", "restore", "plates/k", "--version", "{FIRST}")
	x.run(0, "two", "object", "get", "plates/k", "-")
	x.run(2, "--version ID or --as-of", "object", "restore", "plates/k")
	x.run(4, "no such version", "object", "show", "plates/k", "--version", "7vvvvvvv")
	x.run(1, "is no version id", "object", "show", "plates/k", "--version", "x")
	x.run(4, "after the moment asked for", "object", "list", "plates", "--as-of", "2020-01-01")
	x.run(1, "is in the future", "object", "list", "plates", "--as-of", "2999-01-01")
	x.run(0, "Removed version {FIRST}", "object", "remove", "plates/k", "--version", "{FIRST}", "--yes")
	x.run(4, "no such version", "object", "remove", "plates/k", "--version", "{FIRST}", "--yes")
	x.run(2, "--yes", "object", "remove", "plates/k", "--version", "{THIRD}")
	x.run(0, "Renamed", "object", "rename", "plates/k", "plates/new/name")
	x.run(0, "renamed away", "object", "history", "plates/k")
	out := x.run(0, "from plates/k", "object", "history", "plates/new/name", "--follow-renames", "--json")
	if n := strings.Count(out, "\n"); n != 6 {
		t.Errorf("the whole history has %d events, want 6:\n%s", n, out)
	}
	x.run(1, "pause it instead", "bucket", "change", "plates", "--versioning", "off")
	x.run(0, "paused", "bucket", "change", "plates", "--versioning", "paused", "--untag", "kind")
	x.run(0, "earlier versions stay", "object", "remove", "plates/new/", "--rehearse")
	x.run(0, "3 previous versions, 11 B and 2 delete markers", "bucket", "empty", "plates", "--rehearse")
	x.run(0, "Removed bucket plates", "bucket", "remove", "plates", "--with-objects", "--yes")
	x.run(2, "nothing to change", "bucket", "change", "plates")
	x.run(1, "expected value to be one of", "bucket", "create", "other", "--versioning", "perhaps")
}

func TestPrefixesAreRestoredAndRenamed(t *testing.T) {
	x := &session{t, harness.Service(t, nil), map[string]string{"DIR": t.TempDir()}}
	for _, name := range []string{"a", "b", "c/d"} {
		write(t, filepath.Join(x.got["DIR"], "in", name), []byte(name))
	}
	x.run(0, "", "bucket", "create", "plates", "--versioning", "on")
	x.run(0, "Put 3", "object", "put", "{DIR}/in", "plates/set/")
	x.got["WHEN"] = time.Now().Format(time.RFC3339Nano)
	time.Sleep(2 * time.Millisecond)
	x.run(0, "Removed 1", "object", "remove", "plates/set/a", "--yes")
	x.run(0, "revision 2", "object", "annotate", "plates/set/b", "--set", "taxon=Erica")
	x.run(0, "Put 1", "object", "put", "{DIR}/in/a", "plates/set/later")
	x.run(0, "2 objects to bring back or set back, 2 B; 1 to delete with a delete marker; 1 unchanged", "object",
		"restore", "plates/set/", "--as-of", "{WHEN}", "--rehearse")
	x.run(2, "--yes", "object", "restore", "plates/set/", "--as-of", "{WHEN}")
	x.capture("BACK", `--as-of (\S+)`, "object", "restore", "plates/set/", "--as-of", "{WHEN}", "--yes")
	x.run(0, "3 entries", "object", "list", "plates/set/", "--flat")
	x.run(0, "nothing to do", "object", "restore", "plates/set/", "--as-of", "{WHEN}", "--yes")
	x.run(0, "Restored 2 objects, deleted 1", "object", "restore", "plates", "--as-of", "{BACK}", "--yes")
	x.run(0, "taxon", "object", "show", "plates/set/b")
	x.run(0, "set/later", "object", "list", "plates/set/", "--flat")
	x.run(2, "of one object", "object", "restore", "plates/set/", "--version", "00000001")
	x.run(0, "Would rename 3 objects", "object", "rename", "plates/set/", "plates/other/", "--rehearse")
	x.run(0, "Renamed 3 objects", "object", "rename", "plates/set/", "plates/other/")
	x.run(0, "Put 3", "object", "put", "{DIR}/in", "plates/set/")
	x.run(1, "2 of the new keys are taken, the first is plates/other/b", "object", "rename", "plates/set/",
		"plates/other/")
	x.run(0, "Renamed 3 objects", "object", "rename", "plates/set/", "plates/other/", "--yes")
	x.run(2, "beneath the source", "object", "rename", "plates/other/", "plates/other/x/")
	x.run(0, "paused", "bucket", "change", "plates", "--versioning", "paused")
	x.run(1, "switch versioning on first", "object", "restore", "plates/set/", "--as-of", "{WHEN}", "--yes")
	// A tree as it stood goes into a folder.
	x.run(0, "Got 3 objects", "object", "get", "plates/set/", "{DIR}/out", "--as-of", "{WHEN}")
	if b, err := os.ReadFile(filepath.Join(x.got["DIR"], "out/c/d")); err != nil || string(b) != "c/d" {
		t.Errorf("got %q, %v", b, err)
	}
}

func TestMetadataFromTheCommandLine(t *testing.T) {
	x := &session{t, harness.Service(t, nil), map[string]string{"DIR": t.TempDir()}}
	dir := x.got["DIR"]
	for name, body := range map[string]string{"in/a.tif": "a", "in/a.tif.yaml": "taxon: Erica\nsheet: 12\nchecked: true\n",
		"in/b.tif": "b", "lines": "# a comment\ntaxon = Ödland=heath\n\nsheet=7\n",
		"fields.json": `{"taxon": "Betula", "elevation-m": 12.5}`, "bad.json": `{"taxon": {"genus": "Betula"}}`,
		"bad.lines": "taxon\n", "big.json": `{"note": "` + strings.Repeat("x", 2060) + `"}`,
		"name.json": `{"tax on": "x"}`} {
		write(t, filepath.Join(dir, name), []byte(body))
	}
	x.run(0, "", "bucket", "create", "plates")
	x.run(0, "Put 2 objects", "object", "put", "{DIR}/in", "plates/", "--metadata-from", "*.yaml", "--tag", "state=new")
	out := x.run(0, "", "object", "show", "plates/a.tif", "--json")
	var o struct {
		Metadata, Tags map[string]string
		MetadataBytes  int
	}
	if err := json.Unmarshal([]byte(out), &o); err != nil || o.Metadata["taxon"] != "Erica" ||
		o.Metadata["sheet"] != "12" || o.Metadata["checked"] != "true" || o.Tags["state"] != "new" {
		t.Errorf("with its sidecar: %+v, %v", o, err)
	}
	x.run(0, "0 of 2,048", "object", "show", "plates/b.tif")
	x.run(0, "Metadata takes 43 of 2,048 bytes", "object", "put", "{DIR}/in/a.tif", "plates/l", "--metadata-from",
		"{DIR}/lines", "--metadata", "sheet=8")
	x.run(0, "Ödland=heath", "object", "show", "plates/l")
	x.run(0, `"metadataBytes":26`, "object", "put", "{DIR}/in/a.tif", "plates/j", "--metadata-from", "{DIR}/fields.json",
		"--json")
	x.run(0, "12.5", "object", "show", "plates/j")
	for what, says := range map[string]string{"bad.json": `the field "taxon" is no single value`,
		"bad.lines": "line 1 has no =", "big.json": "2064 bytes, 16 over", "name.json": "character 4 of the field's name",
		"none": "does not exist"} {
		code := 1
		if what == "none" {
			code = 4
		}
		x.run(code, says, "object", "put", "{DIR}/in/a.tif", "plates/x", "--metadata-from", "{DIR}/"+what)
	}
	x.run(1, "character 3 of the value", "object", "put", "{DIR}/in/a.tif", "plates/x", "--metadata", "a=xy\x01")
	x.run(1, "'?', is not allowed", "object", "put", "{DIR}/in/a.tif", "plates/x", "--tag", "a=?")
	c, outS, errs := run(t, x.s, "from a pipe", "object", "put", "-", "plates/pipe", "--metadata", "taxon=Öd", "--tag",
		"via=pipe")
	if c != 0 {
		t.Errorf("from a pipe: %d %s%s", c, outS, errs)
	}
	x.run(0, "Öd", "object", "show", "plates/pipe")
	x.run(0, "via", "object", "show", "plates/pipe")
	x.run(0, "revision 2", "object", "annotate", "plates/pipe", "--unset", "taxon", "--untag", "via", "--content-type",
		"text/plain")
	x.run(0, "revision 3", "object", "annotate", "plates/pipe", "--metadata-from", "{DIR}/lines", "--if-revision", "2")
	x.run(1, "at revision 3 now", "object", "annotate", "plates/pipe", "--set", "a=b", "--if-revision", "2")
	x.run(2, "nothing to change", "object", "annotate", "plates/pipe")
	x.run(0, "revision 2: -taxon, -tag via", "object", "history", "plates/pipe")
	x.run(4, "no object with this key", "object", "annotate", "plates/none", "--set", "a=b")
}

func TestTheJournalFromTheCommandLine(t *testing.T) {
	x := &session{t, harness.Service(t, nil), map[string]string{"DIR": t.TempDir()}}
	write(t, filepath.Join(x.got["DIR"], "f"), []byte("f"))
	x.run(0, "", "bucket", "create", "plates", "--versioning", "on", "--abandon-after", "0")
	for _, key := range []string{"a/1", "a/2", "b/1"} {
		x.run(0, "", "object", "put", "{DIR}/f", "plates/"+key)
	}
	x.run(0, "", "object", "rename", "plates/a/1", "plates/c/1")
	x.run(0, "", "object", "remove", "plates/b/1", "--yes")
	x.run(0, "7 entries, complete up to", "journal", "list")
	x.run(0, "3 entries", "journal", "list", "plates/a/")
	x.run(0, "1 entry", "journal", "list", "--kind", "deleted")
	x.run(0, "2 entries", "journal", "list", "--kind", "renamed", "--kind", "renamed away", "--who", harness.Key)
	x.run(0, "0 entries", "journal", "list", "--until", "2020-01-01")
	x.run(0, "from a/1", "journal", "list", "plates", "--prefix", "c/")
	x.run(1, `there is no kind "grown"`, "journal", "list", "--kind", "grown")
	x.run(2, "given twice", "journal", "list", "plates/a/", "--prefix", "b/")
	x.capture("POSITION", `"position":"(\d+\.\d+)"[^\n]+\n$`, "journal", "list", "--limit", "2", "--json")
	x.run(0, "2 shown", "journal", "list", "--limit", "2")
	x.run(0, "5 entries", "journal", "list", "--before", "{POSITION}")
	out := x.run(0, `"kind":"deleted"`, "journal", "follow", "--after", "0.0", "--once", "--json")
	if n := strings.Count(out, "\n"); n != 7 {
		t.Errorf("followed from the beginning: %d entries\n%s", n, out)
	}
	if out := x.run(0, "deleted", "journal", "follow", "plates", "--since", "1h", "--once"); strings.Count(out,
		"\n") != 7 {
		t.Errorf("followed since an hour ago:\n%s", out)
	}
	x.run(0, "To go on from here", "journal", "follow", "--once")
	x.run(1, "is no position", "journal", "follow", "--after", "x", "--once")
}
