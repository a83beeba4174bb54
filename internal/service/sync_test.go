package service_test

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
	"spindle/internal/works/jobs"
)

// syncJob adds a job of the owner's.
func syncJob(t *testing.T, r *harness.Running, name, from, to string, mode syncing.Mode,
	more func(*syncing.Job)) *syncing.Job {
	t.Helper()
	j := &syncing.Job{Account: "herbarium", Name: name, On: true, Spec: syncing.Spec{Mode: mode, By: syncing.ByTime,
		Links: "skip", Parallel: 8, Guard: syncing.Usual}}
	var err error
	if j.From, err = syncing.ParsePlace(from); err != nil {
		t.Fatal(err)
	}
	if j.To, err = syncing.ParsePlace(to); err != nil {
		t.Fatal(err)
	}
	by := catalog.Author{At: time.Now(), Who: harness.Key, Source: "127.0.0.1"}
	if more != nil {
		more(j)
		if j.Who != "" {
			by.Who = j.Who
		}
	}
	if err := j.Check(); err != nil {
		t.Fatal(err)
	}
	if err := r.Store.Catalog.AddSync(t.Context(), j, by); err != nil {
		t.Fatal(err)
	}
	return j
}

// runJob runs a job and gives the run as it ended, or asked.
func runJob(t *testing.T, r *harness.Running, j *syncing.Job, anyway bool) syncing.Run {
	t.Helper()
	id, err := r.Store.Catalog.AskSync(t.Context(), j, anyway, catalog.Author{At: time.Now(), Who: harness.Key})
	if err != nil {
		t.Fatal(err)
	}
	return runEnds(t, r, j, id)
}

func runEnds(t *testing.T, r *harness.Running, j *syncing.Job, id int64) (run syncing.Run) {
	t.Helper()
	harness.Until(t, "the run of "+j.Name+" ends", func() bool {
		var err error
		if run, err = r.Store.Catalog.SyncRun(t.Context(), j.ID, id); err != nil {
			t.Fatal(err)
		}
		return run.State.Ended() || run.State == runs.Asking
	})
	return run
}

// A mirror is kept of a bucket at an endpoint; the bucket is emptied by mistake; the mirror
// stops and asks; the bucket is brought back from it and is what it was.
func TestADisaster(t *testing.T) {
	r := harness.Service(t, reaching)
	is, there := harness.Standin(t, standin.Faults{}, "mirror")
	r.StandinEndpoint("annex", is)
	here := r.Client()
	versioned(t, here, "plates")
	for i := range 120 {
		write(t, here, "plates", fmt.Sprintf("2026/sheet-%03d", i), []byte(fmt.Sprint("content ", i)),
			client.Put{Metadata: object.Metadata{"taxon": "Drosera"}, ContentType: "image/tiff"})
	}
	keep := syncJob(t, r, "nightly", "plates", "@annex/mirror", syncing.Mirror, nil)
	if run := runJob(t, r, keep, false); run.State != runs.Done || run.Tally.Written.Objects != 120 {
		t.Fatalf("%+v", run)
	}
	if run := runJob(t, r, keep, false); run.State != runs.Done || run.Tally.Written.Objects != 0 ||
		run.Tally.Same.Objects != 120 {
		t.Errorf("again: %+v", run)
	}
	for i := range 120 {
		if err := here.Remove(t.Context(), "plates", fmt.Sprintf("2026/sheet-%03d", i)); err != nil {
			t.Fatal(err)
		}
	}
	run := runJob(t, r, keep, false)
	if run.State != runs.Asking || run.Code != "source-empty" {
		t.Fatalf("after the disaster: %+v", run)
	}
	if p, err := there.List(t.Context(), "mirror", "", "", "", 1000); err != nil || len(p.Objects) != 120 {
		t.Fatalf("%d are left, %v", len(p.Objects), err)
	}
	if err := r.Store.Catalog.StopSync(t.Context(), run.ID, time.Now()); err != nil {
		t.Fatal(err)
	}
	back := syncJob(t, r, "back", "@annex/mirror", "plates", syncing.Accumulate, nil)
	if run := runJob(t, r, back, false); run.State != runs.Done || run.Tally.Written.Objects != 120 {
		t.Fatalf("%+v", run)
	}
	for i := range 120 {
		key := fmt.Sprintf("2026/sheet-%03d", i)
		if says := same(t.Context(), here, "plates", key, there, "mirror", key); says != "" {
			t.Errorf("%s: %s", key, says)
		}
	}
	if x, err := read(t.Context(), here, "plates", "2026/sheet-007"); err != nil || x.kind != "image/tiff" ||
		x.metadata["taxon"] != "Drosera" {
		t.Errorf("it came back as %+v, %v", x, err)
	}
	if run := runJob(t, r, keep, false); run.State != runs.Done ||
		run.Tally.Written.Objects+run.Tally.Removed.Objects > 0 {
		t.Errorf("the mirror afterwards: %+v", run)
	}
}

// A job waits while a side is away and goes on by itself; sides that are others than
// before are asked about; what fails is told with its reason; one that is stopped stops.
func TestRunsThroughTrouble(t *testing.T) {
	root := t.TempDir()
	r := harness.Service(t, func(cfg *service.Config) { reaching(cfg); cfg.Works.Folders = []string{root} })
	is, there := harness.Standin(t, standin.Faults{}, "mirror")
	r.StandinEndpoint("annex", is)
	for i := range 40 {
		path := filepath.Join(root, "drop", fmt.Sprintf("scan-%02d", i))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(path, bytes.Repeat([]byte{byte(i)}, 1000), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	j := syncJob(t, r, "drop", filepath.Join(root, "drop"), "@annex/mirror/in", syncing.Accumulate, nil)
	if err := is.Set(standin.Faults{Away: true}); err != nil {
		t.Fatal(err)
	}
	id, err := r.Store.Catalog.AskSync(t.Context(), j, false, catalog.Author{At: time.Now(), Who: harness.Key})
	if err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it waits and says why", func() bool {
		run, err := r.Store.Catalog.SyncRun(t.Context(), j.ID, id)
		return err == nil && run.State == runs.Waiting && run.Says != ""
	})
	if err := is.Set(standin.Faults{Errors: 0.05, Cut: 0.05, Throttle: 0.05}); err != nil {
		t.Fatal(err)
	}
	if run := runEnds(t, r, j, id); run.State != runs.Done || run.Tally.Written.Objects != 40 {
		t.Fatalf("%+v", run)
	}
	if err := is.Set(standin.Faults{}); err != nil {
		t.Fatal(err)
	}

	// Another folder of the same name, as when a disk is not mounted.
	if err := os.Rename(filepath.Join(root, "drop"), filepath.Join(root, "away")); err != nil {
		t.Fatal(err)
	}
	if run := runJob(t, r, j, false); run.State != runs.Failed || run.Code != "folder-missing" {
		t.Errorf("with no folder: %+v", run)
	}
	if err := os.Mkdir(filepath.Join(root, "drop"), 0o755); err != nil {
		t.Fatal(err)
	}
	if run := runJob(t, r, j, false); run.State != runs.Asking || run.Code != "source-swapped" {
		t.Errorf("with another folder: %+v", run)
	}
	if run := runJob(t, r, j, true); run.State != runs.Done {
		t.Errorf("let go on: %+v", run)
	}

	// Drained; one key cannot be there, and stays.
	if err := os.RemoveAll(filepath.Join(root, "drop")); err != nil {
		t.Fatal(err)
	}
	if err := os.Rename(filepath.Join(root, "away"), filepath.Join(root, "drop")); err != nil {
		t.Fatal(err)
	}
	if err := is.Set(standin.Faults{MaxKey: 30}); err != nil {
		t.Fatal(err)
	}
	long := filepath.Join(root, "drop", strings.Repeat("long-", 8))
	if err := os.WriteFile(long, []byte("x"), 0o644); err != nil {
		t.Fatal(err)
	}
	drain := syncJob(t, r, "drain", filepath.Join(root, "drop"), "@annex/mirror/in", syncing.Drain, nil)
	run := runJob(t, r, drain, false)
	if run.State != runs.Partly || run.Tally.Drained.Objects != 40 || run.Tally.Failed != 1 {
		t.Errorf("drained: %+v", run)
	}
	failed, err := r.Store.Catalog.SyncOutcomes(t.Context(), run.ID, 0, true, 10)
	if err != nil || len(failed) != 1 || failed[0].Code == "" || !strings.HasPrefix(failed[0].Key, "long-") {
		t.Errorf("%+v, %v", failed, err)
	}
	left, err := os.ReadDir(filepath.Join(root, "drop"))
	if err != nil || len(left) != 1 {
		t.Errorf("%d files are left, %v", len(left), err)
	}
	if p, err := there.List(t.Context(), "mirror", "in/", "", "", 100); err != nil || len(p.Objects) != 40 {
		t.Errorf("%d there, %v", len(p.Objects), err)
	}

	// Stopped in the middle.
	if err := is.Set(standin.Faults{Latency: 300}); err != nil {
		t.Fatal(err)
	}
	slow := syncJob(t, r, "slow", "@annex/mirror", "@annex/mirror/again", syncing.Accumulate, func(j *syncing.Job) {
		j.From.Prefix, j.Parallel = "in/", 1
	})
	if id, err = r.Store.Catalog.AskSync(t.Context(), slow, false, catalog.Author{At: time.Now(),
		Who: harness.Key}); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it has begun", func() bool {
		run, err := r.Store.Catalog.SyncRun(t.Context(), slow.ID, id)
		return err == nil && run.Tally.Written.Objects > 0
	})
	if err := r.Store.Catalog.StopSync(t.Context(), id, time.Now()); err != nil {
		t.Fatal(err)
	}
	if run := runEnds(t, r, slow, id); run.State != runs.Stopped || run.Tally.Written.Objects == 40 {
		t.Errorf("stopped: %+v", run)
	}
}

// What whoever saved a job may do no more, it does no more; folders beneath no root are
// refused; a schedule that was missed runs once.
func TestRightsAndSchedules(t *testing.T) {
	r := harness.Service(t, nil)
	here := r.Client()
	for _, b := range []string{"plates", "copies"} {
		if err := here.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	write(t, here, "plates", "one", []byte("x"), client.Put{})
	key := r.NewKey("herbarium", "curator", access.Administrator, nil)
	mine := syncJob(t, r, "mine", "plates", "copies/mine", syncing.Mirror, func(j *syncing.Job) { j.Who = key.ID })
	if run := runJob(t, r, mine, false); run.State != runs.Done || run.Tally.Written.Objects != 1 {
		t.Errorf("while its saver may: %+v", run)
	}
	if err := r.Store.Catalog.RemoveKey(t.Context(), key.ID, catalog.Author{At: time.Now(),
		Who: harness.Key}); err != nil {
		t.Fatal(err)
	}
	r.Gate.Changed()
	write(t, here, "plates", "two", []byte("x"), client.Put{})
	if run := runJob(t, r, mine, false); run.State != runs.Failed || run.Tally.Written.Objects > 0 {
		t.Errorf("when its saver may no more: %+v", run)
	}
	if _, err := here.Head(t.Context(), "copies", "mine/two"); fault.KindOf(err) != fault.NotFound {
		t.Errorf("it was written all the same: %v", err)
	}
	folder := syncJob(t, r, "folder", "/etc", "copies/etc", syncing.Accumulate, nil)
	if run := runJob(t, r, folder, true); run.State != runs.Failed || run.Code != "folder-refused" {
		t.Errorf("a folder beneath no root: %+v", run)
	}
	past := time.Now().Add(-50 * time.Hour)
	due := syncJob(t, r, "hourly", "plates", "copies/hourly", syncing.Accumulate, func(j *syncing.Job) {
		j.Schedule, j.Next = "@hourly", &past
	})
	harness.Until(t, "what was missed is done", func() bool {
		list, err := r.Store.Catalog.SyncRuns(t.Context(), due.ID, 0, 10)
		return err == nil && len(list) == 1 && list[0].State == runs.Done && list[0].Who == "schedule"
	})
	now, err := r.Store.Catalog.Sync(t.Context(), "herbarium", "hourly")
	if err != nil || now.Next == nil || !now.Next.After(time.Now()) {
		t.Errorf("its next run is %v, %v", now.Next, err)
	}
	if next, err := jobs.NextSync(now, time.Now()); err != nil || !next.Equal(*now.Next) {
		t.Errorf("%v, %v", next, err)
	}
}

// TestSyncThroughKills kills the service 20 times during a run of 3,000 objects: the sides
// end equal, and little was sent twice.
func TestSyncThroughKills(t *testing.T) {
	t.Parallel()
	const objects, kills = 3000, 20
	p := &process{t: t, bin: harness.Binary(t), data: dataDir(t)}
	reach := []string{"--reach", "loopback"}
	if err := p.start(reach...); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = p.cmd.Process.Signal(syscall.SIGTERM); _ = p.cmd.Wait() })
	here := p.client()
	versioned(t, here, "plates")
	for i := range objects {
		write(t, here, "plates", fmt.Sprintf("sheet-%04d", i), []byte(fmt.Sprint("content ", i)), client.Put{})
	}
	s, there := harness.Standin(t, standin.Faults{Latency: 6}, "mirror")
	p.command("endpoint", "add", "annex", "--url", s.URL, "--key", harness.StandinKey, "--secret-from",
		secretFile(t, harness.StandinSecret))
	p.command("sync", "create", "nightly", "plates", "@annex/mirror", "--mode", "mirror")
	p.command("sync", "run", "nightly", "--detach")
	r := rand.New(rand.NewPCG(uint64(time.Now().UnixNano()), 14))
	for kill := range kills {
		before := s.Counts()["Put"]
		harness.Until(t, fmt.Sprintf("something is written before kill %d", kill), func() bool {
			n := s.Counts()["Put"]
			return n >= before+20 || n >= objects
		})
		time.Sleep(time.Duration(r.IntN(60)) * time.Millisecond)
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
		if err := p.start(reach...); err != nil {
			t.Fatal(err)
		}
	}
	if out := p.command("sync", "watch", "nightly"); !strings.Contains(out, "done") {
		t.Errorf("it ended: %s", out)
	}
	if out := p.command("sync", "rehearse", "nightly", "--check"); !strings.Contains(out, "3,000") {
		t.Errorf("both sides: %s", out)
	}
	if p, err := there.List(t.Context(), "mirror", "sheet-2999", "", "", 10); err != nil || len(p.Objects) != 1 {
		t.Errorf("the last: %+v, %v", p, err)
	}
	puts := s.Counts()["Put"]
	if most := int64(objects + kills*8); puts > most {
		t.Errorf("%d puts for %d objects and %d kills; at most %d were under way", puts, objects, kills, most)
	}
	t.Logf("%d puts for %d objects through %d kills", puts, objects, kills)
}
