package api

import (
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"lucidorchard/app"
	"lucidorchard/collect"
)

// metrics is what /metrics tells (Prometheus text format).
type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics() metrics {
	m := metrics{prometheus.NewRegistry(), prometheus.NewHistogramVec(prometheus.HistogramOpts{
		Name: "orchard_request_seconds", Help: "How long requests took, by route and status.",
		Buckets: []float64{.005, .02, .1, .3, 1, 3, 10},
	}, []string{"method", "route", "status"})}
	m.registry.MustRegister(m.requests, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// collecting tells of the collector in this process.
func (m metrics) collecting(c *collect.Collector) {
	gauge := func(name, help string, value func(collect.Status) float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help},
			func() float64 { return value(c.Status()) }))
	}
	gauge("orchard_collector_records_per_second", "Records of exporters, over the last seconds.",
		func(s collect.Status) float64 { return s.Rate })
	gauge("orchard_collector_sessions", "Sessions in memory.",
		func(s collect.Status) float64 { return float64(s.Sessions) })
	gauge("orchard_collector_spooled_batches", "Batches that the database has not taken yet.",
		func(s collect.Status) float64 { return float64(s.Spooled) })
	gauge("orchard_collector_spooled_bytes", "What they take on disk.",
		func(s collect.Status) float64 { return float64(s.SpoolBytes) })
	gauge("orchard_collector_behind_seconds", "Age of the oldest of them.",
		func(s collect.Status) float64 { return s.Behind })
	gauge("orchard_collector_memory_records", "Records that are in memory only.",
		func(s collect.Status) float64 { return float64(s.Waiting) })
	gauge("orchard_collector_set_aside_batches",
		"Batches that the database refused for what they hold since the start.",
		func(s collect.Status) float64 { return float64(s.SetAside) })
	gauge("orchard_collector_lost_records", "Records for which there was no room since the start.",
		func(s collect.Status) float64 { return float64(s.Lost) })
}

// keeping tells of jobs, the model and the disks.
func (m metrics) keeping(a *app.App) {
	gauge := func(name, help string, value func() float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, value))
	}
	gauge("orchard_jobs_running", "Jobs that this server runs.", func() float64 { return float64(a.Running()) })
	gauge("orchard_model_age_seconds", "Since when the state that answers are made from is the current one.",
		func() float64 {
			if now := a.Models.Held(); now != nil {
				return time.Since(now.Made).Seconds()
			}
			return 0
		})
	gauge("orchard_model_failing_seconds", "For how long that state could not be brought up to date; 0: it can.",
		func() float64 {
			if since, err := a.Models.Away(); err != nil {
				return time.Since(since).Seconds()
			}
			return 0
		})
	for _, d := range a.Disk.States() {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "orchard_disk_free_bytes",
			Help:        "What may still be written, without the reserve.",
			ConstLabels: prometheus.Labels{"folder": d.Name}}, func() float64 {
			for _, now := range a.Disk.States() {
				if now.Name == d.Name {
					return float64(now.Free)
				}
			}
			return 0
		}))
	}
}

// waiting tells of large questions.
func (m metrics) waiting(t *turns) {
	slots := func() int { worked, _ := t.figures(); return worked }
	queue := func() int { _, waiting := t.figures(); return waiting }
	m.registry.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "orchard_large_questions",
			Help: "Large questions that are worked on."}, func() float64 { return float64(slots()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "orchard_large_questions_waiting",
			Help: "Large questions that wait for their turn."}, func() float64 { return float64(queue()) }))
}

func (m metrics) measured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		// The event stream lasts as long as a page is open.
		if route := chi.RouteContext(r.Context()).RoutePattern(); route != "" && route != Version+"/events" {
			m.requests.WithLabelValues(r.Method, route,
				strconv.Itoa(ww.Status())).Observe(time.Since(start).Seconds())
		}
	})
}

func (m metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}
