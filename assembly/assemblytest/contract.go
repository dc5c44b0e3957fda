package assemblytest

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/server"
)

// contract is what the server says of itself.
type contract struct {
	Paths map[string]map[string]operation `json:"paths"`
}

type Parameter struct {
	Name string `json:"name"`
	In   string `json:"in"`
}

type operation struct {
	ID          string      `json:"operationId"`
	Summary     string      `json:"summary"`
	Parameters  []Parameter `json:"parameters"`
	RequestBody *struct{}   `json:"requestBody"`
	Responses   map[string]struct {
		Content map[string]json.RawMessage `json:"content"`
		Headers map[string]json.RawMessage `json:"headers"`
	} `json:"responses"`
}

func ContractOf(t testing.TB, s *assembly.Site) *contract {
	raw, err := s.OpenAPI()
	require.NoError(t, err)
	var c contract
	require.NoError(t, json.Unmarshal(raw, &c))
	return &c
}

// find returns the operation of a request; nil if there is none.
func (c *contract) find(method, path string) *operation {
	for template, ops := range c.Paths {
		pattern := "^" + regexp.MustCompile(`\\\{[^/]*?\\\}`).ReplaceAllString(regexp.QuoteMeta(template), `[^/]+`) +
			"$"
		if op, ok := ops[strings.ToLower(method)]; ok && regexp.MustCompile(pattern).MatchString(path) &&
			!(strings.Contains(template, "{") && c.Paths[path] != nil) {
			return &op
		}
	}
	return nil
}

var problemTypes = regexp.MustCompile(`^/problems/[a-z-]+$`)

// tee keeps the beginning of an answer.
type tee struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (w *tee) WriteHeader(status int) {
	w.status = status
	w.ResponseWriter.WriteHeader(status)
}

func (w *tee) Write(b []byte) (int, error) {
	if w.body.Len() < 1<<16 {
		w.body.Write(b)
	}
	return w.ResponseWriter.Write(b)
}

func (w *tee) Unwrap() http.ResponseWriter { return w.ResponseWriter }

// Conforming is a server every answer of which is held against what it says of
// itself, whatever the test is about.
func Conforming(t testing.TB, s *assembly.Site) http.Handler {
	c := ContractOf(t, s)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		op := c.find(r.Method, r.URL.Path)
		if op == nil {
			s.ServeHTTP(w, r)
			return
		}
		rec := &tee{ResponseWriter: w, status: http.StatusOK}
		s.ServeHTTP(rec, r)
		if r.Context().Err() != nil {
			return // nobody heard it
		}
		if err := op.allows(rec.status, w.Header(), rec.body.Bytes()); err != nil {
			t.Errorf("%s %s (%s): %v", r.Method, r.URL, op.ID, err)
		}
	})
}

func (op *operation) allows(status int, h http.Header, body []byte) error {
	said, ok := op.Responses[strconv.Itoa(status)]
	kind, _, _ := strings.Cut(h.Get("Content-Type"), ";")
	switch {
	case !ok:
		return fmt.Errorf("status %d is not among those that it says: %s", status, body)
	case (status == http.StatusCreated || status == http.StatusAccepted) &&
		!strings.HasPrefix(h.Get("Location"), server.Version+"/"):
		return fmt.Errorf("status %d without a Location: %q", status, h.Get("Location"))
	case status < 400:
		return nil
	}
	var p server.Problem
	if _, says := said.Content["application/problem+json"]; !says || kind != "application/problem+json" {
		return fmt.Errorf("an error is %s, expected application/problem+json, said: %v", kind, says)
	}
	if h.Get("Content-Encoding") == "" {
		if err := json.Unmarshal(body, &p); err != nil {
			return err
		}
		if p.Status != status || p.Detail == "" || p.Title == "" || !problemTypes.MatchString(p.Type) {
			return fmt.Errorf("the problem is not said in full: %s", body)
		}
	}
	return nil
}
