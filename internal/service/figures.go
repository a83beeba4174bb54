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
	"quota_used":     prometheus.NewDesc("spindle_quota_used_ratio", "What share of a bucket's quota is used.", []string{"bucket"}, nil),
	"uploads_open":   prometheus.NewDesc("spindle_uploads_open", "Uploads that were begun and did not end.", nil, nil),
	"orders_running": prometheus.NewDesc("spindle_orders_running", "Orders that are worked on or wait.", nil, nil),
	"lifecycle_asks": prometheus.NewDesc("spindle_lifecycle_asks", "Runs of rules that wait for an answer.", nil, nil),
	"damaged":        prometheus.NewDesc("spindle_damaged_versions", "Versions whose bytes do not have their digest.", nil, nil),
	"follower_lag": prometheus.NewDesc("spindle_journal_unread_seconds",
		"How far behind the slowest follower of the journal is.", nil, nil),
}

// Describe and Collect are the library's way to a collector.
func (f figures) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range watched {
		ch <- d
	}
}

// Collect asks the catalog; when it is away there is nothing to tell.
func (f figures) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
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
