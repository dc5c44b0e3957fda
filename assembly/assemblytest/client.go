package assemblytest

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"regexp"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/database/databasetest"
	"lucidorchard/demo"
	draftingrest "lucidorchard/drafting/rest"
	"lucidorchard/point"
	releasingrest "lucidorchard/releasing/rest"
	"lucidorchard/server"
	"lucidorchard/traffic/rows"
)

// Client speaks with a server as its users do.
type Client struct {
	T    testing.TB
	Base string
	DB   *assembly.Store
	url  string // of the database
}

// Serve runs a server over the demo company, in a database of its own.
func Serve(t testing.TB) Client {
	url := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	c := demo.Generate(demo.Options{Workloads: 150, Days: 2, End: time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)})
	require.NoError(t, db.ImportWorkloads(t.Context(), "inventory", []string{"app", "env", "tier", "site"},
		c.Workloads))
	_, err = db.AddBatch(t.Context(), rows.BatchOf("demo", flow.Stating(c.Records), nil))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return Client{T: t, DB: db, url: url}.Second()
}

// Empty runs a server over an empty database of its own.
func Empty(t testing.TB) Client {
	url := databasetest.Database(t)
	db, err := assembly.Open(t.Context(), url)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return Client{T: t, DB: db, url: url}.Second()
}

// Second runs another server on the same database.
func (c Client) Second() Client {
	t, db := c.T, c.DB
	ctx, cancel := context.WithCancel(context.Background())
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "tester"}),
		assembly.HandlerOptions{Web: fstest.MapFS{}, Estate: "Saltmarsh Ferries"})
	h := httptest.NewServer(Conforming(t, s))
	t.Cleanup(func() {
		cancel()
		s.Wait()
		h.Close()
	})
	return Client{T: t, Base: h.URL, DB: db, url: c.url}
}

// Call sends JSON and reads the answer into out.
func (c Client) Call(method, path string, in, out any) int {
	c.T.Helper()
	return c.SendWith(method, path, in, out, nil).StatusCode
}

// SendWith is call with headers.
func (c Client) SendWith(method, path string, in, out any, headers http.Header) *http.Response {
	c.T.Helper()
	var body io.Reader
	if text, ok := in.(string); ok {
		body = strings.NewReader(text)
	} else if in != nil {
		b, err := json.Marshal(in)
		require.NoError(c.T, err)
		body = bytes.NewReader(b)
	}
	req, err := http.NewRequest(method, c.Base+path, body)
	require.NoError(c.T, err)
	req.Header.Set("Content-Type", "application/json")
	if _, ok := in.(string); ok {
		req.Header.Set("Content-Type", "text/csv")
	}
	for k, v := range headers {
		req.Header[k] = v
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(c.T, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(c.T, err)
	if out != nil {
		require.NoError(c.T, json.Unmarshal(text, out), string(text))
	}
	return r
}

// Problem is an answer that says what went wrong.
type Problem struct {
	Type     string `json:"type"`
	Detail   string `json:"detail"`
	Status   int    `json:"status"`
	Was, Now string
}

// Draft is a policy to begin with.
const Draft = "group live = env is live\ngroup trial = env is trial\nlayer allowances\npermit live -> live on " +
	"tcp/8443\nlayer closing\nassert never trial -> live on any\n"

// Begin stores Draft as the first revision.
func (c Client) Begin() {
	require.Equal(c.T, 201, c.Replace(0, Draft))
}

// Replace makes a text that was made from a revision the policy.
func (c Client) Replace(base int, text string) int {
	return c.SendWith("PUT", "/api/v1/policy/text", map[string]any{"text": text}, nil,
		http.Header{"If-Match": {fmt.Sprintf("%q", fmt.Sprint(base))}}).StatusCode
}

// Edit makes one typed edit on a revision, and returns the status.
func (c Client) Edit(base int, op string, more map[string]any) (answers.EditOut, Problem, int) {
	in := map[string]any{"revision": base, "op": op}
	for k, v := range more {
		in[k] = v
	}
	var raw json.RawMessage
	status := c.Call("POST", "/api/v1/policy/edits", in, &raw)
	var out answers.EditOut
	var p Problem
	_ = json.Unmarshal(raw, &out)
	_ = json.Unmarshal(raw, &p)
	return out, p, status
}

// Text returns the text of the draft.
func (c Client) Text() string {
	r, err := http.Get(c.Base + "/api/v1/policy.orchard")
	require.NoError(c.T, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(c.T, err)
	return string(text)
}

// Job waits until a job has ended.
func (c Client) Job(j *server.Job) server.Job {
	var out server.Job
	require.Eventually(c.T, func() bool {
		require.Equal(c.T, 200, c.Call("GET", fmt.Sprintf("/api/v1/jobs/%d", j.ID), nil, &out))
		return out.State != "running"
	}, 30*time.Second, 20*time.Millisecond)
	return out
}

// Company begins with the policy of the demo company.
func (c Client) Company() {
	text := demo.Policy(time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC))
	require.Equal(c.T, 201, c.Replace(0, text))
}

// Raw reads what is no JSON.
func (c Client) Raw(path string) string {
	r, err := http.Get(c.Base + path)
	require.NoError(c.T, err)
	defer r.Body.Close()
	text, err := io.ReadAll(r.Body)
	require.NoError(c.T, err)
	require.Equal(c.T, 200, r.StatusCode, path)
	return string(text)
}

// Send posts as a script does.
func (c Client) Send(path, token, kind, text string, out any) int {
	c.T.Helper()
	req, err := http.NewRequest("POST", c.Base+path, strings.NewReader(text))
	require.NoError(c.T, err)
	req.Header.Set("Content-Type", kind)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(c.T, err)
	defer r.Body.Close()
	raw, err := io.ReadAll(r.Body)
	require.NoError(c.T, err)
	if out != nil {
		require.NoError(c.T, json.Unmarshal(raw, out), string(raw))
	}
	return r.StatusCode
}

// Runs runs a command and finds lines in what it prints, in their order.
func (c Client) Runs(command, want string) {
	c.T.Helper()
	run := exec.Command("bash", "-c", command)
	run.Env = append(os.Environ(), "API="+c.Base+server.Version)
	raw, err := run.CombinedOutput()
	require.NoError(c.T, err, "%s\n%s", command, raw)
	rest := strings.ReplaceAll(string(raw), "\r", "")
	for _, line := range strings.Split(strings.TrimSpace(want), "\n") {
		pattern := "(?s)" + strings.ReplaceAll(regexp.QuoteMeta(strings.TrimSpace(line)), "…", ".*?")
		at := regexp.MustCompile(pattern).FindStringIndex(rest)
		require.NotNil(c.T, at, "%s\nprinted\n%s\nin which is no\n%s", command, raw, line)
		rest = rest[at[1]:]
	}
}

// written is a log that a test reads.
type written struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (w *written) Write(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.Write(b)
}

func (w *written) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.text.String()
}

// Bare runs another server on the same database, with nothing between it and the
// network, that has so much patience; it gives what it logs.
func (c Client) Bare(p server.Patience) (Client, *written) {
	ctx, cancel := context.WithCancel(context.Background())
	log := &written{}
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: c.DB, Author: "tester",
		Log: slog.New(slog.NewTextHandler(log, nil))}),
		assembly.HandlerOptions{Web: fstest.MapFS{}, Estate: "Saltmarsh Ferries", Patience: p})
	h := httptest.NewServer(s)
	c.T.Cleanup(func() {
		cancel()
		s.Wait()
		h.Close()
	})
	return Client{T: c.T, Base: h.URL, DB: c.DB, url: c.url}, log
}

// Direct returns a connection to the database beside the server's.
func (c Client) Direct() *pgx.Conn {
	conn, err := pgx.Connect(c.T.Context(), c.url)
	require.NoError(c.T, err)
	c.T.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

// Begun opens a connection and sends the beginning of a request with a body.
func (c Client) Begun(path, kind string) net.Conn {
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.Base, "http://"))
	require.NoError(c.T, err)
	c.T.Cleanup(func() { conn.Close() })
	_, err = fmt.Fprintf(conn,
		"POST %s HTTP/1.1\r\nHost: localhost\r\nContent-Type: %s\r\nContent-Length: 90\r\n\r\n{", path, kind)
	require.NoError(c.T, err)
	return conn
}

// Judge judges proposals on the newest revision.
func (c Client) Judge(out any, all ...draftingrest.Judgement) int {
	var head draftingrest.PolicyOut
	c.Get("/api/v1/policy", &head)
	return c.Call("POST", "/api/v1/proposals/judge", Judgements(head.Revision, all...), out)
}

// AddPoint makes a point and lets a stand-in hold what it is told.
func (c Client) AddPoint(name, guards string, wave int) *point.Memory {
	var made releasingrest.PointMade
	require.Equal(c.T, 201, c.Call("POST", "/api/v1/points", map[string]any{"name": name, "kind": "gate",
		"guards": guards,
		"wave":   wave}, &made))
	k := &point.Memory{}
	a := &point.Agent{Server: c.Base, Token: made.Token, Kernel: k, Log: slog.New(slog.DiscardHandler),
		RollbackAfter: 5 * time.Second, Check: 50 * time.Millisecond, Beat: 100 * time.Millisecond}
	ctx, stop := context.WithCancel(c.T.Context())
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	c.T.Cleanup(func() {
		stop()
		<-done
	})
	return k
}

// RollOut returns the releases and points as they stand.
func (c Client) RollOut() releasingrest.RollOut {
	var out releasingrest.RollOut
	c.Get("/api/v1/rollout", &out)
	return out
}

// Points are the enforcement points with their states, by name.
type Points map[string]releasingrest.PointState

// Until waits for a state of the points, by name.
func (c Client) Until(what string, f func(points Points) bool) {
	c.T.Helper()
	require.Eventually(c.T, func() bool {
		points := Points{}
		for _, p := range c.RollOut().Points {
			points[p.Name] = p
		}
		return f(points)
	}, 15*time.Second, 20*time.Millisecond, what)
}

// Order orders points to do something with a release, whatever their waves ask.
func (c Client) Order(do string, release int, points ...string) int {
	return c.Call("POST", "/api/v1/rollout/orders", releasingrest.Order{Do: do, Points: points, Release: release,
		Anyway: true}, nil)
}

// AsJob asks with a token that may release.
func (c Client) AsJob(path string, in, out any) {
	c.T.Helper()
	var token struct{ Secret string }
	require.Equal(c.T, 201, c.Call("POST", "/api/v1/tokens", map[string]any{"name": rand.Text(), "releases": true},
		&token))
	r := c.SendWith("POST", path, in, out, http.Header{"Authorization": {"Bearer " + token.Secret}})
	require.Equal(c.T, 200, r.StatusCode)
}

// Get reads an answer with the status 200.
func (c Client) Get(path string, out any) {
	c.T.Helper()
	require.Equal(c.T, 200, c.Call("GET", path, nil, out), path)
}

// Small runs a server over very little; without a database, over one of its own.
func Small(t *testing.T, db *assembly.Store, o assembly.HandlerOptions) Client {
	if db == nil {
		var err error
		db, err = assembly.Open(t.Context(), databasetest.Database(t))
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
	}
	require.NoError(t, db.ImportWorkloads(t.Context(), "register", nil,
		[]estate.Workload{{ID: "w-1", Name: "booking-entry-01", Tags: []estate.Tag{{Key: "env", Value: "live"}}}}))
	ctx, cancel := context.WithCancel(context.Background())
	o.Web, o.Estate = fstest.MapFS{}, "Saltmarsh Ferries"
	s := assembly.Handler(assembly.New(ctx, assembly.Options{Store: db, Author: "tester"}), o)
	h := httptest.NewServer(Conforming(t, s))
	t.Cleanup(func() {
		cancel()
		s.Wait()
		h.Close()
	})
	return Client{T: t, Base: h.URL, DB: db}
}

// Do sends a request with headers and gives the answer with its body.
func (c Client) Do(method, path string, headers map[string]string, text string) (*http.Response, string) {
	req, err := http.NewRequest(method, c.Base+path, strings.NewReader(text))
	require.NoError(c.T, err)
	req.Header.Set("Content-Type", "application/json")
	for k, v := range headers {
		if k == "Host" {
			req.Host = v
		}
		req.Header.Set(k, v)
	}
	r, err := http.DefaultClient.Do(req)
	require.NoError(c.T, err)
	defer r.Body.Close()
	raw, err := io.ReadAll(r.Body)
	require.NoError(c.T, err)
	return r, string(raw)
}
