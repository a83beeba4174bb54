package works_test

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"spindle/internal/bodies"
	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
	"spindle/internal/works/crew"
	"spindle/internal/works/orders"
)

const (
	asWorker  = "SPINDLE_TEST_WORKER" // DATABASE DIR: be a process that works on orders
	slowKind  = "slow"
	leaseTime = 800 * time.Millisecond
)

func TestMain(m *testing.M) {
	if at := os.Getenv(asWorker); at != "" {
		if err := beWorker(at); err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		return
	}
	os.Exit(harness.Main(m))
}

func openStore(ctx context.Context, database, dir string) (*store.Store, error) {
	c, err := catalog.Open(ctx, database)
	if err != nil {
		return nil, err
	}
	v, err := bodies.Open(dir, 0)
	if err != nil {
		return nil, err
	}
	return store.New(c, bodies.NewSpaces(v), "fenn"), nil
}

// sharedStore opens the first store on a database and a volume that others open too,
// with the bucket plates.
func sharedStore(t *testing.T, database, dir string) *store.Store {
	t.Helper()
	s, err := openStore(t.Context(), database, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { harness.Volume(s).Close(); s.Catalog.Close() })
	if err := s.Catalog.FirstKey(t.Context(), catalog.AccessKey{ID: harness.Key, Account: "herbarium", Name: "owner",
		Active: true, Sealed: []byte{}}); err != nil {
		t.Fatal(err)
	}
	if err := s.Catalog.EnsurePartitions(t.Context(), time.Now(), time.Now()); err != nil {
		t.Fatal(err)
	}
	if err := s.CreateBucket(t.Context(), catalog.Bucket{Name: plates, Account: "herbarium"}, me); err != nil {
		t.Fatal(err)
	}
	return s
}

// slow is a kind of order whose step copies a key and then counts it; between lets
// a test hold it up in the middle.
func slow(between func()) orders.Kind {
	return orders.Kind{Name: slowKind, Parallel: 1, Counts: []string{"copied"},
		Needs:   func(*catalog.Order) ([]orders.Need, error) { return nil, nil },
		Prepare: func(context.Context, *store.Store, *catalog.Order) error { return nil },
		Rehearse: func(context.Context, *store.Store, *catalog.Order) (orders.Rehearsal, error) {
			return orders.Rehearsal{}, nil
		},
		Step: func(ctx context.Context, s *store.Store, o *catalog.Order) (bool, error) {
			n := o.Progress.Done()
			between()
			v, err := s.Copy(context.WithoutCancel(ctx), store.Copy{From: at("from"), To: at(fmt.Sprint("to/", n)), Author: me})
			if err != nil {
				return false, err
			}
			o.Progress.Count("copied", 1, v.Size)
			return n < 9, nil
		}}
}

// beWorker works on orders until it is told to stop; it says when it is in the
// middle of a step, and goes on with it when it hears a line.
func beWorker(where string) error {
	database, dir, _ := strings.Cut(where, " ")
	ctx := context.Background()
	s, err := openStore(ctx, database, dir)
	if err != nil {
		return err
	}
	in := bufio.NewReader(os.Stdin)
	steps := 0
	orders.Kinds = append(orders.Kinds, slow(func() {
		if steps++; steps == 4 {
			fmt.Println("in the middle")
			_, _ = in.ReadString('\n')
		}
	}))
	works.Start(s, works.Settings{Lease: leaseTime, OrdersEvery: 10 * time.Millisecond}, quiet())
	fmt.Println("works")
	_, _ = in.ReadString('\n')
	_, _ = in.ReadString('\n')
	return nil
}

// TestAFrozenWorkerDoesNothingMore freezes a process in the middle of a step (SIGSTOP),
// lets another take over and finish, and thaws it: nothing is done twice, nothing
// overwritten.
func TestAFrozenWorkerDoesNothingMore(t *testing.T) {
	database, dir := harness.Database(t), t.TempDir()
	s := sharedStore(t, database, dir)
	put(t, s, "from", []byte("content"))
	kinds := orders.Kinds
	orders.Kinds = append(slices.Clone(kinds), slow(func() {}))
	t.Cleanup(func() { orders.Kinds = kinds })
	id, err := orders.Order(t.Context(), s, &catalog.Order{Kind: slowKind, Bucket: plates}, me)
	if err != nil {
		t.Fatal(err)
	}

	self, err := os.Executable()
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), asWorker+"="+database+" "+dir)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	in, err := cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	says := bufio.NewReader(out)
	for line := ""; !strings.Contains(line, "middle"); {
		if line, err = says.ReadString('\n'); err != nil {
			t.Fatalf("%v %s", err, errs.String())
		}
	}
	if err := cmd.Process.Signal(syscall.SIGSTOP); err != nil {
		t.Fatal(err)
	}
	before := state(t, s, id)
	if before.State != catalog.OrderRunning || before.Progress.Done() != 3 {
		t.Fatalf("it was frozen after %d of 10: %+v", before.Progress.Done(), before)
	}
	crew := works.Start(s, works.Settings{Lease: leaseTime, OrdersEvery: 10 * time.Millisecond}, quiet())
	until(t, "another finishes it", func() bool { return state(t, s, id).State == catalog.OrderDone })
	crew.Stop()
	// Somebody writes what the order wrote, and takes one away; then the frozen one wakes.
	put(t, s, "to/3", []byte("written after the order"))
	if _, err := s.Remove(t.Context(), at("to/4"), nil, me); err != nil {
		t.Fatal(err)
	}
	done := state(t, s, id)
	if err := cmd.Process.Signal(syscall.SIGCONT); err != nil {
		t.Fatal(err)
	}
	if _, err := in.Write([]byte("\n")); err != nil {
		t.Fatal(err)
	}
	time.Sleep(2 * leaseTime)
	if o := state(t, s, id); o.State != catalog.OrderDone || o.Progress.Done() != 10 || !o.Changed.Equal(done.Changed) {
		t.Errorf("the order was changed by the frozen one: %+v", o)
	}
	if v, err := s.Find(t.Context(), at("to/3")); err != nil || v.Size != int64(len("written after the order")) {
		t.Errorf("what was written since was overwritten: %+v, %v", v, err)
	}
	if _, err := s.Find(t.Context(), at("to/4")); !fault.HasCode(err, "key-missing") {
		t.Errorf("what was removed since is there again: %v", err)
	}
	page, err := s.Catalog.Journal(t.Context(), catalog.JournalQuery{Kinds: []catalog.EntryKind{catalog.ObjectCopied},
		Limit: 100})
	if err != nil || len(page.Entries) != 10 {
		t.Errorf("%d copies stand in the journal, of 10: %v", len(page.Entries), err)
	}
}

// TestOrdersThatFailWait counts how often an order is tried whose kind fails, and
// that others do not wait for it.
func TestOrdersThatFailWait(t *testing.T) {
	s := newStore(t)
	put(t, s, "from", []byte("content"))
	tried := make(chan time.Time, 100_000)
	failing := slow(func() {})
	failing.Name = "failing"
	failing.Step = func(context.Context, *store.Store, *catalog.Order) (bool, error) {
		tried <- time.Now()
		return false, fault.New(fault.Unavailable, "away", "the other side is away")
	}
	breaking := failing
	breaking.Name = "breaking"
	breaking.Step = func(context.Context, *store.Store, *catalog.Order) (bool, error) {
		panic("a defect")
	}
	kinds := orders.Kinds
	orders.Kinds = append(slices.Clone(kinds), slow(func() {}), failing, breaking)
	t.Cleanup(func() { orders.Kinds = kinds })
	order := func(kind, prefix string) int64 {
		t.Helper()
		id, err := orders.Order(t.Context(), s, &catalog.Order{Kind: kind, Bucket: plates,
			What: catalog.OrderWhat{Prefix: []byte(prefix)}}, me)
		if err != nil {
			t.Fatal(err)
		}
		return id
	}
	var first int64
	for i := range 120 {
		if id := order("failing", fmt.Sprint(i)); i == 0 {
			first = id
		}
	}
	broken := order("breaking", "")
	last := order(slowKind, "")
	crew := works.Start(s, works.Settings{OrdersEvery: 10 * time.Millisecond}, quiet())
	defer crew.Stop()
	until(t, "the order behind 121 that fail is done", func() bool { return state(t, s, last).State == catalog.OrderDone })
	until(t, "each was tried once", func() bool { return len(tried) >= 120 })
	if o := state(t, s, first); o.State != catalog.OrderRunning || o.Attempts < 1 ||
		!strings.Contains(o.Problem, "is away") {
		t.Errorf("one that fails: %+v", o)
	}
	if o := state(t, s, broken); o.State != catalog.OrderRunning || o.Attempts < 1 {
		t.Errorf("one that breaks: %+v", o)
	}
	// Tried again and again for a reason nobody knows, it ends and says so.
	until(t, "it ends", func() bool {
		if err := s.Catalog.DueNow(t.Context(), broken); err != nil {
			t.Fatal(err)
		}
		return state(t, s, broken).State == catalog.OrderFailed
	})
	if o := state(t, s, broken); o.State != catalog.OrderFailed || !strings.Contains(o.Problem, "a defect") {
		t.Errorf("one that breaks again and again: %+v", o)
	}
}

// TestTasksAreDoneInTheirOrder has two crews do tasks of a few subjects, some of
// which fail now and then.
func TestTasksAreDoneInTheirOrder(t *testing.T) {
	s := newStore(t)
	var tasks []catalog.Task
	const subjects, each = 7, 12
	for n := range each {
		for subject := range subjects {
			tasks = append(tasks, catalog.Task{Kind: "k", Subject: []byte{byte(subject)}, What: []byte(fmt.Sprint(n))})
		}
	}
	if err := s.Catalog.AddTasks(t.Context(), tasks); err != nil {
		t.Fatal(err)
	}
	type did struct{ subject, n int }
	order := make(chan did, 1000)
	do := func(_ context.Context, k catalog.Task) error {
		var n int
		if _, err := fmt.Sscan(string(k.What), &n); err != nil {
			return err
		}
		if k.Attempts == 0 && n == 3 {
			return fault.New(fault.Unavailable, "away", "not yet")
		}
		order <- did{int(k.Subject[0]), n}
		return nil
	}
	a := works.Start(s, works.Settings{}, quiet())
	defer a.Stop()
	b := works.Start(s, works.Settings{}, quiet())
	defer b.Stop()
	until(t, "all are done", func() bool {
		for _, c := range []*works.Crew{a, b} {
			if _, err := c.RunTasks(t.Context(), crew.TaskKind{Name: "k", Batch: 16, Do: do}); err != nil {
				t.Fatal(err)
			}
		}
		return len(order) >= subjects*each
	})
	close(order)
	next := map[int]int{}
	for d := range order {
		if next[d.subject] != d.n {
			t.Errorf("subject %d: %d came when %d was next", d.subject, d.n, next[d.subject])
		}
		next[d.subject]++
	}
	if left, err := s.Catalog.ClaimTasks(t.Context(), "k", 10, time.Minute); err != nil || len(left) != 0 {
		t.Errorf("left: %d, %v", len(left), err)
	}
}

func TestSchedules(t *testing.T) {
	oslo := "Europe/Oslo"
	for _, c := range []struct{ text, zone, after, next string }{
		{"30 2 * * 1", "", "2026-07-30T12:00:00Z", "2026-08-03T02:30:00Z"},
		{"@daily", oslo, "2026-07-30T12:00:00Z", "2026-07-30T22:00:00Z"},
		{"0 4 1 * *", oslo, "2026-12-15T12:00:00Z", "2027-01-01T03:00:00Z"},
		{"30 3 * * *", oslo, "2026-10-25T00:00:00Z", "2026-10-25T02:30:00Z"}, // after the hour that comes twice
	} {
		s, err := crew.ParseSchedule(c.text, c.zone)
		if err != nil {
			t.Fatalf("%s: %v", c.text, err)
		}
		after, err := time.Parse(time.RFC3339, c.after)
		if err != nil {
			t.Fatal(err)
		}
		if got := s.Next(after).UTC().Format(time.RFC3339); got != c.next || s.String() != c.text {
			t.Errorf("%s in %q after %s: %s, want %s", c.text, c.zone, c.after, got, c.next)
		}
	}
	for text, code := range map[string]string{"": "schedule", "61 * * * *": "schedule", "* * * *": "schedule",
		"@reboot": "schedule"} {
		if _, err := crew.ParseSchedule(text, ""); !fault.HasCode(err, code) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := crew.ParseSchedule("@daily", "Fen/Moor"); !fault.HasCode(err, "time-zone") {
		t.Errorf("an unknown zone: %v", err)
	}
}
