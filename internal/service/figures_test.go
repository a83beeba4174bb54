package service_test

import (
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"spindle/internal/catalog"
	"spindle/internal/core/bucket"
	"spindle/internal/core/object"
	"spindle/internal/core/runs"
	"spindle/internal/core/syncing"
	"spindle/internal/harness"
	"spindle/internal/service"
	"spindle/internal/wire/client"
	"spindle/internal/wire/sign"
	"spindle/internal/works/jobs"
)

// What waits, fails or fills is told to whoever watches, by numbers and without names.
func TestFigures(t *testing.T) {
	r := harness.Service(t, func(cfg *service.Config) { reaching(cfg) })
	c := r.Client()
	for _, b := range []string{"plates", "copies"} {
		if err := c.CreateBucket(t.Context(), b); err != nil {
			t.Fatal(err)
		}
	}
	quota := int64(1000)
	by := catalog.Author{At: time.Now(), Who: harness.Key}
	if err := r.Store.ChangeBucket(t.Context(), object.MustBucketName("plates"), 0, by, bucket.Quota(&quota)); err != nil {
		t.Fatal(err)
	}
	if _, err := r.Client().StartUpload(t.Context(), "plates", "half", client.Put{}); err != nil {
		t.Fatal(err)
	}
	for i := range 9 {
		if _, err := c.Put(t.Context(), "plates", strings.Repeat("k", i+1), strings.NewReader(strings.Repeat("x", 100)), 100,
			client.Put{}); err != nil {
			t.Fatal(err)
		}
	}
	j := syncJob(t, r, "nightly", "plates", "copies", syncing.Mirror, nil)
	if run := runJob(t, r, j, false); run.State != runs.Done {
		t.Fatalf("%+v", run)
	}
	if err := jobs.Audit(t.Context(), r.Store, "herbarium", time.Now(), nil); err != nil {
		t.Fatal(err)
	}
	read := func() string {
		resp, err := http.Get(r.DeskURL + "/metrics")
		if err != nil {
			t.Fatal(err)
		}
		defer resp.Body.Close()
		b, err := io.ReadAll(resp.Body)
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	harness.Until(t, "usage is rolled up", func() bool { return strings.Contains(read(), "spindle_quota_used_ratio{") })
	p, err := http.NewRequest("GET", r.DeskURL+"/api/v1/buckets", nil)
	if err != nil {
		t.Fatal(err)
	}
	sign.SignDesk(p, sign.Credential{ID: harness.Key, Secret: harness.Secret}, "desk", sign.EmptyHash, time.Now())
	resp, err := http.DefaultClient.Do(p)
	if err != nil || resp.StatusCode != 200 {
		t.Fatalf("%v, %v", resp, err)
	}
	resp.Body.Close()
	text := read()
	for _, want := range []string{"spindle_sync_last_good_seconds{job=", "spindle_sync_asks{job=",
		"spindle_sync_failed_objects{job=",
		"spindle_audit_serious{account=", "spindle_audit_age_seconds{account=", "} 0.9\n", "spindle_uploads_open 1",
		"spindle_orders_running 0",
		"spindle_lifecycle_asks 0", "spindle_damaged_versions 0", "spindle_journal_unread_seconds ",
		"spindle_tasks_waiting 0", "spindle_tasks_failed 0", `spindle_tier_disk_bytes{of="free",tier="0"}`,
		`spindle_database_connections{state="used"}`,
		`spindle_batches_total{of="commits"}`, `spindle_batched_requests_total{of="lookups"}`,
		`spindle_batch_waiting{of="commits"} 0`,
		`spindle_desk_call_seconds_count{call="list-buckets",status="200"} 1`} {
		if !strings.Contains(text, want) {
			t.Errorf("there is no %q", want)
		}
	}
	for _, name := range []string{"plates", "nightly", "herbarium", harness.Key} {
		if strings.Contains(text, name) {
			t.Errorf("the name %s is told", name)
		}
	}
}
