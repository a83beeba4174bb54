package service

import (
	"context"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"spindle/internal/store"
)

// figures tells what waits, fails or fills in the whole service, as the catalog has it when
// it is asked. Things go by their numbers: the page is anybody's, and names are not.
type figures struct{ store *store.Store }

// watched are the figures by their names in the catalog.
var watched = map[string]*prometheus.Desc{
	"job_good": prometheus.NewDesc("spindle_sync_last_good_seconds",
		"How long ago a sync job last ended well, or was made when it never did.", []string{"job"}, nil),
	"job_asks": prometheus.NewDesc("spindle_sync_asks", "Whether the last run of a sync job waits for an answer.",
		[]string{"job"}, nil),
	"job_failed": prometheus.NewDesc("spindle_sync_failed_objects", "Objects that failed in the last run of a sync job.",
		[]string{"job"}, nil),
	"audit_serious": prometheus.NewDesc("spindle_audit_serious", "Serious findings of an account that nobody accepts.",
		[]string{"account"}, nil),
	"audit_age": prometheus.NewDesc("spindle_audit_age_seconds", "How long ago an account was last looked through.",
		[]string{"account"}, nil),
	"quota_used": prometheus.NewDesc("spindle_quota_used_ratio", "What share of a bucket's quota is used.",
		[]string{"bucket"}, nil),
	"uploads_open":   prometheus.NewDesc("spindle_uploads_open", "Uploads that were begun and did not end.", nil, nil),
	"orders_running": prometheus.NewDesc("spindle_orders_running", "Orders that are worked on or wait.", nil, nil),
	"lifecycle_asks": prometheus.NewDesc("spindle_lifecycle_asks", "Runs of rules that wait for an answer.", nil, nil),
	"damaged": prometheus.NewDesc("spindle_damaged_versions", "Versions whose bytes do not have their digest.", nil,
		nil),
	"tasks_waiting": prometheus.NewDesc("spindle_tasks_waiting", "Tasks that are due or wait for their time.", nil, nil),
	"tasks_failed":  prometheus.NewDesc("spindle_tasks_failed", "Of them, those that failed at least once.", nil, nil),
	"post_failed": prometheus.NewDesc("spindle_post_failed", "How often in a row posting to an address failed.",
		[]string{"post"},
		nil),
	"census_failed": prometheus.NewDesc("spindle_census_failed", "Whether the last run of a census failed.",
		[]string{"census"}, nil),
	"index_ready": prometheus.NewDesc("spindle_find_index_ready", "Whether find has an index of a bucket that answers.",
		[]string{"bucket"}, nil),
	"follower_lag": prometheus.NewDesc("spindle_journal_unread_seconds",
		"How far behind the slowest follower of the journal is.", nil, nil),
}

var (
	tierBytes = prometheus.NewDesc("spindle_tier_disk_bytes", "The disks of a tier, by its number: free and in all.",
		[]string{"tier", "of"},
		nil)
	poolConnections = prometheus.NewDesc("spindle_database_connections", "Connections of the process to the database.",
		[]string{"state"}, nil)
	poolWaits = prometheus.NewDesc("spindle_database_waits_total", "How often something waited for a connection.",
		nil, nil)
	poolWaited   = prometheus.NewDesc("spindle_database_waited_seconds_total", "For how long.", nil, nil)
	batchWaiting = prometheus.NewDesc("spindle_batch_waiting", "Requests that wait to share a round trip.",
		[]string{"of"}, nil)
	batches = prometheus.NewDesc("spindle_batches_total", "Round trips that requests shared.", []string{"of"}, nil)
	batched = prometheus.NewDesc("spindle_batched_requests_total", "Requests in them.", []string{"of"}, nil)
)

// pressure tells what the process asks of the database.
func (f figures) pressure(ch chan<- prometheus.Metric) {
	tell := func(d *prometheus.Desc, kind prometheus.ValueType, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, kind, v, labels...)
	}
	p := f.store.Catalog.Pressure()
	tell(poolConnections, prometheus.GaugeValue, float64(p.Pool.InUse), "used")
	tell(poolConnections, prometheus.GaugeValue, float64(p.Pool.Idle), "idle")
	tell(poolWaits, prometheus.CounterValue, float64(p.Pool.WaitCount))
	tell(poolWaited, prometheus.CounterValue, p.Pool.WaitDuration.Seconds())
	for of, b := range p.Batches {
		tell(batchWaiting, prometheus.GaugeValue, float64(b.Waiting), of)
		tell(batches, prometheus.CounterValue, float64(b.Batches), of)
		tell(batched, prometheus.CounterValue, float64(b.Requests), of)
	}
}

// tiers tells how full disks are.
func (f figures) tiers(ctx context.Context, ch chan<- prometheus.Metric) {
	list, err := f.store.Tiers(ctx)
	if err != nil {
		return
	}
	for _, t := range list {
		space, err := f.store.Spaces.Of(t.ID)
		if err != nil {
			continue
		}
		free, total, err := space.Free()
		if err != nil || total == 0 { // it is away, or elsewhere
			continue
		}
		for of, v := range map[string]int64{"free": free, "all": total} {
			ch <- prometheus.MustNewConstMetric(tierBytes, prometheus.GaugeValue, float64(v), strconv.Itoa(int(t.ID)), of)
		}
	}
}

// Describe and Collect are the library's way to a collector.
func (f figures) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range watched {
		ch <- d
	}
	for _, d := range []*prometheus.Desc{tierBytes, poolConnections, poolWaits, poolWaited, batchWaiting, batches,
		batched} {
		ch <- d
	}
}

// Collect asks the catalog; when it is away there is nothing to tell.
func (f figures) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	f.pressure(ch)
	f.tiers(ctx, ch)
	list, err := f.store.Catalog.Figures(ctx)
	if err != nil {
		return
	}
	for _, x := range list {
		var labels []string
		if x.Of != 0 {
			labels = []string{strconv.FormatInt(x.Of, 10)}
		}
		if d := watched[x.Name]; d != nil {
			ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, x.Value, labels...)
		}
	}
}
