package server

import (
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
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

// waiting registers the gauges of large questions.
func (m metrics) waiting(t *turns) {
	slots := func() int { worked, _ := t.figures(); return worked }
	queue := func() int { _, waiting := t.figures(); return waiting }
	m.registry.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "orchard_large_questions",
			Help: "Large requests in progress."}, func() float64 { return float64(slots()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "orchard_large_questions_waiting",
			Help: "Large requests in the queue."}, func() float64 { return float64(queue()) }))
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
