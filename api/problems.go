package api

import (
	"context"
	"errors"
	"log/slog"
	"net/http"
	"runtime/debug"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"lucidorchard/app"
	"lucidorchard/core/decide"
	"lucidorchard/disk"
	"lucidorchard/model"
	"lucidorchard/store"
)

// Types of problems (RFC 9457) that a program may act upon; others have none.
const (
	problemUnknown = "/problems/unknown-outcome" // whether it was stored is not known: send it again with its key
	problemStored  = "/problems/already-stored"  // it was stored when it was sent the first time
	problemFull    = "/problems/disk-full"
	problemBusy    = "/problems/busy" // try again after Retry-After
	problemAway    = "/problems/database-away"
	problemMoved   = "/problems/changed-meanwhile"
	problemLacks   = "/problems/list-lacks-much" // send it again with confirm
)

// problem is an answer that says what went wrong.
func problem(status int, kind, detail string) error {
	return &huma.ErrorModel{Type: kind, Status: status, Title: http.StatusText(status), Detail: detail}
}

// failed says what an error of what the server stands on means to a client. What
// caused it is logged, and not told: it may name users, hosts and queries.
func (s *base) failed(ctx context.Context, err error) error {
	var (
		unknown  *store.UnknownError
		repeated *store.RepeatedError
		changed  *store.ChangedError
		lacks    *store.LacksError
		full     *disk.FullError
		fault    *model.Fault
		told     huma.StatusError
		said     *app.Problem
	)
	cause := func(level slog.Level, words string, more ...any) {
		s.Log.Log(ctx, level, words, append([]any{"request", middleware.GetReqID(ctx), "error", err}, more...)...)
	}
	switch {
	case err == nil:
		return nil
	case errors.As(err, &told):
		return err
	case errors.As(err, &said):
		switch said.Kind {
		case app.IsMissing:
			return huma.Error404NotFound(said.Detail)
		case app.IsMoved:
			return problem(http.StatusConflict, problemMoved, said.Detail)
		}
		return huma.Error422UnprocessableEntity(said.Detail)
	case errors.As(err, &repeated):
		return problem(http.StatusConflict, problemStored, s.Told(err))
	case errors.As(err, &changed):
		return problem(http.StatusConflict, problemMoved, s.Told(err))
	case errors.As(err, &lacks):
		return problem(http.StatusConflict, problemLacks, lacks.Error()+"; nothing was changed. If the list is whole, send it again with confirm="+strconv.Itoa(lacks.Missing))
	case errors.As(err, &full):
		return problem(http.StatusInsufficientStorage, problemFull, s.Told(err))
	case store.Full(err):
		cause(slog.LevelError, "the database has no room")
		return problem(http.StatusInsufficientStorage, problemFull, s.Told(err))
	case errors.As(err, &fault):
		return s.fault(ctx, fault.Value, fault.Stack)
	case errors.As(err, &unknown):
		cause(slog.LevelError, "what became of a transaction is not known")
		return problem(http.StatusServiceUnavailable, problemUnknown, "the database went away in the very moment of storing: whether this was stored is not known. Sending the same request again with the same Idempotency-Key is safe; without one, look first")
	case store.Refused(err) != nil:
		return huma.Error422UnprocessableEntity(s.Told(err))
	case ctx.Err() != nil && errors.Is(err, context.Canceled): // nobody waits for the answer any more
		return err
	}
	cause(slog.LevelError, "the database cannot be used")
	return problem(http.StatusServiceUnavailable, problemAway, s.Told(err))
}

// answer makes a handler whose errors are said as failed says them: a handler
// gives back the error that it met, and only here it becomes a status.
func answer[I, O any](b *base, handle func(context.Context, *I) (*O, error)) func(context.Context, *I) (*O, error) {
	return func(ctx context.Context, in *I) (*O, error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, b.failed(ctx, err)
		}
		return out, nil
	}
}

// fault answers what the program itself has done wrong.
func (s *base) fault(ctx context.Context, value any, stack []byte) error {
	id := middleware.GetReqID(ctx)
	if f, ok := value.(*decide.Failure); ok {
		value, stack = f.Value, f.Stack
	}
	s.Log.Error("the program has a fault", "request", id, "panic", value, "stack", string(stack))
	return problem(http.StatusInternalServerError, "", "the program has a fault and could not answer; it is in its log under the request "+id+". What was stored before is as it was")
}

// recovered answers a request whose handler panics.
func (s *base) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			p := recover()
			if p == nil {
				return
			}
			if p == http.ErrAbortHandler { //nolint:errorlint // the value itself
				panic(p)
			}
			writeProblem(w, s.fault(r.Context(), p, debug.Stack()))
		}()
		next.ServeHTTP(w, r)
	})
}

// writeProblem answers outside of the API's own handlers.
func writeProblem(w http.ResponseWriter, err error) {
	var m *huma.ErrorModel
	if !errors.As(err, &m) {
		m = &huma.ErrorModel{Status: http.StatusInternalServerError, Title: http.StatusText(http.StatusInternalServerError), Detail: err.Error()}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Del("Content-Encoding")
	w.WriteHeader(m.Status)
	_, _ = w.Write(jsonOf(m))
}

// busy refuses work that there is too much of already.
func busy(w http.ResponseWriter, after time.Duration) {
	w.Header().Set("Retry-After", strconv.Itoa(int(after.Seconds())))
	writeProblem(w, problem(http.StatusServiceUnavailable, problemBusy, "the server is working on as many large questions as it takes at once; try again in a moment"))
}
