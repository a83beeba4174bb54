package service_test

import (
	"bytes"
	"fmt"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/access"
	"spindle/internal/core/replication"
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
		if err := r.Store.Catalog.RemoveKey(t.Context(), giver, catalog.Author{At: time.Now(), Who: harness.Key}); err != nil {
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
	j := syncJob(t, r, "out", "plates", "@annex/plates", syncing.Accumulate, func(j *syncing.Job) { j.Who, j.Parallel = saver.ID, 2 })
	id, err := r.Store.Catalog.AskSync(t.Context(), j, false, catalog.Author{At: time.Now(), Who: saver.ID})
	if err != nil {
		t.Fatal(err)
	}
	leaves("a sync run", "plates", saver.ID)
	if run := runEnds(t, r, j, id); run.State != syncing.Failed {
		t.Errorf("the run ended %+v", run)
	}
	if err := s.Set(standin.Faults{Latency: 500}); err != nil {
		t.Fatal(err)
	}
	giver := r.NewKey("herbarium", "giver", access.Administrator, nil)
	rule := &replication.Rule{Account: "herbarium", Name: "back", Bucket: "plates", On: true, Priority: 1,
		Targets: []replication.Target{{EndpointID: e.ID, Endpoint: "annex", Bucket: "backfilled"}}}
	if err := r.Store.Catalog.AddReplication(t.Context(), rule, catalog.Author{At: time.Now(), Who: giver.ID}); err != nil {
		t.Fatal(err)
	}
	r.Store.Catalog.LookAgain()
	if err := r.Store.Catalog.StartBackfill(t.Context(), rule.Targets[0].ID); err != nil {
		t.Fatal(err)
	}
	leaves("a backfill", "backfilled", giver.ID)
}
