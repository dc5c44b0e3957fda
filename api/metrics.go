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
	m.registry.MustRegister(m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// collecting tells of the collector in this process.
func (m metrics) collecting(c *collect.Collector) {
	gauge := func(name, help string, value func(collect.Status) float64) {
		m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, func() float64 { return value(c.Status()) }))
	}
	gauge("orchard_collector_records_per_second", "Records of exporters, over the last seconds.", func(s collect.Status) float64 { return s.Rate })
	gauge("orchard_collector_sessions", "Sessions in memory.", func(s collect.Status) float64 { return float64(s.Sessions) })
	gauge("orchard_collector_spooled_batches", "Batches that the database has not taken yet.", func(s collect.Status) float64 { return float64(s.Spooled) })
	gauge("orchard_collector_spooled_bytes", "What they take on disk.", func(s collect.Status) float64 { return float64(s.SpoolBytes) })
	gauge("orchard_collector_behind_seconds", "Age of the oldest of them.", func(s collect.Status) float64 { return s.Behind })
	gauge("orchard_collector_lost_records", "Records for which there was no room since the start.", func(s collect.Status) float64 { return float64(s.Lost) })
}

func (m metrics) measured(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		// The event stream lasts as long as a page is open.
		if route := chi.RouteContext(r.Context()).RoutePattern(); route != "" && route != "/api/events" {
			m.requests.WithLabelValues(r.Method, route, strconv.Itoa(ww.Status())).Observe(time.Since(start).Seconds())
		}
	})
}

func (m metrics) handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{})
}
