package service_test

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"spindle/internal/demo"
	"spindle/internal/harness"
)

// apart are the commands of the documents that need what a test has not, or that go on for ever, and why.
var apart = map[string]string{
	"spindle serve":               "a service of its own",
	"spindle region":              "another service",
	"@moor/":                      "another service",
	"--region moor":               "another service",
	"harbour.example":             "another service",
	"hooks.example":               "another service",
	"mill.example":                "another service",
	"post try indexer":            "another service",
	"post pause indexer":          "another service",
	"--data /srv/":                "the machine of a service",
	"spindle restore /mnt/backup": "a new machine",
	"journal follow plates":       "it goes on for ever",
	"lifecycle run allow":         "a run that asks",
	"replication retry notes":     "a target that has newer objects",
	"tier change press":           "a disk that is dead",
	"go tool pprof":               "the toolchain, which builds it first",
	"loans-sealed --as-of":        "a target that keeps versions",
	"demo --fresh":                "a demo of its own",
	"sync create loans-sealed":    "a passphrase that is typed",
}

// before lays out at the service what the documents take for granted beside the sample data.
var before = []string{
	"spindle bucket create trays", "spindle bucket create scratch",
	"spindle object put ./photos/moor.jpg plates/incoming/",
	"spindle bucket create @old-mill/plates", "spindle census run plates-weekly",
	"spindle object put ./photos/moor.jpg attic/notes/",
	"spindle sync create attic-to-disk attic /mnt/disk/attic --like 'notes/*' --sealing names --passphrase-from ./phrase",
	"spindle sync run attic-to-disk", "spindle object put ./a.tif plates/2019/",
	"spindle charter enact ./loans-desk.yaml",
}

// fine says that the sample has what a command makes (it is understood, and refused for that alone), or that
// a run was stopped, as was wanted.
var fine = regexp.MustCompile(`already|something there|State +stopped`)

// watched are the commands that are left as somebody leaves what goes on without them.
const watched = "spindle sync run nightly-attic"

// demonstrate starts the demo, and gives what it tells before it is left alone.
func (p *process) demonstrate(more ...string) string {
	p.t.Helper()
	args := append([]string{"demo", "--data", p.data, "--wire", "127.0.0.1:0", "--desk", "127.0.0.1:0", "--log-level",
		"error"},
		more...)
	p.cmd = exec.Command(p.bin, args...)
	p.cmd.Stderr = &p.errs
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := p.cmd.StdoutPipe()
	if err != nil {
		p.t.Fatal(err)
	}
	if err := p.cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() {
		_ = p.cmd.Process.Signal(syscall.SIGTERM)
		_ = p.cmd.Wait()
	})
	var told strings.Builder
	for lines := bufio.NewScanner(out); lines.Scan(); {
		told.WriteString(lines.Text() + "\n")
		if rest, ok := strings.CutPrefix(lines.Text(), "ready: wire "); ok {
			p.wire, p.desk, _ = strings.Cut(strings.TrimSpace(rest), ", desk ")
		}
		if strings.Contains(lines.Text(), "Ctrl-C") {
			return told.String()
		}
	}
	p.t.Fatalf("the demo did not start: %s %s", told.String(), p.errs.String())
	return ""
}

// documented is a command of a document.
type documented struct{ at, line string }

// documentedCommands gives the commands in the fenced blocks of a document, in order.
func documentedCommands(t *testing.T, path string) (out []documented) {
	t.Helper()
	b, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	within := false
	for i, line := range strings.Split(string(b), "\n") {
		switch {
		case strings.HasPrefix(line, "```"):
			within = !within
		case within && strings.Contains(line, "spindle ") && !strings.HasPrefix(line, "#") && !strings.HasPrefix(line,
			"export "):
			out = append(out, documented{fmt.Sprintf("%s:%d", filepath.Base(path), i+1), strings.TrimPrefix(line, "$ ")})
		}
	}
	return out
}

// reader is somebody who types what the documents tell, in a folder with the files that they name.
type reader struct {
	t    *testing.T
	dir  string
	env  []string
	last string            // that was printed
	real *strings.Replacer // what is named in documents, and what is there in its place
}

// wrapper answers what a command asks as somebody would who means it.
const wrapper = `#!/bin/bash
"$SPINDLE_REAL" "$@" 2>"$SPINDLE_ERRORS"
code=$?
if [ $code -ne 0 ] && grep -q -- --yes "$SPINDLE_ERRORS"; then "$SPINDLE_REAL" "$@" --yes; exit $?; fi
cat "$SPINDLE_ERRORS" >&2
exit $code
`

// files lays out what the documents take for granted.
func (r *reader) files() {
	large := bytes.Repeat([]byte("a sheet of the herbarium\n"), 1<<20)
	for name, content := range map[string][]byte{"mosaic.tif": large, "mosaic.001": large[:6<<20],
		"mosaic.002": large[:1<<20],
		"film.mov":   large[:70<<10], "FH-004217-recto.tif": large[:5000], "sheet.tif": large[:300], "scan.tif": large[:200],
		"a.tif": large[:100], "tray-07/1.csv": large[:50], "folder/b.txt": large[:60], "scans/one.tif": large[:70],
		"scans/one.yaml": []byte("taxon: Calluna vulgaris\n"), "sheet.yaml": []byte("taxon: Calluna vulgaris\nsheet: 4217\n"),
		"photos/moor.jpg": large[:90], "phrase": []byte("a phrase of several words that nobody guesses\n"),
		"drop/new.csv": large[:80], "annex.secret": []byte(demo.StandinSecret), "bin/spindle": []byte(wrapper),
		"rules.yaml": []byte("rules:\n- {name: from-a-file, actions: [{of: current, do: remove, days: 4000}]}\n"),
		"rules.xml": []byte(`<LifecycleConfiguration><Rule><ID>old</ID><Status>Enabled</Status><Filter><Prefix>x/</Prefix>` +
			`</Filter><Expiration><Days>4000</Days></Expiration></Rule></LifecycleConfiguration>`),
		"mnt/disk/attic/.keep": nil,
		"loans-desk.yaml":      []byte("charter: loans-desk\nfinds:\n  large: {expression: size over 30 MiB}\n"),
		"trial.yaml":           []byte("charter: trial\nfinds:\n  big: {expression: size over 20 MiB}\n"),
	} {
		path := filepath.Join(r.dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			r.t.Fatal(err)
		}
		if err := os.WriteFile(path, content, 0o755); err != nil {
			r.t.Fatal(err)
		}
	}
}

// versionNamed finds the object and the version that a line names.
var versionNamed = regexp.MustCompile(`(\w[\w-]*/\S+) .*--version (\w+)`)

// filled puts into a line what its reader reads off what was printed before: versions of objects.
func (r *reader) filled(line string) string {
	m := versionNamed.FindStringSubmatch(line)
	if m == nil {
		return line
	}
	out, err := r.types("spindle object list " + m[1] + " --versions --json")
	ids := regexp.MustCompile(`"version": ?"(\w+)"`).FindAllStringSubmatch(out, -1)
	if err != nil || len(ids) == 0 {
		r.t.Fatalf("%s: %v %s", line, err, out)
	}
	return strings.Replace(line, m[2], ids[len(ids)-1][1], 1)
}

// types runs a line in a shell, and gives what it prints. What a line keeps as id the next ones have.
func (r *reader) types(line string) (string, error) {
	if strings.HasPrefix(line, "id=") {
		line += "; echo $id"
		defer func() { r.env = append(r.env, "id="+r.last) }()
	}
	patience := time.Minute
	if strings.HasPrefix(line, watched) {
		patience = 5 * time.Second
	}
	ctx, cancel := context.WithTimeout(r.t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, "bash", "-c", r.real.Replace(line))
	cmd.Dir, cmd.Env = r.dir, r.env
	cmd.Stdin = strings.NewReader(strings.Repeat("a phrase of several words that nobody guesses\n", 4))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	out, err := cmd.CombinedOutput()
	r.last = strings.TrimSpace(string(out))
	var exit *exec.ExitError
	if errors.As(err, &exit) && exit.ExitCode() == 5 { // what was looked for was found
		err = nil
	}
	return string(out), err
}

// tries types a line, again when what is elsewhere fails, as one of the sample's endpoints does now and then.
// A bucket whose making failed after it was made is there at the next try.
func (r *reader) tries(line string) (out string, err error) {
	for try := range 6 {
		out, err = r.types(line)
		if err == nil || !strings.Contains(line+out, "old-mill") {
			break
		}
		if try > 0 && strings.HasPrefix(line, "spindle bucket create") && strings.Contains(out, "is there already") {
			return out, nil
		}
		time.Sleep(time.Second)
	}
	return out, err
}

// TestTheDocumentsRun types every command of the README, the guide and the operations into a shell, one
// after the other, on the sample data.
func TestTheDocumentsRun(t *testing.T) {
	t.Parallel()
	r := &reader{t: t, dir: t.TempDir()}
	r.files()
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	told := p.demonstrate("--folder-root", filepath.Join(r.dir, "drop"),
		"--folder-root", filepath.Join(r.dir, "mnt", "disk"))
	at := func(name string) string {
		m := regexp.MustCompile(`endpoint ` + name + ` +(http\S+)`).FindStringSubmatch(told)
		if m == nil {
			t.Fatalf("the demo does not tell of %s: %s", name, told)
		}
		return m[1]
	}
	r.real = strings.NewReplacer("http://127.0.0.1:5721", at("lowland-annex"), "/srv/drop", filepath.Join(r.dir, "drop"),
		"--seconds 30", "--seconds 1", "/mnt/", filepath.Join(r.dir, "mnt")+"/", "/root/backup.phrase", "./phrase",
		"/var/lib/spindle", p.data,
		"http://127.0.0.1:5711", p.desk)
	r.env = append(os.Environ(), "SPINDLE_URL="+p.desk, "SPINDLE_KEY="+demo.OwnerKey, "SPINDLE_SECRET="+demo.OwnerSecret,
		"SPINDLE_REAL="+p.bin, "SPINDLE_ERRORS="+filepath.Join(r.dir, "errors"), "HOME="+r.dir,
		"PATH="+filepath.Join(r.dir, "bin")+":"+os.Getenv("PATH"))
	for _, line := range before {
		if out, err := r.tries(line); err != nil {
			t.Errorf("%s: %v: %s", line, err, out)
		}
	}
	n := 0
	for _, name := range []string{"README.md", "docs/guide.md", "docs/operations.md"} {
	lines:
		for _, c := range documentedCommands(t, filepath.Join("../..", name)) {
			for what := range apart {
				if strings.Contains(c.line, what) {
					continue lines
				}
			}
			n++
			out, err := r.tries(r.filled(c.line))
			if err != nil && !fine.MatchString(out) && !strings.HasPrefix(c.line, watched) {
				t.Errorf("%s: %s\n%v: %.400s", c.at, c.line, err, out)
			}
		}
	}
	if n < 150 {
		t.Errorf("only %d commands were found", n)
	}
}
