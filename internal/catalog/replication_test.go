package catalog_test

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/replication"
	"spindle/internal/harness"
)

// ruled adds a rule to the bucket and gives the number of its target.
func ruled(t *testing.T, c *catalog.Catalog, prefix string) int64 {
	t.Helper()
	r := &replication.Rule{Account: "herbarium", Name: "out", Bucket: "plates", On: true, Priority: 1, Prefix: prefix,
		Targets: []replication.Target{{Bucket: "copies"}}}
	must(t, c.AddReplication(t.Context(), r, author()))
	return r.Targets[0].ID
}

// follow reads the journal until there is no more.
func follow(t *testing.T, c *catalog.Catalog) {
	t.Helper()
	for {
		more, err := c.FollowReplication(t.Context(), 1000)
		must(t, err)
		if !more {
			return
		}
	}
}

// Whatever 8 writers commit beneath the prefix of a rule waits at its target, once a key,
// however many changes it had and however late they committed; nothing else does.
func TestWhatChangesWaits(t *testing.T) {
	c, _, bucket := open(t)
	if _, err := c.Commit(t.Context(), write(bucket, "in/before", 1, 1)); err != nil {
		t.Fatal(err)
	}
	target := ruled(t, c, "in/")
	var wg sync.WaitGroup
	for w := range 8 {
		wg.Go(func() {
			for i := range 40 {
				for _, key := range []string{fmt.Sprintf("in/%d-%d", w, i%10), fmt.Sprintf("out/%d-%d", w, i)} {
					if _, err := c.Commit(t.Context(), write(bucket, key, int64(i), int64(1000*w+i+1))); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	done := make(chan struct{})
	go func() { wg.Wait(); close(done) }()
	for under := true; under; {
		select {
		case <-done:
			under = false
		default:
		}
		follow(t, c)
	}
	harness.Until(t, "all is read", func() bool {
		follow(t, c)
		list, err := c.WaitingReplicas(t.Context(), target, false, "", 1000)
		must(t, err)
		return len(list) == 80 || len(list) == 81 // what was committed just before may be read too
	})
}

// A claim that ran out and was taken over changes nothing but that the key is done again:
// the late one may have written over the newer.
func TestClaimsOfKeys(t *testing.T) {
	c, db, bucket := open(t)
	target := ruled(t, c, "")
	if _, err := c.Commit(t.Context(), write(bucket, "k", 1, 1)); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "it waits", func() bool {
		follow(t, c)
		due, err := c.DueTargets(t.Context(), []int64{target})
		must(t, err)
		return len(due) == 1
	})
	claim := func() []catalog.ReplicaTask {
		t.Helper()
		tasks, err := c.ClaimReplicas(t.Context(), target, 10, time.Minute)
		must(t, err)
		return tasks
	}
	done := func(task catalog.ReplicaTask, number int64) *catalog.Replica {
		t.Helper()
		must(t, c.ReplicasDone(t.Context(), target, []catalog.ReplicaDone{{ReplicaTask: task,
			Have: replication.Have{Number: number, Revision: 1, ETag: "e"}}}))
		rows, err := c.Replicas(t.Context(), []int64{target}, [][]byte{[]byte("k")})
		must(t, err)
		return rows[catalog.ReplicaOf{Target: target, Key: "k"}]
	}
	first := claim()
	if len(first) != 1 || len(claim()) != 0 {
		t.Fatalf("claimed %d, and again", len(first))
	}
	if _, err := db.Exec(`update replicas set until = now() - interval '1 s'`); err != nil { // it froze
		t.Fatal(err)
	}
	second := claim()
	if len(second) != 1 || second[0].Turn == first[0].Turn {
		t.Fatalf("taken over: %+v", second)
	}
	if r := done(second[0], 7); r.Waiting || r.Number != 7 {
		t.Errorf("done: %+v", r)
	}
	if r := done(first[0], 6); !r.Waiting || r.Number != 0 {
		t.Errorf("done by the one that thawed: %+v", r)
	}
	// A change that comes while a key is under way has it be done again.
	again := claim()
	if _, err := c.Commit(context.Background(), write(bucket, "k", 2, 2)); err != nil {
		t.Fatal(err)
	}
	harness.Until(t, "the change is read", func() bool {
		more, err := c.FollowReplication(t.Context(), 100)
		must(t, err)
		return more
	})
	if r := done(again[0], 8); !r.Waiting || r.Number != 8 {
		t.Errorf("done although another change came: %+v", r)
	}
	if last := claim(); len(last) != 1 || last[0].Have.Number != 8 {
		t.Errorf("claimed after that: %+v", last)
	}
	// What it took is kept for two weeks.
	if points, err := c.LagHistory(t.Context(), target, time.Now().AddDate(-1, 0, 0)); err != nil || len(points) == 0 {
		t.Errorf("lags: %v, %v", points, err)
	}
	if _, err := db.Exec(`update replication_lags set at = at - interval '15 days'`); err != nil {
		t.Fatal(err)
	}
	must(t, c.ForgetOld(t.Context()))
	if points, err := c.LagHistory(t.Context(), target, time.Now().AddDate(-1, 0, 0)); err != nil || len(points) != 0 {
		t.Errorf("lags of two weeks ago: %v, %v", points, err)
	}
}

// What is sent of a large object counts as it arrives, once, and only under the claim.
func TestPartsOfReplicasCount(t *testing.T) {
	c, _, bucket := open(t)
	target := ruled(t, c, "")
	if _, err := c.Commit(t.Context(), write(bucket, "k", 1000, 1)); err != nil {
		t.Fatal(err)
	}
	var task catalog.ReplicaTask
	harness.Until(t, "it waits", func() bool {
		follow(t, c)
		tasks, err := c.ClaimReplicas(t.Context(), target, 10, time.Minute)
		must(t, err)
		if len(tasks) == 1 {
			task = tasks[0]
		}
		return len(tasks) == 1
	})
	for _, x := range []struct{ left, sent, moved int64 }{{1000, 0, 0}, {900, 0, 0}, {600, 300, 300}, {100, 500, 800}} {
		must(t, c.KeepReplicaUpload(t.Context(), target, task, "upload", x.left, x.sent, time.Minute))
		all, err := c.Standing(t.Context(), []int64{target}, time.Now().Add(-time.Hour))
		must(t, err)
		if s := all[target]; s.Waiting != 1 || s.Bytes != x.left || s.Moved != x.moved {
			t.Errorf("%+v: %d waiting, %d bytes, %d moved", x, s.Waiting, s.Bytes, s.Moved)
		}
	}
	task.Turn++
	if err := c.KeepReplicaUpload(t.Context(), target, task, "upload", 0, 100, time.Minute); err == nil {
		t.Error("a claim of another was kept")
	}
	all, err := c.Standing(t.Context(), []int64{target}, time.Now().Add(-time.Hour))
	must(t, err)
	if s := all[target]; s.Bytes != 100 || s.Moved != 800 {
		t.Errorf("counted without a claim: %d bytes, %d moved", s.Bytes, s.Moved)
	}
}
