package server

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"lucidorchard/core/likeness"
)

func jsonOf(v any) []byte {
	out, err := json.Marshal(v)
	if err != nil {
		panic(err) // of types of this package only
	}
	return append(out, '\n')
}

// sameOrigin refuses changes that another site's page asks for: there are no
// accounts, so being able to reach the server must not be enough.
func sameOrigin(next http.Handler) http.Handler {
	p := http.NewCrossOriginProtection()
	p.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		WriteProblem(w, huma.Error403Forbidden("a page of another site asked for this; nothing was changed"))
	}))
	return p.Handler(next)
}

// hosted refuses requests that name a host which is not this one: a page of
// another site whose name was made to lead here would else be of the same origin.
// An address cannot be made to lead elsewhere.
func (s *Kit) hosted(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host := r.Host
		if h, _, err := net.SplitHostPort(host); err == nil {
			host = h
		}
		host = strings.ToLower(strings.TrimSuffix(strings.Trim(host, "[]"), "."))
		if _, err := netip.ParseAddr(host); err != nil && host != "localhost" &&
			!slices.Contains(s.AllowHosts, host) {
			WriteProblem(w, newProblem(http.StatusMisdirectedRequest, problemHost,
				fmt.Sprintf("found the host %q, expected localhost, an address, or a name that the server was "+
					"started with: --allow-host %s", r.Host, host)))
			return
		}
		next.ServeHTTP(w, r)
	})
}

// contentPolicy lets a page run only what this server gives it (Content Security
// Policy Level 3). Styles are made by the page itself.
const contentPolicy = "default-src 'self'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' " +
	"data: blob:; font-src 'self' data:; connect-src 'self'; " +
	"object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'"

func hardened(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", contentPolicy)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("X-Frame-Options", "DENY")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		h.Set("Cross-Origin-Resource-Policy", "same-origin")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// bounded ends what a request waits for after a time.
func bounded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == Version+"/events" || sentAsFile(r.URL.Path) {
			next.ServeHTTP(w, r)
			return
		}
		ctx, cancel := context.WithTimeout(r.Context(), longest)
		defer cancel()
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

// mostJSON is of a body that is looked through before its handler has it.
const mostJSON = 64 << 20

// storable refuses bodies with a NUL character in a text, which no database
// takes, and says where it stands.
func storable(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		kind, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";")
		if kind != "application/json" || r.Body == nil || r.URL.Path == listingPath || r.ContentLength > mostJSON {
			next.ServeHTTP(w, r)
			return
		}
		text, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostJSON))
		if err != nil {
			WriteProblem(w, huma.Error400BadRequest("the request is incomplete: "+err.Error()))
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(text))
		var parsed any
		if bytes.Contains(text, []byte(`\u0000`)) && json.Unmarshal(text, &parsed) == nil {
			if place := nulIn(parsed, "body"); place != "" {
				WriteProblem(w, huma.Error422UnprocessableEntity(place+": found a NUL character, expected text",
					&huma.ErrorDetail{Location: place, Message: "found a NUL character, expected text"}))
				return
			}
		}
		next.ServeHTTP(w, r)
	})
}

// nulIn finds a text with a NUL character and gives its place; blank if there is
// none.
func nulIn(v any, place string) string {
	switch x := v.(type) {
	case string:
		if strings.Contains(x, "\x00") {
			return place
		}
	case []any:
		for i, e := range x {
			if p := nulIn(e, fmt.Sprintf("%s[%d]", place, i)); p != "" {
				return p
			}
		}
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(x)) {
			if strings.Contains(k, "\x00") {
				return place
			}
			if p := nulIn(x[k], place+"."+k); p != "" {
				return p
			}
		}
	}
	return ""
}

// declared refuses a request with a query parameter that its operation does not have: it would select
// something else than what was meant.
func declared(ctx huma.Context, next func(huma.Context)) {
	var names []string
	for _, p := range ctx.Operation().Parameters {
		if p.In == "query" {
			names = append(names, p.Name)
		}
	}
	r, w := humachi.Unwrap(ctx)
	if err := undeclared(r, names...); err != nil {
		WriteProblem(w, err)
		return
	}
	next(ctx)
}

// undeclared reports which query parameter of a request is none of some; nil: all are.
func undeclared(r *http.Request, names ...string) error {
	for _, name := range slices.Sorted(maps.Keys(r.URL.Query())) {
		if slices.Contains(names, name) {
			continue
		}
		words := fmt.Sprintf("%s: there is no such query parameter here", name)
		if near := likeness.Nearest(name, names); near != "" {
			words += "; did you mean " + near + "?"
		} else if len(names) > 0 {
			words += ", only " + strings.Join(names, ", ")
		}
		return huma.Error422UnprocessableEntity(words, &huma.ErrorDetail{Message: words, Location: "query." + name})
	}
	return nil
}

// plain lets a request of a stream through that has no query parameters.
func plain(next http.HandlerFunc) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if err := undeclared(r); err != nil {
			WriteProblem(w, err)
			return
		}
		next(w, r)
	}
}
