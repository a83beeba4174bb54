package service_test

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/census"
	"spindle/internal/core/replication"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
	"spindle/internal/harness"
	"spindle/internal/standin"
	"spindle/internal/wire/client"
)

// What is done in somebody's name ends within moments when that one is removed in the middle, and
// nothing more is written: a sync run, and a backfill.
func TestRightsLostInTheMiddle(t *testing.T) {
	r := harness.Service(t, reaching)
	here := r.Client()
	versioned(t, here, "plates", "copies")
	const objects = 400
	for i := range objects {
		write(t, here, "plates", fmt.Sprintf("sheet-%03d", i), bytes.Repeat([]byte("x"), 100), client.Put{})
	}
	s, there := harness.Standin(t, standin.Faults{Latency: 60}, "plates", "backfilled")
	e := r.StandinEndpoint("annex", s)
	held := func(bucket string) int {
		p, err := there.List(t.Context(), bucket, "", "", "", 1000)
		if err != nil {
			t.Fatal(err)
		}
		return len(p.Objects)
	}
	leaves := func(what, bucket string, giver string) {
		t.Helper()
		harness.Until(t, "some of it is there: "+what, func() bool { return held(bucket) > 5 })
		if err := r.Store.Catalog.RemoveKey(t.Context(), giver, catalog.Author{At: time.Now(),
			Who: harness.Key}); err != nil {
			t.Fatal(err)
		}
		r.Gate.Changed()
		quiet, last := time.Now(), -1
		harness.Until(t, "nothing more is written: "+what, func() bool {
			if n := held(bucket); n != last {
				quiet, last = time.Now(), n
			}
			return time.Since(quiet) > 3*time.Second
		})
		if last > objects*3/4 {
			t.Errorf("%s: %d of %d objects were written", what, last, objects)
		}
		t.Logf("%s: %d of %d objects", what, last, objects)
	}
	saver := r.NewKey("herbarium", "saver", access.Administrator, nil)
	j := syncJob(t, r, "out", "plates", "@annex/plates", syncing.Accumulate, func(j *syncing.Job) {
		j.Who,
			j.Parallel = saver.ID, 2
	})
	id, err := r.Store.Catalog.AskSync(t.Context(), j, false, catalog.Author{At: time.Now(), Who: saver.ID})
	if err != nil {
		t.Fatal(err)
	}
	leaves("a sync run", "plates", saver.ID)
	if run := runEnds(t, r, j, id); run.State != runs.Failed {
		t.Errorf("the run ended %+v", run)
	}
	if err := s.Set(standin.Faults{Latency: 500}); err != nil {
		t.Fatal(err)
	}
	giver := r.NewKey("herbarium", "giver", access.Administrator, nil)
	rule := &replication.Rule{Account: "herbarium", Name: "back", Bucket: "plates", On: true, Priority: 1,
		Targets: []replication.Target{{EndpointID: e.ID, Endpoint: "annex", Bucket: "backfilled"}}}
	if err := r.Store.Catalog.AddReplication(t.Context(), rule, catalog.Author{At: time.Now(),
		Who: giver.ID}); err != nil {
		t.Fatal(err)
	}
	r.Store.Catalog.LookAgain()
	if err := r.Store.Catalog.StartBackfill(t.Context(), rule.Targets[0].ID); err != nil {
		t.Fatal(err)
	}
	leaves("a backfill", "backfilled", giver.ID)

	// A census is taken back: half of one is none.
	if err := s.Set(standin.Faults{Bandwidth: 2 << 10}); err != nil {
		t.Fatal(err)
	}
	lister := r.NewKey("herbarium", "lister", access.Administrator, nil)
	x := &census.Census{Account: "herbarium", Name: "list", From: syncing.Place{Bucket: "plates"},
		To: syncing.Place{Endpoint: "annex", Bucket: "lists"}, Spec: census.Spec{Columns: census.Usual, Format: census.CSV}}
	x.Who = lister.ID
	if err := there.CreateBucket(t.Context(), "lists"); err != nil {
		t.Fatal(err)
	}
	if err := r.Store.Catalog.AddCensus(t.Context(), x, catalog.Author{At: r.Store.Catalog.Now(),
		Who: lister.ID}); err != nil {
		t.Fatal(err)
	}
	run := func() census.Run {
		list, err := r.Store.Catalog.CensusRuns(t.Context(), x.ID, 0, 1)
		if err != nil || len(list) == 0 {
			t.Fatalf("%v, %v", list, err)
		}
		return list[0]
	}
	harness.Until(t, "some of the census is sent", func() bool { return run().Sent > 0 })
	if err := r.Store.Catalog.RemoveKey(t.Context(), lister.ID, catalog.Author{At: time.Now(),
		Who: harness.Key}); err != nil {
		t.Fatal(err)
	}
	r.Gate.Changed()
	harness.Until(t, "the census ends", func() bool { return run().Ended != nil })
	if is := run(); is.State != runs.Failed || held("lists") != 0 {
		t.Errorf("the census ended %+v, and %d of its files are there", is, held("lists"))
	}
}
