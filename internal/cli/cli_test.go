package cli_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"spindle/internal/cli"
	"spindle/internal/harness"
	"spindle/internal/wire/client"
)

// asCommand in the environment makes this test's program the command line itself.
const asCommand = "SPINDLE_TEST_AS_COMMAND"

func TestMain(m *testing.M) {
	if os.Getenv(asCommand) != "" {
		os.Exit(cli.Run(os.Args, cli.System()))
	}
	os.Exit(harness.Main(m))
}

// run runs a command line against a service and gives code, stdout and stderr.
func run(t *testing.T, s *harness.Running, in string, args ...string) (int, string, string) {
	t.Helper()
	env := map[string]string{"HOME": t.TempDir()}
	if s != nil {
		env["SPINDLE_URL"], env["SPINDLE_KEY"], env["SPINDLE_SECRET"] = s.DeskURL, harness.Key, harness.Secret
	}
	return runEnv(t, env, in, false, args...)
}

func runEnv(t *testing.T, env map[string]string, in string, asks bool, args ...string) (int, string, string) {
	t.Helper()
	var out, errs bytes.Buffer
	code := cli.Run(append([]string{"spindle"}, args...),
		&cli.Env{In: strings.NewReader(in), Out: &out, Err: &errs,
			Getenv: func(k string) string { return env[k] }, Done: t.Context(), Asks: asks, Width: 100})
	return code, out.String(), errs.String()
}

func write(t *testing.T, path string, b []byte) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, b, 0o600); err != nil {
		t.Fatal(err)
	}
}

func noise(n int) []byte {
	r := rand.New(rand.NewPCG(uint64(n), 3))
	b := make([]byte, n)
	for i := range b {
		b[i] = byte(r.Uint32())
	}
	return b
}

// step is a command, what it must end with, and what it must say.
// try runs a step, in which DIR stands for a directory.
func try(t *testing.T, s *harness.Running, dir string, st step) {
	t.Helper()
	var args []string
	for _, a := range strings.Fields(st.args) {
		args = append(args, strings.NewReplacer("DIR", dir, "·", " ").Replace(a)) // a dot is a space within
	}
	code, out, errs := run(t, s, "", args...)
	if code != st.code || !strings.Contains(out+errs, strings.ReplaceAll(st.says, "DIR", dir)) {
		t.Errorf("%s: code %d, want %d and %q\n%s%s", st.args, code, st.code, st.says, out, errs)
	}
}

type step struct {
	args string
	code int
	says string
}

func TestFilesGoThereAndBack(t *testing.T) {
	s := harness.Service(t, nil)
	dir := t.TempDir()
	tree := map[string][]byte{"a.txt": []byte("a"), "empty": {}, "sub/b.tif": noise(300_000),
		"sub/deep/c with space.csv": noise(5000), "ä🌿.txt": []byte("ä")}
	for name, b := range tree {
		write(t, filepath.Join(dir, "in", name), b)
	}
	if err := os.Symlink("in", filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	at := func(s string) string { return strings.ReplaceAll(s, "DIR", dir) }
	for _, st := range []step{
		{"bucket create plates --quota 10MiB", 0, "Created bucket plates in region fenn"},
		{"bucket change plates --tag kind=scans --if-revision 1", 0, "revision 2"},
		{"bucket change plates --tag kind=cards --if-revision 1", 1, "at revision 2 now"},
		{"bucket change plates --tag kind=cards --if-revision 0", 2, "at least 1"},
		{"object put DIR/in plates/set/ --parallel 3 --metadata taxon=Erica", 0, "Put 5 objects, 297.9 KiB"},
		{"object put DIR/in plates/set/", 0, "5 objects were there already"},
		{"object put DIR/link plates/set/", 0, "5 objects were there already"},
		{"object verify plates/set/ DIR/link", 0, "5 are the same, 0 differ"},
		{"object put DIR/in plates/set/ --anew --metadata taxon=Erica", 0, "Put 5 objects"},
		{"object put DIR/in/a.txt plates/renamed.txt", 0, "Put 1 object, 1 B"},
		{"object put DIR/in/a.txt plates/renamed.txt --if-absent", 1, "1 failed"},
		{"object list plates/", 0, "set/"},
		{"object list plates/set/ --flat", 0, "set/sub/deep/c with space.csv"},
		{"object tree plates --depth 3", 0, "deep/"},
		{"object show plates/set/a.txt", 0, "taxon"},
		{"object get plates/set/ DIR/out", 0, "Got 5 objects"},
		{"object get plates/set/ DIR/out", 0, "5 objects were there already"},
		{"object get plates/set/sub/b.tif -", 0, string(tree["sub/b.tif"])},
		{"object get plates/set", 4, "is no object but a prefix"},
		{"object get plates/set/nothing", 4, "no object with this key"},
		{"object show plates/set", 4, "object list plates/set/"},
		{"object copy plates/set/a.txt plates/copies/", 0, "no bytes were moved"},
		{"object copy plates/set/ plates/all/", 0, "Copied 5 objects"},
		{"object rename plates/copies/a.txt plates/renamed.txt", 1, "is there already"},
		{"object rename plates/copies/a.txt plates/renamed.txt --yes", 0, "Renamed"},
		{"object rename plates/all/ plates/moved/", 0, "Renamed 5 objects"},
		{"object rename plates/moved/ plates/moved/inner/", 2, "beneath the source"},
		{"object remove plates/moved/ --rehearse", 0, "Would remove 5 objects"},
		{"object remove plates/moved/", 2, "--yes"},
		{"object remove plates/moved/ --yes", 0, "Removed 5 objects"},
		{"object remove plates/moved/", 0, ""},
		{"object remove plates/never", 4, "no object with this key"},
		{"object remove plates/renamed.txt plates/set/a.txt --yes", 0, "Removed 2 objects"},
		{"bucket show plates", 0, "10.0 MiB"},
		{"bucket list", 0, "plates"},
		{"bucket change plates --quota 1KiB", 1, "quota"},
		{"bucket change plates --quota none", 0, "none"},
		{"bucket remove plates", 1, "still holds 4 objects"},
		{"bucket empty plates --rehearse", 0, "Would remove 4 objects"},
		{"bucket remove plates --with-objects --yes", 0, "Removed bucket plates"},
		{"bucket show plates", 4, "no bucket named"},
		{"bucket create Bad_Name", 1, "is not allowed"},
		{"bucket create plates --quota lots", 1, "is no size"},
		{"bucket", 0, "create"}, {"bucket grow", 2, "no command"}, {"object list", 2, "takes BUCKET"},
		{"object list --frob plates", 2, "frob"}, {"object list plates --limit -1", 2, "at least 0"},
		{"object get plates/x relative", 2, "no local path"}, {"object put DIR/none plates/", 4, "does not exist"},
		{"object list ./x", 2, "local path"}, {"version", 0, "spindle"},
	} {
		var args []string
		for _, a := range strings.Fields(st.args) {
			args = append(args, at(a))
		}
		code, out, errs := run(t, s, "", args...)
		if code != st.code || !strings.Contains(out+errs, st.says) {
			t.Errorf("spindle %s: exit %d, want %d with %q:\n%s%s", st.args, code, st.code, at(st.says), out, errs)
		}
	}
	for name, want := range tree {
		if got, err := os.ReadFile(filepath.Join(dir, "out", name)); err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s came back as %d bytes, %v", name, len(got), err)
		}
	}
}

func TestStandardInputAndJSON(t *testing.T) {
	s := harness.Service(t, nil)
	if code, _, e := run(t, s, "", "bucket", "create", "plates"); code != 0 {
		t.Fatal(e)
	}
	body := string(noise(3 << 20))
	if code, out, e := run(t, s, body, "object", "put", "-", "plates/stream"); code != 0 ||
		!strings.Contains(out, "Put 3.0 MiB from standard input") {
		t.Errorf("from standard input: %d %s%s", code, out, e)
	}
	if code, out, _ := run(t, s, "", "object", "get", "plates/stream", "-"); code != 0 || out != body {
		t.Errorf("to standard output: %d, %d bytes", code, len(out))
	}
	_, out, _ := run(t, s, "", "--json", "object", "show", "plates/stream")
	var o struct {
		Key  string
		Size int64
	}
	if err := json.Unmarshal([]byte(out), &o); err != nil || o.Key != "stream" || o.Size != 3<<20 {
		t.Errorf("as JSON: %s, %v", out, err)
	}
	code, _, e := run(t, s, "", "--json", "bucket", "show", "nowhere")
	var f map[string]string
	if err := json.Unmarshal([]byte(e), &f); err != nil || code != 4 || f["code"] != "bucket-missing" ||
		f["remedy"] == "" {
		t.Errorf("an error as JSON: %d %s, %v", code, e, err)
	}
	if code, out, _ := runEnv(t, map[string]string{"SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}, "2\n", true, "bucket", "empty", "plates"); code != 3 {
		t.Errorf("the wrong number was typed: %d %s", code, out)
	}
	if code, out, _ := runEnv(t, map[string]string{"SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}, "1\n", true, "bucket", "empty", "plates"); code != 0 ||
		!strings.Contains(out, "Removed 1 object") {
		t.Errorf("the number was typed: %d %s", code, out)
	}
}

// TestKeysThatAreNoPaths gets a tree whose keys try to leave the folder or to
// drive the terminal.
func TestKeysThatAreNoPaths(t *testing.T) {
	s := harness.Service(t, nil)
	c := s.Client()
	if err := c.CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	bad := []string{"../outside", "a/../../outside", "/etc/outside", "a//b", "x/", "nul\x00"}
	for _, k := range append(bad, "good/file", "red\x1b[31m", "line\nbreak") {
		if _, err := c.Put(context.Background(), "plates", k, strings.NewReader("x"), 1, client.Put{}); err != nil {
			t.Fatalf("%q: %v", k, err)
		}
	}
	dir := filepath.Join(t.TempDir(), "in", "here")
	code, out, errs := run(t, s, "", "object", "get", "plates/", dir)
	if code != 1 || !strings.Contains(out, "Got 3 objects, 3 B") ||
		!strings.Contains(out, fmt.Sprintf("%d failed", len(bad))) {
		t.Errorf("exit %d: %s%s", code, out, errs)
	}
	if _, err := os.Stat(filepath.Join(dir, "..", "outside")); err == nil {
		t.Error("a file was made outside of the folder")
	}
	for _, args := range [][]string{{"object", "list", "plates", "--flat"}, {"object", "tree", "plates"},
		{"object", "show", "plates/red\x1b[31m"}} {
		if _, out, errs := run(t, s, "", args...); strings.ContainsAny(out+errs, "\x1b\x00") {
			t.Errorf("%v prints control characters: %q", args, out+errs)
		}
	}
	// A file that is there and differs is not replaced unasked.
	write(t, filepath.Join(dir, "good", "file"), []byte("mine"))
	if code, _, errs := run(t, s, "", "object", "get", "plates/good/file",
		filepath.Join(dir, "good", "file")); code != 1 || !strings.Contains(errs, "--replace") {
		t.Errorf("over a file that differs: %d %s", code, errs)
	}
	if code, _, errs := run(t, s, "", "object", "get", "plates/good/file", filepath.Join(dir, "good", "file"),
		"--replace"); code != 0 {
		t.Errorf("replacing: %d %s", code, errs)
	}
}

func TestConnectAndProfiles(t *testing.T) {
	s := harness.Service(t, nil)
	env := map[string]string{"HOME": t.TempDir()}
	for _, c := range []struct {
		name, url, key, secret string
		code                   int
		says                   string
	}{
		{"wrong secret", s.DeskURL, harness.Key, "guessed-it", 3, "secret"},
		{"unknown key", s.DeskURL, "NOBODY", harness.Secret, 3, "no access key"},
		{"the wire's port", s.WireURL, harness.Key, harness.Secret, 1, "the desk is on another port"},
		{"nobody there", "http://127.0.0.1:1", harness.Key, harness.Secret, 1, "nothing listens"},
		{"no address", "plates", harness.Key, harness.Secret, 1, "no address"},
		{"right", s.DeskURL, harness.Key, harness.Secret, 0, "agrees"},
	} {
		code, out, errs := runEnv(t, env, c.secret+"\n", false, "connect", c.url, "--key", c.key, "--name", "fenn")
		if code != c.code || !strings.Contains(out+errs, c.says) {
			t.Errorf("%s: exit %d, want %d with %q: %s%s", c.name, code, c.code, c.says, out, errs)
		}
		if strings.Contains(out+errs, harness.Secret) {
			t.Errorf("%s: the secret is printed", c.name)
		}
	}
	st, err := os.Stat(filepath.Join(env["HOME"], ".config", "spindle", "profiles.yaml"))
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("the profile's file: %v, %v", st, err)
	}
	for _, st := range []step{{"bucket list", 0, "no buckets yet"}, {"profile list", 0, "in use"},
		{"--profile other bucket list", 4, "no profile"}, {"profile use other", 4, "no profile"},
		{"profile remove fenn", 0, ""}, {"bucket list", 1, "no service is known yet"}} {
		code, out, errs := runEnv(t, env, "", false, strings.Fields(st.args)...)
		if code != st.code || !strings.Contains(out+errs, st.says) {
			t.Errorf("spindle %s: exit %d, want %d with %q: %s%s", st.args, code, st.code, st.says, out, errs)
		}
	}
}

// TestReferenceIsCurrent compares docs/reference.md with the program.
func TestReferenceIsCurrent(t *testing.T) {
	_, out, _ := run(t, nil, "", "reference")
	have, err := os.ReadFile("../../docs/reference.md")
	if err != nil || string(have) != out {
		t.Errorf("docs/reference.md is not what the program says (%v): make reference", err)
	}
}
