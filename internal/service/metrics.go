package service

import (
	"context"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"spindle/internal/core/replication"
	"spindle/internal/store"
)

// elsewhere tells the metrics of endpoints and replication, as the catalog has them when
// it is asked. They go by their numbers: the page is anybody's, and names are not.
type elsewhere struct{ store *store.Store }

var (
	endpointUp = prometheus.NewDesc("spindle_endpoint_up",
		"Whether an endpoint was in order at its last check, by its number.", []string{"endpoint"}, nil)
	endpointLatency = prometheus.NewDesc("spindle_endpoint_latency_seconds",
		"Time of a plain request at the last check of an endpoint.", []string{"endpoint"}, nil)
	replicaWaiting = prometheus.NewDesc("spindle_replication_waiting",
		"Objects that wait to be copied, by rule and target.", []string{"rule", "target"}, nil)
	replicaFailed = prometheus.NewDesc("spindle_replication_failed",
		"Of them, those that failed at least once.", []string{"rule", "target"}, nil)
	replicaBytes = prometheus.NewDesc("spindle_replication_waiting_bytes",
		"Bytes that wait to be copied.", []string{"rule", "target"}, nil)
	replicaOldest = prometheus.NewDesc("spindle_replication_oldest_seconds",
		"How long the oldest change waits.", []string{"rule", "target"}, nil)
	replicaLagging = prometheus.NewDesc("spindle_replication_lag_missed",
		"Whether a lag target is missed: something waits longer, or too much did in the last hour.",
		[]string{"rule", "target"}, nil)
)

// Describe and Collect are the library's way to a collector.
func (e elsewhere) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{endpointUp, endpointLatency, replicaWaiting, replicaFailed, replicaBytes,
		replicaOldest, replicaLagging} {
		ch <- d
	}
}

// Collect asks the catalog; when it is away there is nothing to tell.
func (e elsewhere) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	number := func(n int64) string { return strconv.FormatInt(n, 10) }
	endpoints, err := e.store.Catalog.AllEndpoints(ctx)
	if err != nil {
		return
	}
	for _, x := range endpoints {
		up := 1.0
		if x.Health.State.Bad() {
			up = 0
		}
		gauge(endpointUp, up, number(x.ID))
		gauge(endpointLatency, x.Health.Latency.Seconds(), number(x.ID))
	}
	book, err := e.store.Replications(ctx)
	if err != nil {
		return
	}
	now := e.store.Catalog.Now()
	for _, r := range book.Rules {
		for _, t := range r.Targets {
			all, err := e.store.Catalog.Standing(ctx, []int64{t.ID}, now.Add(-time.Hour))
			if err != nil || all[t.ID] == nil {
				continue
			}
			s, rule, target := all[t.ID], number(r.ID), number(t.ID)
			gauge(replicaWaiting, float64(s.Waiting), rule, target)
			gauge(replicaFailed, float64(s.Failed), rule, target)
			gauge(replicaBytes, float64(s.Bytes), rule, target)
			oldest := 0.0
			if s.Oldest != nil {
				oldest = now.Sub(*s.Oldest).Seconds()
			}
			gauge(replicaOldest, oldest, rule, target)
			missed := 0.0
			if is, _ := replication.StandingOf(s.Facts(r, now)); is == replication.Late || is == replication.Missed {
				missed = 1
			}
			gauge(replicaLagging, missed, rule, target)
		}
	}
}
