package jobs

import (
	"context"
	"log/slog"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"noemata/internal/store"
)

// feedMetrics tells of each feed, when it is asked, what the records know.
type feedMetrics struct{ store *store.Store }

var (
	lagMetric = prometheus.NewDesc("noemata_feed_lag_seconds",
		"How old what the warehouse shows is, of the table that is furthest behind.", []string{"feed"}, nil)
	successMetric = prometheus.NewDesc("noemata_feed_last_success_timestamp_seconds",
		"When a run of the feed succeeded last, or a following one was well.", []string{"feed"}, nil)
	failingMetric = prometheus.NewDesc("noemata_feed_tables_failing", "Tables of the feed that fail or are held.",
		[]string{"feed"}, nil)
	retainedMetric = prometheus.NewDesc("noemata_feed_log_retained_bytes", "Log that the source keeps for the feed.",
		[]string{"feed"}, nil)
)

// Describe implements prometheus.Collector.
func (feedMetrics) Describe(c chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{lagMetric, successMetric, failingMetric, retainedMetric} {
		c <- d
	}
}

// Collect implements prometheus.Collector.
func (m feedMetrics) Collect(c chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	feeds, err := m.store.Feeds(ctx, "")
	if err != nil {
		slog.Warn("Metrics of feeds cannot be told.", "error", err)
		return
	}
	gauge := func(d *prometheus.Desc, value float64, feed string) {
		c <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, value, feed)
	}
	for _, f := range feeds {
		var oldest, success time.Time
		failing := 0
		for _, t := range f.Tables {
			if t.Problem != nil {
				failing++
			}
			if t.CompleteAt != nil && (oldest.IsZero() || t.CompleteAt.Before(oldest)) {
				oldest = *t.CompleteAt
			}
			if t.Problem == nil && t.LastRunAt != nil && t.LastRunAt.After(success) {
				success = *t.LastRunAt
			}
		}
		if !oldest.IsZero() {
			gauge(lagMetric, max(time.Since(oldest).Seconds(), 0), f.Name)
		}
		if !success.IsZero() {
			gauge(successMetric, float64(success.UnixMilli())/1000, f.Name)
		}
		gauge(failingMetric, float64(failing), f.Name)
		if f.Log != nil {
			gauge(retainedMetric, float64(f.Log.Retained), f.Name)
		}
	}
}
