// Package api is the web application over HTTP: the API under /api/v1, live
// events, and the built interface. It reads and writes through store and gets
// every answer from core; it keeps nothing that is not in the database.
//
// Start reading at New.
package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"html"
	"io/fs"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"lucidorchard/app"
	"lucidorchard/auditing"
	"lucidorchard/collect"
	"lucidorchard/drafting"
	"lucidorchard/events"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/releasing"
	"lucidorchard/store"
	"lucidorchard/traffic"
	"lucidorchard/watching"
)

// Options are what a server needs, beside what its App has.
type Options struct {
	Web        fs.FS // the built interface; without an index.html, a page says how to build it
	Estate     string
	Uploads    string   // folder of files that are sent here; blank: the system's for such
	Cluster    Cluster  // a database of our own; nil: somebody else's
	AllowHosts []string // names, in lower case, by which this server may be called
	Patience   Patience // with slow clients
	Trusting   string   // the address on which everybody is let in; blank: loopback only
}

// base is what all handlers have: the use cases, and how what they say becomes an
// answer.
type base struct {
	*app.App
	Options
	*draftingService
	*inventoryService
	*trafficService
	*releasingService
	*watchingService
	*auditingService
	Store     *store.Store
	Models    *model.Keeper
	Events    *events.Events
	Author    string
	Log       *slog.Logger
	Collector *collect.Collector
}

type (
	draftingService  = drafting.Service
	inventoryService = inventory.Service
	trafficService   = traffic.Service
	releasingService = releasing.Service
	watchingService  = watching.Service
	auditingService  = auditing.Service
)

func (b *base) Model(ctx context.Context) (*model.Model, error) { return b.Models.Current(ctx) }

// Server answers requests. It is safe for concurrent use; it ends with its App.
type Server struct {
	*base
	router chi.Router
	api    huma.API
}

// New makes a server of an App.
func New(a *app.App, o Options) *Server {
	if o.Uploads == "" {
		o.Uploads = filepath.Join(os.TempDir(), "orchard-uploads-"+rand.Text()[:8])
	}
	o.Patience = o.Patience.orUsual()
	s := &Server{base: &base{App: a, Options: o, draftingService: a.Drafting, inventoryService: a.Inventory, trafficService: a.Traffic,
		releasingService: a.Releasing, watchingService: a.Watching, auditingService: a.Auditing, Store: a.Store, Models: a.Models,
		Events: &a.Events, Author: a.Author, Log: a.Log, Collector: a.Collector}}
	s.routes()
	if a.Store != nil {
		s.dropUploads()
	}
	return s
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// OpenAPI gives the description of the API, as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

func (s *Server) routes() {
	r := chi.NewRouter()
	m := newMetrics()
	m.keeping(s.App)
	if s.Collector != nil {
		m.collecting(s.Collector)
	}
	turns := newTurns()
	m.waiting(turns)
	r.Use(middleware.RequestID, s.paced, s.logged, m.measured, s.recovered, hardened, s.hosted, sameOrigin,
		middleware.Compress(2, "application/json", "text/css", "text/javascript", "text/html"),
		s.tokened, addressed, bounded, s.arrived, turns.limited, storable, s.repeatable)
	huma.DefaultArrayNullable = false // every list that is returned is one, if empty
	config := huma.DefaultConfig("Lucid Orchard", "1")
	config.OpenAPIPath, config.DocsPath, config.SchemasPath = "/api/openapi", "", Version+"/schemas"
	config.CreateHooks = nil
	s.api = humachi.New(r, config)
	s.api.UseMiddleware(declared)
	summary, imports, live := &summaryAPI{s.base}, &importsAPI{s.base}, &jobsAPI{s.base}
	all := routes{s.api, s.base}
	for _, part := range []interface{ routes(routes) }{
		summary, &workloadsAPI{base: s.base}, &groupsAPI{s.base}, &startersAPI{s.base}, &flowsAPI{s.base},
		&exportersAPI{s.base},
		&policyAPI{s.base}, &checkAPI{s.base}, &whatIfAPI{s.base}, &settleAPI{s.base}, &reportAPI{s.base},
		&figuresAPI{s.base}, &proposalsAPI{s.base}, &askAPI{s.base}, imports, &inventoryAPI{s.base},
		&vocabularyAPI{s.base}, &releasesAPI{s.base}, &pipelineAPI{s.base}, &watchAPI{s.base}, &evidenceAPI{s.base}, live,
	} {
		part.routes(all)
	}
	imports.transferRoutes(all)
	summary.troubleRoutes(all)
	r.Get(Version+"/events", plain(live.serveEvents))
	r.Get(Version+"/watch/stream", plain((&watchAPI{s.base}).serveStream))
	r.Get(Version+"/watch/flows", (&watchAPI{s.base}).serveFlows)
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, huma.Error405MethodNotAllowed("the path is there, but not with "+r.Method+"; /api/openapi.json describes it"))
	})
	r.Method(http.MethodGet, "/metrics", m.handler())
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	r.Get("/readyz", func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
		defer cancel()
		if err := s.Store.Ping(ctx); err != nil {
			s.Log.Warn("not ready: the database does not answer", "error", err)
			http.Error(w, "the database does not answer", http.StatusServiceUnavailable)
			return
		}
		_, _ = w.Write([]byte("ready\n"))
	})
	r.NotFound(s.serveWeb)
	s.router = r
}

func (s *Server) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		start := time.Now()
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		answer := &saidOfFailure{of: ww}
		ww.Tee(answer)
		next.ServeHTTP(ww, r)
		level := slog.LevelDebug
		if ww.Status() >= 500 {
			level = slog.LevelError
			if r.Context().Err() != nil { // nobody waits for the answer any more
				level = slog.LevelInfo
			}
		}
		s.Log.Log(r.Context(), level, "request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "path",
			r.URL.Path, "status", ww.Status(), "took", time.Since(start), answer.attr())
	})
}

// saidOfFailure keeps what the client of a failure was told, for the log.
type saidOfFailure struct {
	of   middleware.WrapResponseWriter
	text []byte
}

func (s *saidOfFailure) Write(b []byte) (int, error) {
	if s.of.Status() >= 500 && len(s.text) < 1000 && s.of.Header().Get("Content-Encoding") == "" {
		s.text = append(s.text, b[:min(len(b), 1000-len(s.text))]...)
	}
	return len(b), nil
}

func (s *saidOfFailure) attr() slog.Attr {
	if len(s.text) == 0 {
		return slog.Attr{}
	}
	return slog.String("said", string(s.text))
}

const unbuilt = `<!doctype html><title>Lucid Orchard</title><p>The server runs, but the interface is not built into this program. Run <code>make web</code>, then build it again. The API is described at <a href="/api/openapi.json">/api/openapi.json</a>.`

// serveWeb gives a file of the interface, or its page for every other path.
func (s *Server) serveWeb(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/api/") {
		if rest := strings.TrimPrefix(r.URL.Path, "/api"); !strings.HasPrefix(r.URL.Path, Version+"/") &&
			s.router.Match(chi.NewRouteContext(), r.Method, Version+rest) {
			// from before there were versions
			http.Redirect(w, r, (&url.URL{Path: Version + rest, RawQuery: r.URL.RawQuery}).String(),
				http.StatusPermanentRedirect)
			return
		}
		writeProblem(w, huma.Error404NotFound("the API has no such path; /api/openapi.json describes it"))
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
	// What a page reads it reads after this: of what changes meanwhile, before it listens
	// to events, it would else never learn.
	now, _ := s.Events.Next()
	page = bytes.Replace(page, []byte("</head>"), fmt.Appendf(nil, "<meta name=\"versions\" content=\"%s\"></head>",
		html.EscapeString(string(bytes.TrimSpace(jsonOf(now))))), 1)
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Cache-Control", "no-cache")
	_, _ = w.Write(page)
}
