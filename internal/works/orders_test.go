package works_test

import (
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/fault"
	"spindle/internal/core/object"
	"spindle/internal/store"
	"spindle/internal/works"
	"spindle/internal/works/orders"
)

func quiet() *slog.Logger { return slog.New(slog.DiscardHandler) }

func order(kind, prefix, to string, asOf time.Time) *catalog.Order {
	return &catalog.Order{Kind: kind, Bucket: plates,
		What: catalog.OrderWhat{Prefix: []byte(prefix), ToBucket: plates.String(), ToPrefix: []byte(to), AsOf: asOf}}
}

func state(t *testing.T, s *store.Store, id int64) *catalog.Order {
	t.Helper()
	o, err := s.Catalog.Order(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	return o
}

func keysBeneath(t *testing.T, s *store.Store, prefix string) int {
	t.Helper()
	page, _, err := s.List(t.Context(), plates, catalog.Listing{Prefix: prefix, Max: 5000})
	if err != nil {
		t.Fatal(err)
	}
	return len(page)
}

// TestOrdersGoOnAfterAStop renames and restores a prefix while crews come and
// go in the middle of it.
func TestOrdersGoOnAfterAStop(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	const n = 2100
	for i := range n {
		b := fmt.Sprint("body ", i)
		if _, err := s.Put(ctx, store.Put{Address: at(fmt.Sprintf("in/%04d", i)), Author: me, Body: strings.NewReader(b),
			Size: int64(len(b))}); err != nil {
			t.Fatal(err)
		}
	}
	before := time.Now()
	id, err := orders.Order(ctx, s, order("rename", "in/", "out/", time.Time{}), me)
	if err != nil {
		t.Fatal(err)
	}
	if o := state(t, s, id); o.Progress.Total != n || o.State != catalog.OrderRunning {
		t.Fatalf("ordered: %+v", o)
	}
	settings := works.Settings{OrdersEvery: 5 * time.Millisecond}
	middles := 0
	for round := 0; ; round++ {
		before := state(t, s, id).Progress.Done()
		crew := works.Start(s, settings, quiet())
		until(t, "something more is done", func() bool {
			o := state(t, s, id)
			return o.Progress.Done() > before || o.State == catalog.OrderDone
		})
		if round%2 == 0 {
			// Somebody stops the order, not the crew.
			if _, err := s.Catalog.TurnOrder(ctx, id, catalog.OrderStopped, "", catalog.OrderRunning); err != nil {
				t.Fatal(err)
			}
			crew.Stop()
			if o := state(t, s, id); o.State == catalog.OrderStopped {
				if again, err := orders.Order(ctx, s, order("rename", "in/", "out/", time.Time{}), me); err != nil || again != id {
					t.Fatalf("the same order again is %d, %v, not %d", again, err, id)
				}
			}
		} else {
			crew.Stop()
		}
		o := state(t, s, id)
		if o.State == catalog.OrderDone {
			break
		}
		if done := o.Progress.Done(); done > 0 && done < n {
			middles++
		}
		if round > 80 {
			t.Fatalf("never done: %+v", state(t, s, id))
		}
	}
	if middles == 0 {
		t.Error("no stop fell into the middle of the order")
	}
	if o := state(t, s, id); keysBeneath(t, s, "in/") != 0 || keysBeneath(t, s, "out/") != n ||
		o.Progress.Counts["renamed"] != n { // each is counted with what is done, once
		t.Errorf("renamed %d; %d beneath the old prefix, %d beneath the new", o.Progress.Counts["renamed"],
			keysBeneath(t, s, "in/"), keysBeneath(t, s, "out/"))
	}
	// And back to how it was, by a restore of the whole bucket.
	r, err := orders.Rehearse(ctx, s, order("restore", "", "", before))
	if err != nil || r.Counts["restored"] != n || r.Counts["removed"] != n || r.Counts["unchanged"] != 0 {
		t.Fatalf("rehearsed: %+v, %v", r, err)
	}
	id, err = orders.Order(ctx, s, order("restore", "", "", before), me)
	if err != nil {
		t.Fatal(err)
	}
	for round := 0; state(t, s, id).State == catalog.OrderRunning; round++ {
		crew := works.Start(s, settings, quiet())
		time.Sleep(time.Duration(80+10*round) * time.Millisecond)
		crew.Stop()
		if round > 80 {
			t.Fatalf("never done: %+v", state(t, s, id))
		}
	}
	if o := state(t, s, id); o.State != catalog.OrderDone || keysBeneath(t, s, "in/") != n ||
		keysBeneath(t, s, "out/") != 0 {
		t.Errorf("restored: %+v", o)
	}
	v, err := s.Find(ctx, at("in/0007"))
	if err != nil || v.Size != 6 {
		t.Errorf("what came back: %+v, %v", v, err)
	}
	if r, err := orders.Rehearse(ctx, s, order("restore", "", "", before)); err != nil ||
		r.Counts["restored"]+r.Counts["removed"] != 0 || r.Counts["unchanged"] != n {
		t.Errorf("rehearsed again: %+v, %v", r, err)
	}
}

func TestOrdersThatCannotBeDone(t *testing.T) {
	s := newStore(t)
	ctx := t.Context()
	for _, key := range []string{"in/a", "in/b", "out/b"} {
		if _, err := s.Put(ctx, store.Put{Address: at(key), Author: me, Body: strings.NewReader(key),
			Size: int64(len(key))}); err != nil {
			t.Fatal(err)
		}
	}
	for what, c := range map[string]struct {
		o    *catalog.Order
		code string
	}{
		"a key is taken":            {order("rename", "in/", "out/", time.Time{}), "exists"},
		"beneath itself":            {order("rename", "in/", "in/x/", time.Time{}), "rename-beneath"},
		"keys get too long":         {order("rename", "in/", strings.Repeat("x", 1024), time.Time{}), "key-too-long"},
		"a restore, versioning off": {order("restore", "in/", "", time.Now()), "versioning-not-on"},
		"an unknown kind":           {order("frob", "in/", "", time.Now()), "order-kind"},
	} {
		if _, err := orders.Order(ctx, s, c.o, me); !fault.HasCode(err, c.code) {
			t.Errorf("%s: %v, want %s", what, err, c.code)
		}
	}
	if err := s.ChangeBucket(ctx, plates, 0, me, bucket.Versioning(object.On)); err != nil {
		t.Fatal(err)
	}
	if _, err := orders.Order(ctx, s, order("restore", "", "", time.Now().AddDate(-1, 0, 0)), me); !fault.HasCode(err,
		"bucket-later") {
		t.Errorf("before the bucket was: %v", err)
	}
	// A key that is taken after the rehearsal fails the order; it goes on when that is mended.
	id, err := orders.Order(ctx, s, order("rename", "in/", "new/", time.Time{}), me)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Put(ctx, store.Put{Address: at("new/b"), Author: me, Body: strings.NewReader("x"),
		Size: 1}); err != nil {
		t.Fatal(err)
	}
	crew := works.Start(s, works.Settings{OrdersEvery: 5 * time.Millisecond}, quiet())
	defer crew.Stop()
	until(t, "it fails", func() bool { return state(t, s, id).State == catalog.OrderFailed })
	if o := state(t, s, id); !strings.Contains(o.Problem, "plates/new/b is there already") {
		t.Errorf("the problem: %q", o.Problem)
	}
	if _, err := s.Remove(ctx, at("new/b"), nil, me); err != nil {
		t.Fatal(err)
	}
	if ok, err := s.Catalog.TurnOrder(ctx, id, catalog.OrderRunning, "", catalog.OrderFailed); !ok || err != nil {
		t.Fatal(ok, err)
	}
	until(t, "it goes on", func() bool { return state(t, s, id).State == catalog.OrderDone })
	if n := keysBeneath(t, s, "new/"); n != 2 {
		t.Errorf("%d keys are renamed", n)
	}
}
