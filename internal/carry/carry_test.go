package carry_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/carry"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/syncing"
	"spindle/internal/harness"
	"spindle/internal/remote"
	"spindle/internal/service"
	"spindle/internal/side"
	"spindle/internal/standin"
)

func TestMain(m *testing.M) { os.Exit(harness.Main(m)) }

// put writes files, as NAME to CONTENT, changed an hour ago.
func put(t *testing.T, dir string, files map[string]string) {
	t.Helper()
	for name, content := range files {
		path := filepath.Join(dir, name)
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(content), 0o640); err != nil {
			t.Fatal(err)
		}
		at := time.Now().Add(-time.Hour)
		if err := os.Chtimes(path, at, at); err != nil {
			t.Fatal(err)
		}
	}
}

// held gives what a side holds, as NAME=CONTENT.
func held(t *testing.T, s side.Side) (out []string) {
	t.Helper()
	for f, err := range side.All(t.Context(), s, "") {
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.Read(t.Context(), f.Key, "", 0, f.Size)
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(r)
		r.Close()
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, f.Key+"="+string(b))
	}
	return out
}

func run(t *testing.T, j *carry.Job) carry.Result {
	t.Helper()
	r, err := j.Run(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return r
}

// open is a guard that lets everything through; syncing tests what the others hold.
var open = syncing.Guard{Share: 1, Most: 1 << 40}

func mirror(from, to side.Side) *carry.Job {
	return &carry.Job{From: from, To: to, Options: syncing.Options{Mode: syncing.Mirror}, Guard: open}
}

// sides gives a target of every kind, empty at first.
func sides(t *testing.T) map[string]side.Side {
	t.Helper()
	r := harness.Service(t, func(cfg *service.Config) { cfg.Reach = []string{"loopback"} })
	plates := object.MustBucketName("plates")
	by := catalog.Author{Who: harness.Key, Source: "127.0.0.1"}
	if err := r.Store.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"}, by); err != nil {
		t.Fatal(err)
	}
	able, _ := harness.Standin(t, standin.Faults{}, "plates")
	plain, _ := harness.Standin(t, standin.Faults{Lacks: []string{"checksums", "copy", "conditions"}}, "plates")
	there := func(name string, is *standin.Standin) *side.There {
		conn, err := r.Remote.Get(t.Context(), r.StandinEndpoint(name, is).ID)
		if err != nil {
			t.Fatal(err)
		}
		return &side.There{Conn: conn, Bucket: "plates"}
	}
	return map[string]side.Side{"a folder": &side.Folder{Dir: t.TempDir()},
		"a bucket here":        side.Beneath(&side.Here{Store: r.Store, Bucket: plates, By: by}, "deep/"),
		"at an able endpoint":  there("able", able),
		"at a plain endpoint":  side.Beneath(there("plain", plain), "in/"),
		"through our own wire": side.Beneath(&side.There{Conn: &remote.Conn{Client: r.Client()}, Bucket: "plates"}, "wire/")}
}

// A folder is brought to every kind of target and back: the second time nothing is sent,
// what changes is, times and permissions come back, and what is gone is removed where the
// mode says so.
func TestThereAndBack(t *testing.T) {
	for name, to := range sides(t) {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			large := strings.Repeat("peat ", 500_000)
			put(t, dir, map[string]string{"a": "one", "b/c": "two", "b.txt": "", "large": large, "ü &+%": "odd"})
			from := &side.Folder{Dir: dir}
			var moved atomic.Int64
			j := mirror(from, to)
			j.Moved = func(n int64) { moved.Add(n) }
			if r := run(t, j); r.Written.Objects != 5 || r.Failed > 0 {
				t.Fatalf("%+v", r)
			}
			if want, got := held(t, from), held(t, to); !slices.Equal(got, want) {
				t.Fatalf("%d objects are there, %d here", len(got), len(want))
			}
			moved.Store(0)
			if r := run(t, j); r.Written.Objects != 0 || r.Same.Objects != 5 || moved.Load() > 0 {
				t.Errorf("again: %+v, %d bytes", r, moved.Load())
			}
			back := &side.Folder{Dir: t.TempDir()}
			if r := run(t, mirror(to, back)); r.Written.Objects != 5 {
				t.Errorf("back: %+v", r)
			}
			if r := run(t, mirror(to, back)); r.Written.Objects != 0 {
				t.Errorf("back again: %+v", r)
			}
			was, err := os.Stat(filepath.Join(dir, "b/c"))
			if err != nil {
				t.Fatal(err)
			}
			is, err := os.Stat(filepath.Join(back.Dir, "b/c"))
			if err != nil || !is.ModTime().Equal(was.ModTime()) || is.Mode() != 0o640 {
				if name != "a folder" || err != nil {
					t.Errorf("the file came back as %v %v, was %v: %v", is.ModTime(), is.Mode(), was.ModTime(), err)
				}
			}
			if err := os.WriteFile(filepath.Join(dir, "a"), []byte("ONE"), 0o644); err != nil { // of the same size
				t.Fatal(err)
			}
			if err := os.Remove(filepath.Join(dir, "b/c")); err != nil {
				t.Fatal(err)
			}
			if r := run(t, j); r.Written.Objects != 1 || r.Removed.Objects != 1 {
				t.Errorf("after a change: %+v", r)
			}
			if want, got := held(t, from), held(t, to); !slices.Equal(got, want) {
				t.Errorf("%d objects are there, %d here", len(got), len(want))
			}
		})
	}
}

// A source that is empty, or of which too much is gone, does not take the target with it,
// unless that is said; nothing was written before either.
func TestTheGuardStops(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	files := map[string]string{}
	for i := range 100 {
		files[fmt.Sprintf("sheet-%02d", i)] = "kept"
	}
	put(t, to, files)
	job := func() *carry.Job {
		j := mirror(&side.Folder{Dir: from}, &side.Folder{Dir: to})
		j.Guard = syncing.Usual
		return j
	}
	refused := func(code string) {
		t.Helper()
		if _, err := job().Run(t.Context()); !fault.HasCode(err, code) {
			t.Errorf("%v, want %s", err, code)
		}
		if n := len(held(t, &side.Folder{Dir: to})); n != 100 {
			t.Errorf("%d are left", n)
		}
	}
	refused("source-empty")
	put(t, from, map[string]string{"sheet-00": "changed", "new": "x"})
	refused("guard")
	j := job()
	j.From = &side.Folder{Dir: filepath.Join(from, "not-mounted")}
	if _, err := j.Run(t.Context()); !fault.HasCode(err, "folder-missing") {
		t.Errorf("a folder that is not there: %v", err)
	}
	j = job()
	j.Anyway = true
	if r := run(t, j); r.Removed.Objects != 99 || r.Written.Objects != 2 {
		t.Errorf("%+v", r)
	}
}

// What is drained is gone from the source only when the target holds it; what the target
// spoils or the source changes meanwhile stays.
func TestDrain(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	put(t, from, map[string]string{"good": "good bytes", "spoilt": "bad bytes", "there/already": "same"})
	put(t, to, map[string]string{"there/already": "same"})
	j := &carry.Job{From: &side.Folder{Dir: from}, To: &spoiling{Side: &side.Folder{Dir: to}, key: "spoilt"},
		Options: syncing.Options{Mode: syncing.Drain}, Guard: syncing.Usual}
	r := run(t, j)
	if r.Drained.Objects != 2 || r.Failed != 1 {
		t.Errorf("%+v", r)
	}
	if got := held(t, &side.Folder{Dir: from}); !slices.Equal(got, []string{"spoilt=bad bytes"}) {
		t.Errorf("at the source there is %q", got)
	}
}

// spoiling is a side that gives other bytes back for one key.
type spoiling struct {
	side.Side
	key string
}

func (s *spoiling) Read(ctx context.Context, key, ifETag string, from, n int64) (io.ReadCloser, error) {
	if key == s.key {
		return io.NopCloser(strings.NewReader(strings.Repeat("?", int(n)))), nil
	}
	return s.Side.Read(ctx, key, ifETag, from, n)
}

// failing is a side of which some operations fail.
type failing struct {
	side.Side
	mu   sync.Mutex
	fail func(key string) error
}

func (f *failing) Write(ctx context.Context, key string, b side.Body, w side.Write) (side.Facts, error) {
	f.mu.Lock()
	err := f.fail(key)
	f.mu.Unlock()
	if err != nil {
		return side.Facts{}, err
	}
	return f.Side.Write(ctx, key, b, w)
}

// What fails for a moment goes through; what fails for good is told with its reason, and
// keeps removals from being done; a side that is away ends the run.
func TestFailures(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	files := map[string]string{}
	for i := range 60 {
		files[fmt.Sprintf("sheet-%02d", i)] = "x"
	}
	put(t, from, files)
	put(t, to, map[string]string{"old": "x"})
	busy := fault.New(fault.Unavailable, "busy", "later")
	failed := map[string]int{}
	j := mirror(&side.Folder{Dir: from}, &failing{Side: &side.Folder{Dir: to}, fail: func(key string) error {
		failed[key]++
		switch {
		case key == "sheet-07":
			return fault.New(fault.Refused, "refused", "not this one")
		case strings.HasSuffix(key, "3") && failed[key] < 3, key == "sheet-11" && failed[key] < 6:
			return busy
		}
		return nil
	}})
	var told []carry.Outcome
	var mu sync.Mutex
	j.Tell = func(_ context.Context, o carry.Outcome) {
		mu.Lock()
		defer mu.Unlock()
		told = append(told, o)
	}
	r := run(t, j)
	if r.Written.Objects != 59 || r.Failed != 1 || r.NotTaken != 1 || r.Removed.Objects != 0 {
		t.Errorf("%+v", r)
	}
	i := slices.IndexFunc(told, func(o carry.Outcome) bool { return o.Err != nil })
	if len(told) != 60 || i < 0 || told[i].Key != "sheet-07" || !fault.HasCode(told[i].Err, "refused") {
		t.Errorf("%d outcomes, the failure is %d", len(told), i)
	}

	j = mirror(&side.Folder{Dir: from}, &failing{Side: &side.Folder{Dir: t.TempDir()}, fail: func(string) error {
		return fault.New(fault.Unavailable, "away", "gone").Again(time.Hour)
	}})
	if r, err := j.Run(t.Context()); !fault.HasCode(err, "side-away") || r.Written.Objects > 0 {
		t.Errorf("%+v, %v", r, err)
	}

	ctx, cancel := context.WithCancel(t.Context())
	j = mirror(&side.Folder{Dir: from}, &failing{Side: &side.Folder{Dir: t.TempDir()}, fail: func(string) error {
		cancel()
		return context.Canceled
	}})
	if r, err := j.Run(ctx); !errors.Is(err, context.Canceled) || r.Failed > 0 {
		t.Errorf("stopped: %+v, %v", r, err)
	}
}

// Links, and what is no file, have an outcome; nothing outside of a folder is read or
// written, whatever links are in it.
func TestLinks(t *testing.T) {
	outside := t.TempDir()
	put(t, outside, map[string]string{"secret": "not yours"})
	from := t.TempDir()
	put(t, from, map[string]string{"file": "x"})
	for name, to := range map[string]string{"link": "file", "out": filepath.Join(outside, "secret"), "dir": outside,
		"nowhere": "missing"} {
		if err := os.Symlink(to, filepath.Join(from, name)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(from, "empty"), 0o755); err != nil {
		t.Fatal(err)
	}
	for policy, want := range map[side.Links][]string{side.SkipLinks: {"file=x"}, side.FollowLinks: {"file=x", "link=x"},
		side.KeepLinks: {"dir=", "file=x", "link=", "nowhere=", "out="}} {
		odd := map[string]string{}
		to := &side.Folder{Dir: t.TempDir()}
		run(t, mirror(&side.Folder{Dir: from, Links: policy, Odd: func(k, what string) { odd[k] = what }}, to))
		if got := held(t, to); !slices.Equal(got, want) {
			t.Errorf("%s: %q", policy, got)
		}
		if odd["empty/"] == "" || (policy == side.SkipLinks) != (odd["link"] != "") {
			t.Errorf("%s: told of %v", policy, odd)
		}
	}
	kept := &side.Folder{Dir: t.TempDir(), Links: side.KeepLinks}
	run(t, mirror(&side.Folder{Dir: from, Links: side.KeepLinks}, kept))
	if to, err := os.Readlink(filepath.Join(kept.Dir, "link")); err != nil || to != "file" {
		t.Errorf("the link came as %q, %v", to, err)
	}
	// A link out of the target is no way out.
	trap := t.TempDir()
	if err := os.Symlink(outside, filepath.Join(trap, "dir")); err != nil {
		t.Fatal(err)
	}
	source := t.TempDir()
	put(t, source, map[string]string{"dir/secret": "overwritten"})
	r := run(t, &carry.Job{From: &side.Folder{Dir: source}, To: &side.Folder{Dir: trap}, Guard: syncing.Usual})
	if b, err := os.ReadFile(filepath.Join(outside, "secret")); string(b) != "not yours" || r.Failed != 1 {
		t.Errorf("outside there is %q, %v: %+v", b, err, r)
	}
}

// Who hears of outcomes may be as slow as a database, and ask how far the run is meanwhile: many
// refusals neither stop it nor are lost, and a run that is to end ends.
func TestManyRefusalsAndASlowListener(t *testing.T) {
	from := side.Beneath(sides(t)["a bucket here"], "from/")
	const n = 300
	for i := range n {
		write(t, from, fmt.Sprintf("bad//%03d", i), "x", nil)
	}
	j := mirror(from, &side.Folder{Dir: t.TempDir()})
	j.Options.Mode = syncing.Accumulate
	room, told := make(chan struct{}, 10), atomic.Int64{}
	j.Tell = func(ctx context.Context, _ carry.Outcome) {
		select {
		case room <- struct{}{}:
		case <-ctx.Done():
		}
		told.Add(1)
	}
	done := make(chan struct{})
	go func() { // what is told is taken only by who looks how far the run is
		for {
			_ = j.Result()
			select {
			case <-room:
			case <-done:
				return
			}
		}
	}()
	r := run(t, j)
	close(done)
	if r.Failed != n || r.Refused != n || told.Load() != n {
		t.Errorf("%+v, %d were told", r, told.Load())
	}
	ctx, stop := context.WithTimeout(t.Context(), 200*time.Millisecond)
	defer stop()
	if _, err := j.Run(ctx); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a run that nobody listens to ended with %v", err)
	}
}

// folding is a folder on a disk that takes names for the same that differ by case: it finds
// what was not listed under a name.
type folding struct{ *side.Folder }

func (f folding) Write(ctx context.Context, key string, b side.Body, w side.Write) (side.Facts, error) {
	return f.Folder.Write(ctx, strings.ToLower(key), b, w)
}

// Two names that are one file on the target's disk: the second is refused, the first stays,
// and so it is in every run.
func TestNamesThatAreOneFile(t *testing.T) {
	from, to := t.TempDir(), t.TempDir()
	put(t, from, map[string]string{"FH-01.tif": "large letters", "fh-01.tif": "small letters", "other": "x"})
	j := mirror(&side.Folder{Dir: from}, folding{&side.Folder{Dir: to}})
	j.Options.Mode = syncing.Accumulate
	var code string
	j.Tell = func(_ context.Context, o carry.Outcome) {
		if o.Err != nil {
			code = fault.From(o.Err).Code
		}
	}
	if r := run(t, j); r.Written.Objects != 2 || r.Failed != 1 || code != "name-taken" {
		t.Errorf("%+v, %s", r, code)
	}
	was := held(t, &side.Folder{Dir: to})
	if len(was) != 2 || !strings.HasSuffix(was[0], " letters") {
		t.Errorf("there is %q", was)
	}
}

// What no file can be called is refused, and is no reason to keep what is gone.
func TestRefusedKeysDoNotKeepOthers(t *testing.T) {
	from := side.Beneath(sides(t)["a bucket here"], "from/")
	to := t.TempDir()
	put(t, to, map[string]string{"gone": "x"})
	for _, key := range []string{"good", "bad//name"} {
		write(t, from, key, "x", nil)
	}
	if r := run(t, mirror(from, &side.Folder{Dir: to})); r.Written.Objects != 1 || r.Failed != 1 || r.Refused != 1 ||
		r.Removed.Objects != 1 || r.NotTaken != 0 {
		t.Errorf("%+v", r)
	}
}
