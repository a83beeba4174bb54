package cli_test

import (
	"bytes"
	"context"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"spindle/internal/cli"
	"spindle/internal/harness"
)

func TestLargeFilesGoInParts(t *testing.T) {
	x := &session{t, harness.Service(t, nil), map[string]string{"DIR": t.TempDir()}}
	dir := x.got["DIR"]
	write(t, filepath.Join(dir, "large.tif"), noise(17<<20))
	write(t, filepath.Join(dir, "other.tif"), noise(17<<20+1))
	for i, n := range []int{6 << 20, 5 << 20, 100} {
		write(t, filepath.Join(dir, "piece"+string(rune('1'+i))), noise(n))
	}
	x.run(0, "", "bucket", "create", "plates")
	x.run(0, "Put 1 object, 17.0 MiB", "object", "put", "{DIR}/large.tif", "plates/large.tif", "--multipart-above", "5MiB",
		"--part-size", "5MiB", "--metadata", "taxon=Erica", "--tag", "state=new")
	out := x.run(0, "in 4 parts", "object", "show", "plates/large.tif")
	if !strings.Contains(out, "Erica") || !strings.Contains(out, "image/tiff") || !strings.Contains(out, "state") {
		t.Errorf("what was given at the start: %s", out)
	}
	x.run(0, "With parts of 5.0 MiB the file has the ETag", "object", "verify", "{DIR}/large.tif", "plates/large.tif")
	x.run(0, "say --part-size", "object", "verify", "{DIR}/large.tif", "plates/large.tif", "--part-size", "6MiB")
	x.run(5, "They differ", "object", "verify", "{DIR}/other.tif", "plates/large.tif")
	x.run(0, "Got 1 object", "object", "get", "plates/large.tif", "{DIR}/back.tif")
	if a, b := read(t, dir, "large.tif"), read(t, dir, "back.tif"); !bytes.Equal(a, b) {
		t.Errorf("got back %d other bytes", len(b))
	}
	x.run(1, "1 failed", "object", "put", "{DIR}/large.tif", "plates/large.tif", "--multipart-above", "5MiB",
		"--if-absent")
	x.run(2, "5MiB to 5GiB", "object", "put", "{DIR}/large.tif", "plates/x", "--part-size", "1MiB")
	// By hand, from several machines.
	x.capture("ID", `^(\w{20,})\n$`, "upload", "start", "plates/byhand", "--metadata", "taxon=Betula")
	x.run(0, "Sent part 2, 5.0 MiB", "upload", "send", "{DIR}/piece2", "plates/byhand", "{ID}", "--part", "2")
	x.run(0, "Sent part 1", "upload", "send", "{DIR}/piece1", "plates/byhand", "{ID}", "--part", "1")
	x.run(1, "between 1 and 10000", "upload", "send", "{DIR}/piece3", "plates/byhand", "{ID}", "--part", "10001")
	x.run(0, "1 unfinished upload, 11.0 MiB held", "upload", "list")
	x.run(0, "no unfinished uploads", "upload", "list", "--older-than", "1h")
	x.run(0, "11.0 MiB in 2 parts", "upload", "show", "plates/byhand", "{ID}")
	x.run(1, "part 3 is not there", "upload", "complete", "plates/byhand", "{ID}", "--part", "1", "--part", "3")
	x.run(0, "Completed plates/byhand, 11.0 MiB, in 2 parts", "upload", "complete", "plates/byhand", "{ID}")
	x.run(0, "Completed plates/byhand", "upload", "complete", "plates/byhand", "{ID}", "--part", "1", "--part", "2")
	x.run(4, "no such upload", "upload", "show", "plates/byhand", "{ID}")
	if code, got, _ := run(t, x.s, "", "object", "get", "plates/byhand", "-"); code != 0 ||
		got != string(read(t, dir, "piece1"))+string(read(t, dir, "piece2")) {
		t.Errorf("by hand: %d, %d bytes", code, len(got))
	}
	// Abandoned, one and by age.
	x.capture("ID", `^(\w{20,})\n$`, "upload", "start", "plates/gone")
	x.run(0, "Would abandon 1 unfinished upload", "upload", "abandon", "plates/gone", "{ID}", "--rehearse")
	x.run(2, "--yes", "upload", "abandon", "plates/gone", "{ID}")
	x.run(0, "Abandoned 1", "upload", "abandon", "plates/gone", "{ID}", "--yes")
	x.run(0, "", "upload", "start", "plates/gone")
	time.Sleep(1100 * time.Millisecond)
	x.run(0, "Abandoned 1", "upload", "abandon", "--older-than", "1s", "--yes")
	x.run(0, "no unfinished uploads", "upload", "list")
	// Standard input of any length.
	long := string(noise(12<<20 + 7))
	code, got, errs := run(t, x.s, long, "object", "put", "-", "plates/pipe", "--part-size", "5MiB", "--metadata",
		"via=pipe")
	if code != 0 || !strings.Contains(got, "Put 12.0 MiB") {
		t.Errorf("from a pipe: %d %s%s", code, got, errs)
	}
	if code, got, _ := run(t, x.s, "", "object", "get", "plates/pipe", "-"); code != 0 || got != long {
		t.Errorf("from a pipe: %d, %d bytes", code, len(got))
	}
	// Trees are compared.
	x.run(0, "Put 3", "object", "put", "{DIR}/piece1", "{DIR}/piece2", "{DIR}/piece3", "plates/tree/")
	if err := os.MkdirAll(filepath.Join(dir, "tree"), 0o700); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"piece1", "piece2", "piece3"} {
		write(t, filepath.Join(dir, "tree", name), read(t, dir, name))
	}
	x.run(0, "3 are the same", "object", "verify", "plates/tree/", "{DIR}/tree")
	write(t, filepath.Join(dir, "tree/piece2"), []byte("changed"))
	write(t, filepath.Join(dir, "tree/more"), []byte("more"))
	x.run(5, "object missing", "object", "verify", "plates/tree/", "{DIR}/tree")
	// The service looks: the digest is right, and the bytes are gone.
	bodies, err := filepath.Glob(filepath.Join(x.s.Config.Data, "volumes", "main", "whole", "*", "*.body"))
	if err != nil || len(bodies) == 0 {
		t.Fatalf("bodies: %v, %v", bodies, err)
	}
	for _, path := range bodies {
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
	x.run(5, "the file is gone", "object", "verify", "{DIR}/large.tif", "plates/large.tif")
	write(t, filepath.Join(dir, "tree/piece2"), read(t, dir, "piece2"))
	x.run(5, "unreadable", "object", "verify", "plates/tree/", "{DIR}/tree")
}

func read(t *testing.T, dir, name string) []byte {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestAnUploadGoesOnWhereItWas kills the command (-9) at random moments of an
// upload and says it again: it ends with the right bytes, and sends little twice.
func TestAnUploadGoesOnWhereItWas(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	const n = 160 << 20 // 32 parts
	file := filepath.Join(dir, "large")
	write(t, file, noise(n))
	env := map[string]string{"HOME": dir, "SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	r := rand.New(rand.NewPCG(7, 7))
	kills := 0
	for done := false; !done; {
		cmd := exec.Command(self, "object", "put", file, "plates/large", "--part-size", "5MiB", "--parallel", "2")
		cmd.Env = append(os.Environ(), asCommand+"=1", "HOME="+dir, "SPINDLE_URL="+s.DeskURL, "SPINDLE_KEY="+harness.Key,
			"SPINDLE_SECRET="+harness.Secret)
		var said bytes.Buffer
		cmd.Stdout, cmd.Stderr = &said, &said
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		var timer *time.Timer
		if kills < 20 {
			timer = time.AfterFunc(time.Duration(30+r.IntN(70))*time.Millisecond, func() { _ = cmd.Process.Kill() })
		}
		err := cmd.Wait()
		if timer != nil {
			timer.Stop()
		}
		if done = err == nil; done {
			break
		}
		if kills++; kills > 20 {
			t.Fatalf("not done when nobody killed it: %v: %s", err, said.String())
		}
	}
	code, out, _ := runEnv(t, env, "", false, "object", "verify", file, "plates/large")
	if code != 0 || !strings.Contains(out, "The same") {
		t.Errorf("after %d kills: %d %s", kills, code, out)
	}
	// At most one part for each of the two streams was sent again at each kill.
	if in := received(t, s); in > n+int64(kills)*2*(5<<20)+1<<20 {
		t.Errorf("%d bytes came in for %d after %d kills", in, n, kills)
	} else {
		t.Logf("%d kills; %d bytes came in for %d", kills, in, n)
	}
	if left, err := filepath.Glob(filepath.Join(dir, ".local/state/spindle/uploads/*")); err != nil || len(left) != 0 {
		t.Errorf("state is left: %v, %v", left, err)
	}
	// Killed between the start and its note, an upload is left, with nothing in it.
	code, out, errs := runEnv(t, env, "", false, "upload", "list", "--json")
	for line := range strings.Lines(out) {
		if !strings.Contains(line, `"bytes":0`) {
			t.Errorf("an upload is left after %d kills: %s", kills, line)
		}
	}
	if code != 0 {
		t.Error(errs)
	}
	// A file that changed since its upload began is noticed.
	ctx, stop := context.WithCancel(t.Context())
	before := received(t, s)
	go func() { // stopped when some parts are there, however fast the machine is
		for ctx.Err() == nil && received(t, s) < before+20<<20 {
			time.Sleep(5 * time.Millisecond)
		}
		stop()
	}()
	var said bytes.Buffer
	if code := cli.Run([]string{"spindle", "object", "put", file, "plates/changed", "--part-size", "5MiB"},
		&cli.Env{In: strings.NewReader(""), Out: &said, Err: &said,
			Getenv: func(k string) string { return env[k] }, Done: ctx, Width: 100}); code != 0 {
		write(t, file, noise(n-1))
		if code, out, errs = runEnv(t, env, "", false, "object", "put", file, "plates/changed", "--part-size",
			"5MiB"); code != 0 || !strings.Contains(errs, "it starts anew") {
			t.Errorf("a file that changed: %d %s%s", code, out, errs)
		}
		if code, out, _ = runEnv(t, env, "", false, "object", "verify", file, "plates/changed"); code != 0 {
			t.Errorf("a file that changed: %s", out)
		}
	}
	// On another machine the upload is taken up without state.
	code, id, errs := runEnv(t, env, "", false, "upload", "start", "plates/second")
	if code != 0 {
		t.Fatal(errs)
	}
	write(t, filepath.Join(dir, "first"), read(t, dir, "large")[:5<<20])
	if code, out, errs = runEnv(t, env, "", false, "upload", "send", filepath.Join(dir, "first"), "plates/second",
		strings.TrimSpace(id), "--part", "1"); code != 0 {
		t.Fatal(out, errs)
	}
	other := map[string]string{"HOME": t.TempDir(), "SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	if code, out, errs = runEnv(t, other, "", false, "upload", "resume", file, "plates/second"); code != 0 {
		t.Errorf("resumed elsewhere: %d %s%s", code, out, errs)
	}
	if code, out, _ = runEnv(t, env, "", false, "object", "verify", file, "plates/second"); code != 0 {
		t.Errorf("resumed elsewhere: %d %s", code, out)
	}
	if code, _, errs = runEnv(t, env, "", false, "upload", "resume", file, "plates/third"); code != 4 ||
		!strings.Contains(errs, "no unfinished upload") {
		t.Errorf("nothing to resume: %d %s", code, errs)
	}
}

// received gives how many bytes of bodies the service has read.
func received(t *testing.T, s *harness.Running) int64 {
	t.Helper()
	resp, err := http.Get(s.DeskURL + "/metrics")
	if err != nil {
		t.Fatal(err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(b), `spindle_wire_bytes_total{direction="in"} `)
	line, _, _ := strings.Cut(rest, "\n")
	v, err := strconv.ParseFloat(line, 64)
	if err != nil {
		t.Fatal(err)
	}
	return int64(v)
}

func TestLargeObjectsAreGotInRanges(t *testing.T) {
	s := harness.Service(t, nil)
	if err := s.Client().CreateBucket(t.Context(), "plates"); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	const n = 70<<20 + 11
	write(t, filepath.Join(dir, "large"), noise(n))
	env := map[string]string{"HOME": dir, "SPINDLE_URL": s.DeskURL, "SPINDLE_KEY": harness.Key,
		"SPINDLE_SECRET": harness.Secret}
	if code, out, errs := runEnv(t, env, "", false, "object", "put", filepath.Join(dir, "large"),
		"plates/large"); code != 0 {
		t.Fatal(out, errs)
	}
	r := rand.New(rand.NewPCG(1, 7))
	for try := 0; ; try++ {
		ctx, stop := context.WithCancel(t.Context())
		if try < 5 {
			time.AfterFunc(time.Duration(2+r.IntN(40))*time.Millisecond, stop)
		}
		var out, errs bytes.Buffer
		code := cli.Run([]string{"spindle", "object", "get", "plates/large", filepath.Join(dir, "back")},
			&cli.Env{In: strings.NewReader(""), Out: &out, Err: &errs,
				Getenv: func(k string) string { return env[k] }, Done: ctx, Width: 100})
		stop()
		if code == 0 {
			break
		}
		if try > 10 {
			t.Fatal(out.String(), errs.String())
		}
	}
	if !bytes.Equal(read(t, dir, "large"), read(t, dir, "back")) {
		t.Error("other bytes came back")
	}
	if left, err := filepath.Glob(filepath.Join(dir, ".spindle-part-*")); err != nil || len(left) != 0 {
		t.Errorf("left: %v, %v", left, err)
	}
}
