package server

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/database"
)

// mostRemembered is up to how many octets of an answer are kept for a request
// that is sent again.
const mostRemembered = 4 << 20

// repeatable makes requests that carry an Idempotency-Key safe to send again:
// what was stored under the key is not stored again, and the first answer is
// given again.
func (s *Kit) repeatable(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if key == "" || r.Method == http.MethodGet || r.Method == http.MethodHead {
			next.ServeHTTP(w, r)
			return
		}
		if len(key) > 200 {
			WriteProblem(w, huma.Error422UnprocessableEntity("Idempotency-Key: found more than 200 characters"))
			return
		}
		print, err := fingerprint(r)
		if err != nil {
			WriteProblem(w, huma.Error400BadRequest("the request is incomplete: "+err.Error()))
			return
		}
		have, err := s.Store.Request(r.Context(), key)
		switch {
		case err != nil:
			WriteProblem(w, s.Failed(r.Context(), err))
			return
		case have != nil && have.Fingerprint != print:
			WriteProblem(w, huma.Error422UnprocessableEntity("Idempotency-Key: another request was sent with it; "+
				"use a new key for each"))
			return
		case have != nil && have.Status == 0:
			WriteProblem(w, s.Failed(r.Context(), &database.RepeatedError{Key: key}))
			return
		case have != nil:
			w.Header().Set("Idempotency-Replayed", "true")
			w.Header().Set("Content-Type", have.Type)
			if have.Location != "" {
				w.Header().Set("Location", have.Location)
			}
			w.WriteHeader(have.Status)
			_, _ = w.Write(have.Body)
			return
		}
		k := &database.Key{Text: key, Fingerprint: print}
		rec := &recorder{header: w.Header(), status: http.StatusOK}
		next.ServeHTTP(rec, r.WithContext(database.WithKey(r.Context(), k)))
		if k.Used() && rec.status < 300 && rec.body.Len() <= mostRemembered {
			keep, cancel := context.WithTimeout(context.WithoutCancel(r.Context()), 10*time.Second)
			if err := s.Store.KeepAnswer(keep, key, database.Answered{Status: rec.status,
				Type: w.Header().Get("Content-Type"), Location: w.Header().Get("Location"),
				Body: rec.body.Bytes()}); err != nil {
				s.Log.Warn("the answer to a repeatable request cannot be stored", "error", err)
			}
			cancel()
		}
		w.WriteHeader(rec.status)
		_, _ = w.Write(rec.body.Bytes())
	})
}

// fingerprint distinguishes requests: by what they ask and, if it is not a large
// file, by what they send.
func fingerprint(r *http.Request) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%s %s %d\n", r.Method, r.URL.RequestURI(), r.ContentLength)
	if r.ContentLength > 0 && r.ContentLength <= 1<<20 {
		text, err := io.ReadAll(io.LimitReader(r.Body, r.ContentLength))
		if err != nil {
			return "", err
		}
		r.Body = io.NopCloser(bytes.NewReader(text))
		h.Write(text)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

// recorder holds an answer back until it is kept.
type recorder struct {
	header http.Header
	status int
	body   bytes.Buffer
}

func (r *recorder) Header() http.Header { return r.header }

func (r *recorder) WriteHeader(status int) { r.status = status }

func (r *recorder) Write(b []byte) (int, error) { return r.body.Write(b) }
