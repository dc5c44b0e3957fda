package server

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
	"github.com/prometheus/client_golang/prometheus"

	"lucidorchard/database"
	"lucidorchard/disk"
	"lucidorchard/events"
	"lucidorchard/jobs"
)

// Options are what a server needs.
type Options struct {
	Log     *slog.Logger
	Events  *events.Events
	Runner  *jobs.Runner
	Store   store
	Disk    *disk.Watch
	Done    <-chan struct{} // closed when the program ends
	Uploads string          // folder of files that are sent here; blank: the system's for such
	Web     fs.FS           // the built interface; without an index.html, a page says how to build it

	AllowHosts []string // names, in lower case, by which this server may be called
	Patience   Patience // with slow clients
	// Authorize returns whose a script's token is; nil: nobody's.
	Authorize func(ctx context.Context, secret string) (*Token, error)
	// Gauges are told by /metrics, beside what the server knows itself.
	Gauges []prometheus.Collector
}

// kitStore is what a server reads and keeps itself. Its methods are safe for concurrent
// use.
type store interface {
	Ping(context.Context) error
	// Request returns the request that was stored under an Idempotency-Key; nil: none was.
	Request(ctx context.Context, key string) (*database.Answered, error)
	KeepAnswer(ctx context.Context, key string, a database.Answered) error
	Jobs(ctx context.Context, most int) ([]jobs.Job, error)
	// Job returns one, or database.ErrNone.
	Job(ctx context.Context, id int64) (jobs.Job, error)
}

// Token is what a script may do.
type Token struct {
	Name    string
	Source  string // the source of workloads that it feeds
	Release bool   // it releases instead
}

// NewKit returns what handlers need.
func NewKit(o Options) *Kit {
	if o.Uploads == "" {
		o.Uploads = filepath.Join(os.TempDir(), "orchard-uploads-"+rand.Text()[:8])
	}
	o.Patience = o.Patience.orUsual()
	return &Kit{o}
}

// Kit is what handlers need of the server.
type Kit struct{ Options }

// part is a part of the API: it adds its operations.
type part interface{ Routes(Routes) }

// Server answers requests. It is safe for concurrent use.
type Server struct {
	*Kit
	router chi.Router
	api    huma.API
}

// New makes a server of parts of the API.
func New(k *Kit, parts ...part) *Server {
	s := &Server{Kit: k}
	s.routes(append(parts, &jobsAPI{k}))
	if k.Store != nil {
		k.dropUploads()
	}
	return s
}

// ServeHTTP answers a request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.router.ServeHTTP(w, r) }

// OpenAPI returns the description of the API, as JSON.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

func (s *Server) routes(parts []part) {
	r := chi.NewRouter()
	m := newMetrics()
	m.registry.MustRegister(s.Gauges...)
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
	for _, p := range parts {
		p.Routes(Routes{s.api, s.Kit, r})
	}
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		WriteProblem(w, huma.Error405MethodNotAllowed("the path exists, but not with "+r.Method+
			"; /api/openapi.json describes it"))
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

// serveWeb answers with a file of the interface, or its page for every other path.
func (s *Server) serveWeb(w http.ResponseWriter, r *http.Request) {
	if strings.HasPrefix(r.URL.Path, "/api/") {
		if rest := strings.TrimPrefix(r.URL.Path, "/api"); !strings.HasPrefix(r.URL.Path, Version+"/") &&
			s.router.Match(chi.NewRouteContext(), r.Method, Version+rest) {
			// from before there were versions
			http.Redirect(w, r, (&url.URL{Path: Version + rest, RawQuery: r.URL.RawQuery}).String(),
				http.StatusPermanentRedirect)
			return
		}
		WriteProblem(w, huma.Error404NotFound("the API has no such path; /api/openapi.json describes it"))
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
