package server

import (
	"context"
	"fmt"
	"maps"
	"math"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"lucidorchard/core/policy"
	"lucidorchard/jobs"
	"lucidorchard/point"
)

// Version is the first part of every path of the API. What a version promises
// stays: paths, fields, statuses and types of problems are added, never changed.
const Version = "/api/v1"

// Routes is where the parts of the API add their operations.
type Routes struct {
	huma.API
	kit    *Kit
	router chi.Router
}

// option changes the description of an operation.
type option func(*huma.Operation)

// Stream adds a stream, which is described in the docs and not in the OpenAPI document.
// It has no query parameters.
func (r Routes) Stream(path string, handle http.HandlerFunc) {
	r.router.Get(Version+path, plain(handle))
}

// Feed adds a stream that reads its query parameters itself.
func (r Routes) Feed(path string, handle http.HandlerFunc) { r.router.Get(Version+path, handle) }

// Get adds a question: its name in the description, its path below Version, what
// it is for in words, and who answers it. It changes nothing.
func Get[I, O any](r Routes, id, path, words string, handle func(context.Context, *I) (*O, error), more ...option) {
	register(r, http.MethodGet, id, path, words, handle, more)
}

// Post adds an operation that may change something, or that asks what does not
// fit into an address.
func Post[I, O any](r Routes, id, path, words string, handle func(context.Context, *I) (*O, error), more ...option) {
	register(r, http.MethodPost, id, path, words, handle, more)
}

// Put adds an operation that replaces something as a whole.
func Put[I, O any](r Routes, id, path, words string, handle func(context.Context, *I) (*O, error), more ...option) {
	register(r, http.MethodPut, id, path, words, handle, more)
}

// Remove adds an operation that takes something away; it has no body.
func Remove[I, O any](r Routes, id, path, words string, handle func(context.Context, *I) (*O, error),
	more ...option) {
	register(r, http.MethodDelete, id, path, words, handle, more)
}

func register[I, O any](r Routes, method, id, path, words string, handle func(context.Context, *I) (*O, error),
	more []option) {
	op := huma.Operation{OperationID: id, Method: method, Path: Version + path, Summary: words,
		Responses:       map[string]*huma.Response{},
		BodyReadTimeout: -1} // bodies have arrived before; a deadline here would end the connection during the answer
	op.Errors = []int{http.StatusUnprocessableEntity, http.StatusMisdirectedRequest, http.StatusForbidden,
		http.StatusInternalServerError, http.StatusServiceUnavailable}
	if method != http.MethodGet {
		op.Errors = append(op.Errors, http.StatusConflict, http.StatusInsufficientStorage)
	}
	if method == http.MethodPost || method == http.MethodPut {
		op.Errors = append(op.Errors, http.StatusBadRequest, http.StatusRequestTimeout,
			http.StatusRequestEntityTooLarge,
			http.StatusUnsupportedMediaType)
	}
	for _, o := range more {
		o(&op)
	}
	slices.Sort(op.Errors)
	huma.Register(r.API, op, answer(r.kit, handle))
	also(r.API, op)
	bound(r.API, op)
}

// bound sets a maximum for the numbers among the parameters of an operation, if they have
// none: the columns that they are compared with have 32 bits.
func bound(a huma.API, op huma.Operation) {
	most, least := float64(math.MaxInt32), float64(math.MinInt32)
	for _, p := range operation(a, op).Parameters {
		// behind the end there is nothing, however far
		if p.Schema == nil || p.Schema.Type != huma.TypeInteger || p.Name == "offset" {
			continue
		}
		if p.Schema.Maximum == nil {
			p.Schema.Maximum = &most
		}
		if p.Schema.Minimum == nil {
			p.Schema.Minimum = &least
		}
		p.Schema.PrecomputeMessages()
	}
}

// operation returns an operation as the API describes it.
func operation(a huma.API, op huma.Operation) *huma.Operation {
	made := a.OpenAPI().Paths[op.Path]
	for _, o := range []*huma.Operation{made.Get, made.Post, made.Put, made.Delete} {
		if o != nil && o.OperationID == op.OperationID {
			return o
		}
	}
	return &op
}

// also describes, for an operation with a second way to succeed, that this has
// the same content as the first.
func also(a huma.API, op huma.Operation) {
	o := operation(a, op)
	for _, status := range slices.Sorted(maps.Keys(o.Responses)) {
		if x := o.Responses[status]; strings.HasPrefix(status, "2") && status != "204" && x.Content == nil {
			for _, main := range []string{"201", "202"} {
				if m := o.Responses[main]; m != nil && m.Content != nil {
					x.Content = m.Content
				}
			}
		}
	}
}

// CanBeMissing marks an operation whose subject may not be there (404).
func CanBeMissing(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusNotFound) }

// CanBeOutdated marks an operation on something that the draft may have changed since (409).
func CanBeOutdated(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusConflict) }

// CanBeTampered marks an operation on something signed, which somebody may have changed where it
// is kept (409).
func CanBeTampered(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusConflict) }

// MakesRevision marks an operation that makes a revision (201), or only reports what it would do (200).
func MakesRevision(o *huma.Operation) {
	o.DefaultStatus = http.StatusCreated
	o.Responses["200"] = &huma.Response{Description: "Nothing was stored: a dry run, or no change"}
}

// Creates marks an operation that makes something, which Location names (201).
func Creates(o *huma.Operation) { o.DefaultStatus = http.StatusCreated }

// Starts marks an operation that starts long work, which Location names (202).
func Starts(o *huma.Operation) { o.DefaultStatus = http.StatusAccepted }

// TakesLargeText lets a whole policy text in, with its quotes.
func TakesLargeText(o *huma.Operation) { o.MaxBodyBytes = 2 * policy.MaxText }

// NeedsMatch marks an operation that replaces what the client has read, and that needs If-Match.
func NeedsMatch(o *huma.Operation) {
	o.Errors = append(o.Errors, http.StatusPreconditionFailed, http.StatusPreconditionRequired)
}

// TakesFile marks an operation that takes a file of one of the media types.
func TakesFile(types ...string) option {
	return func(o *huma.Operation) { o.RequestBody = anyBody(types...) }
}

// CanConflict marks an operation that the present state may not allow (409).
func CanConflict(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusConflict) }

// CanBeCached marks an operation that answers 304 to who has the answer already.
func CanBeCached(o *huma.Operation) {
	o.Responses[strconv.Itoa(http.StatusNotModified)] = &huma.Response{Description: http.StatusText(
		http.StatusNotModified)}
}

// NeedsToken marks an operation for scripts, with a token.
func NeedsToken(o *huma.Operation) { o.Errors = append(o.Errors, http.StatusUnauthorized) }

// Stored is the answer to something that makes a revision, or says what it would
// do.
type Stored[T any] struct {
	Status   int
	Location string `header:"Location" doc:"Of the revision that was made"`
	Body     T
}

// Made is the answer to something that makes a thing of its own.
type Made[T any] struct {
	Location string `header:"Location" doc:"Of what was made"`
	Body     T
}

// Begun is the answer to something that starts long work.
type Begun struct {
	Location string `header:"Location" doc:"Of the work: ask there how far it is"`
	Body     Job
}

// Begin answers with the job that was started.
func Begin(j jobs.Job, err error) (*Begun, error) {
	if err != nil {
		return nil, err
	}
	return &Begun{JobPath(j.ID), Job(j)}, nil
}

// All is the part of a list that is asked for; without either, all of it up to
// 10,000.
type All struct {
	Offset int `query:"offset" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"10000" default:"10000"`
}

// Everything asks for a list as a whole.
var Everything = All{Limit: 10_000}

// addressKey is where the address that a request was sent to stands in its
// context.
type addressKey struct{}

func addressed(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ctx := context.WithValue(r.Context(), addressKey{}, r.URL)
		next.ServeHTTP(w, r.WithContext(context.WithValue(ctx, CallerKey{}, r.RemoteAddr)))
	})
}

// CallerKey is where the address that a request came from stands in its context.
type CallerKey struct{}

// WayOf returns the connection that a request came by; nil: it is not one of TCP, or
// within the machine.
func WayOf(ctx context.Context) *point.Way {
	from, _ := ctx.Value(CallerKey{}).(string)
	to, _ := ctx.Value(http.LocalAddrContextKey).(net.Addr)
	if to == nil {
		return nil
	}
	a, err := netip.ParseAddrPort(from)
	b, err2 := netip.ParseAddrPort(to.String())
	if err != nil || err2 != nil || a.Addr().Unmap().IsLoopback() {
		return nil
	}
	return &point.Way{From: a.Addr().Unmap(), To: netip.AddrPortFrom(b.Addr().Unmap(), b.Port())}
}

// nextLink reports where a list goes on.
func nextLink(ctx context.Context, offset int) string {
	at, ok := ctx.Value(addressKey{}).(*url.URL)
	if !ok {
		return ""
	}
	q := at.Query()
	q.Set("offset", strconv.Itoa(offset))
	return fmt.Sprintf("<%s?%s>; rel=\"next\"", at.Path, q.Encode())
}

// List is a part of a list.
type List[T any] struct {
	Total int    `header:"Total-Count" doc:"How many there are in all"`
	Link  string `header:"Link" doc:"rel=next: where the list goes on (RFC 8288); absent at its end"`
	Body  []T
}

// Listed returns the part of a list that was asked for, and where it goes on.
func Listed[T any](ctx context.Context, part []T, total, offset int) *List[T] {
	out := &List[T]{Total: total, Body: part}
	if next := offset + len(part); next < total && len(part) > 0 {
		out.Link = nextLink(ctx, next)
	}
	return out
}

// Each returns f of every element, in order; of none, an empty list.
func Each[T, U any](all []T, f func(T) U) []U {
	out := make([]U, len(all))
	for i, x := range all {
		out[i] = f(x)
	}
	return out
}

// Cut returns the part of a whole list that was asked for.
func Cut[T any](ctx context.Context, all []T, in All) *List[T] {
	from := min(in.Offset, len(all))
	part := all[from:min(from+in.Limit, len(all))]
	if part == nil {
		part = []T{}
	}
	return Listed(ctx, part, len(all), from)
}
