// Package server is the web application's server: the API under /api, live
// events, and the built interface. It reads and writes through store and gets
// every answer from core; it keeps nothing that is not in the database.
//
// Start reading at New.
package server

import (
	"context"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"lucidorchard/collect"
	"lucidorchard/store"
)

// Options are what a server needs.
type Options struct {
	Store  *store.Store
	Web    fs.FS // the built interface; without an index.html, a page says how to build it
	Estate string
	Author string // who makes the changes; there are no accounts yet
	Log    *slog.Logger
	// Collector runs in the same process, if one does: it is told of changes.
	Collector *collect.Collector
}

// Server answers requests. Stop it by cancelling New's context.
type Server struct {
	Options
	ctx        context.Context
	state      state
	jobs       jobs
	orders     perEstate[[]int32]
	facetCache perEstate[[]Facet]
	suggester  suggester
	events     events
	router     chi.Router
	api        huma.API
}

// New makes a server. Jobs that it runs end with the context.
func New(ctx context.Context, o Options) (*Server, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, nil))
	}
	s := &Server{Options: o, ctx: ctx}
	s.routes()
	if o.Store == nil {
		return s, nil // only to write down the API
	}
	if err := o.Store.FailAbandoned(ctx); err != nil {
		return nil, err
	}
	go s.watch(ctx)
	s.jobs.group.Go(func() { s.keepUp(ctx) })
	return s, nil
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// OpenAPI gives the description of the API, as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

func (s *Server) routes() {
	r := chi.NewRouter()
	m := newMetrics()
	if s.Collector != nil {
		m.collecting(s.Collector)
	}
	r.Use(middleware.RequestID, s.logged, m.measured, middleware.Recoverer, sameOrigin, s.tokened, middleware.Compress(5, "application/json", "text/css", "text/javascript", "text/html"))
	huma.DefaultArrayNullable = false // every list that is returned is one, if empty
	config := huma.DefaultConfig("Lucid Orchard", "1")
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", "/api/schemas"
	config.CreateHooks = nil
	s.api = humachi.New(r, config)
	s.summaryRoutes()
	s.workloadRoutes()
	s.groupRoutes()
	s.flowRoutes()
	s.exporterRoutes()
	s.policyRoutes()
	s.checkRoutes()
	s.whatIfRoutes()
	s.settleRoutes()
	s.reportRoutes()
	s.figureRoutes()
	s.proposalRoutes()
	s.askRoutes()
	s.importRoutes()
	s.inventoryRoutes()
	s.vocabularyRoutes()
	s.pageRoutes()
	s.transferRoutes()
	s.jobRoutes()
	r.Get("/api/events", s.serveEvents)
	r.Method(http.MethodGet, "/metrics", m.handler())
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", func(w http.ResponseWriter, r *http.Request) {
		if err := s.Store.Ping(r.Context()); err != nil {
			http.Error(w, "the database does not answer: "+err.Error(), http.StatusServiceUnavailable)
			return
		}
		_, _ = w.Write([]byte("ready\n"))
	})
	r.NotFound(s.serveWeb)
	s.router = r
}

// sameOrigin refuses changes that another site's page asks for: there are no
// accounts, so being able to reach the server must not be enough.
func sameOrigin(next http.Handler) http.Handler {
	return http.NewCrossOriginProtection().Handler(next)
}

func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		next.ServeHTTP(ww, r)
		level := slog.LevelDebug
		if ww.Status() >= 500 && r.Context().Err() == nil { // else nobody waits for the answer any more
			level = slog.LevelError
		}
		s.Log.Log(r.Context(), level, "request", "method", r.Method, "path", r.URL.Path, "status", ww.Status(), "took", time.Since(start))
	})
}

const unbuilt = `<!doctype html><title>Lucid Orchard</title><p>The server runs, but the interface is not built into this program. Run <code>make web</code>, then build it again. The API is described at <a href="/api/openapi.json">/api/openapi.json</a>.`

// serveWeb gives a file of the interface, or its page for every other path.
func (s *Server) serveWeb(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/api/") {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusNotFound)
		_, _ = w.Write([]byte(`{"title":"Not Found","status":404,"detail":"the API has no such path; /api/openapi.json describes it"}`))
		return
	}
	name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
	if info, err := fs.Stat(s.Web, name); err == nil && !info.IsDir() {
		if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
		}
		http.ServeFileFS(w, r, s.Web, name)
		return
	}
	page, err := fs.ReadFile(s.Web, "index.html")
	if err != nil {
		page = []byte(unbuilt)
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	_, _ = w.Write(page)
}
