package works_test

import (
	"sync/atomic"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/fault"
	"spindle/internal/core/lifecycle"
	"spindle/internal/harness"
	"spindle/internal/store"
	"spindle/internal/works"
)

// The database's clock was three days behind and is set right: rules of a day remove nothing until somebody says that it
// is right, and then nothing that is younger than a day; what comes to be old goes.
func TestTheClockJumps(t *testing.T) {
	s := newStore(t)
	var ahead atomic.Int64 // of the database, beside three days
	jump := func(d time.Duration) time.Duration { return 72*time.Hour + d }
	ahead.Store(int64(-72 * time.Hour))
	s.Catalog.TheirClock(func(at time.Time) time.Time { return at.Add(jump(time.Duration(ahead.Load()))) }, nil)
	s.Catalog.OwnClock(func() time.Time { return time.Now().Add(jump(time.Duration(ahead.Load()))) }) // of the same machine
	look := func() {
		t.Helper()
		if err := s.Catalog.LookAtClock(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	look()
	days := 1
	now := time.Duration(0)
	if _, err := s.ChangeRules(t.Context(), plates, store.RulesChange{Grace: &now,
		Edit: store.PutRule(lifecycle.Form{Name: "old",
			Actions: []lifecycle.ActionForm{{Of: "current", Do: "remove", Days: &days}}})}, me); err != nil {
		t.Fatal(err)
	}
	put(t, s, "k", []byte("written while it is behind"))
	crew := works.Start(s, works.Settings{AgeEvery: 10 * time.Millisecond, ClockEvery: 10 * time.Millisecond,
		GuardLeast: 1000}, quiet())
	t.Cleanup(crew.Stop)
	there := func() bool {
		t.Helper()
		_, err := s.Find(t.Context(), at("k"))
		if err != nil && fault.KindOf(err) != fault.NotFound {
			t.Fatal(err)
		}
		return err == nil
	}
	ahead.Store(0)
	look()
	time.Sleep(700 * time.Millisecond)
	if !there() || !s.Catalog.Doubtful() {
		t.Fatalf("it was removed, or nothing is asked: %v", s.Catalog.Doubtful())
	}
	jumps, err := s.Catalog.Jumps(t.Context())
	if err != nil || len(jumps) != 1 {
		t.Fatalf("%+v, %v", jumps, err)
	}
	if _, err := s.Catalog.ClockRight(t.Context(), jumps[0].ID, time.Time{}, catalog.Author{At: s.Catalog.Now(),
		Who: "me"}); err != nil {
		t.Fatal(err)
	}
	look()
	time.Sleep(700 * time.Millisecond)
	if !there() {
		t.Fatal("it was removed before it was a day old")
	}
	ahead.Store(int64(25 * time.Hour)) // a jump within the day that it is asked about
	look()
	if jumps, err = s.Catalog.Jumps(t.Context()); err != nil || len(jumps) != 2 {
		t.Fatalf("%+v, %v", jumps, err)
	}
	// What was in doubt before that is not so now: it was right, and time passed.
	if _, err := s.Catalog.ClockRight(t.Context(), jumps[0].ID, jumps[0].Until, catalog.Author{At: s.Catalog.Now(),
		Who: "me"}); err != nil {
		t.Fatal(err)
	}
	look()
	harness.Until(t, "what is a day old goes", func() bool { return !there() })
}
