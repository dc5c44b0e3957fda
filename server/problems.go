package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net/http"
	"runtime/debug"
	"slices"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5/middleware"

	"lucidorchard/core/decide"
	"lucidorchard/database"
	"lucidorchard/disk"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// Types of problems (RFC 9457). They are names, and stay: a program may act upon
// them. What a status says of itself has the type of its status.
const (
	problemUnreadable = "/problems/unreadable"        // the request did not arrive whole, or is no JSON
	problemNoToken    = "/problems/no-token"          // a script's token is missing, unknown or revoked
	problemForbidden  = "/problems/forbidden"         // another site's page asked, or a token where none may go
	problemMissing    = "/problems/not-found"         // what it is about is not there
	problemMethod     = "/problems/no-such-method"    // the path is there, not with this method
	ProblemMoved      = "/problems/changed-meanwhile" // somebody else was faster; revision, was and now say how
	problemConflict   = "/problems/conflict"          // it does not go with what there is
	problemStored     = "/problems/already-stored"    // it was stored when it was sent the first time
	problemLacks      = "/problems/list-lacks-much"   // send it again with confirm
	problemOldAgent   = "/problems/agent-too-old"     // an enforcement point's agent does not understand this server
	problemDeleted    = "/problems/deleted"           // the point of this token was deleted
	problemLarge      = "/problems/too-large"
	problemSlow       = "/problems/too-slow" // the request came too slowly, or what it asks takes too long
	problemMedia      = "/problems/unknown-media-type"
	problemHost       = "/problems/unknown-host" // the server does not go by this name
	problemInvalid    = "/problems/invalid"      // errors say what, and where
	problemNoMatch    = "/problems/if-match-missing"
	problemFault      = "/problems/fault"
	problemUnknown    = "/problems/unknown-outcome" // whether it was stored is not known: send it again with its key
	problemBusy       = "/problems/busy"            // try again after Retry-After
	problemAway       = "/problems/database-away"
	problemFull       = "/problems/disk-full"
)

// ProblemTypes returns all types of problems, sorted.
func ProblemTypes() []string {
	all := map[string]bool{ProblemMoved: true, problemStored: true, problemLacks: true, problemUnknown: true,
		problemBusy: true}
	for _, kind := range usual {
		all[kind] = true
	}
	return slices.Sorted(maps.Keys(all))
}

// usual has the types of problems by status, where a status has only one.
var usual = map[int]string{
	http.StatusBadRequest: problemUnreadable, http.StatusUnauthorized: problemNoToken,
	http.StatusForbidden: problemForbidden, http.StatusNotFound: problemMissing,
	http.StatusMethodNotAllowed: problemMethod, http.StatusConflict: problemConflict,
	http.StatusGone: problemDeleted, http.StatusUpgradeRequired: problemOldAgent,
	http.StatusPreconditionFailed: ProblemMoved,
	http.StatusRequestTimeout:     problemSlow, http.StatusRequestEntityTooLarge: problemLarge,
	http.StatusUnsupportedMediaType: problemMedia,
	http.StatusMisdirectedRequest:   problemHost,
	http.StatusUnprocessableEntity:  problemInvalid, http.StatusPreconditionRequired: problemNoMatch,
	http.StatusInternalServerError: problemFault,
	http.StatusServiceUnavailable:  problemAway, http.StatusInsufficientStorage: problemFull,
}

// Problem is an answer that says what went wrong (RFC 9457).
type Problem struct {
	Type   string              `json:"type" doc:"A name that stays" example:"/problems/changed-meanwhile"`
	Title  string              `json:"title"`
	Status int                 `json:"status"`
	Detail string              `json:"detail" doc:"What, where, and what to do"`
	Errors []*huma.ErrorDetail `json:"errors,omitempty"`
	// Of /problems/changed-meanwhile.
	Revision int    `json:"revision,omitempty" doc:"The newest revision"`
	Was      string `json:"was,omitempty" doc:"What the request was made on"`
	Now      string `json:"now,omitempty" doc:"What stands there now"`
}

func (p *Problem) Error() string { return p.Detail }

// GetStatus returns the status for huma.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType returns the type of problems, whatever else was asked for.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

func init() {
	huma.NewError = func(status int, detail string, errs ...error) huma.StatusError {
		p := &Problem{Type: usual[status], Status: status, Title: http.StatusText(status), Detail: detail}
		for _, err := range errs {
			var d huma.ErrorDetailer
			if errors.As(err, &d) {
				p.Errors = append(p.Errors, d.ErrorDetail())
			} else if err != nil {
				p.Errors = append(p.Errors, &huma.ErrorDetail{Message: err.Error()})
			}
		}
		return p
	}
}

// problem is an answer that says what went wrong, with a type of its own.
func newProblem(status int, kind, detail string) error {
	return &Problem{Type: kind, Status: status, Title: http.StatusText(status), Detail: detail}
}

// Failed reports what an error of what the server stands on means to a client. What
// caused it is logged, and not told: it may name users, hosts and queries.
func (s *Kit) Failed(ctx context.Context, err error) error {
	var (
		unknown  *database.UnknownError
		repeated *database.RepeatedError
		full     *disk.FullError
		fault    *model.Fault
		told     huma.StatusError
		said     *refuse.Problem
		cost     *decide.CostError
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
		case refuse.IsMissing:
			return huma.Error404NotFound(said.Detail)
		case refuse.IsMoved:
			return &Problem{ProblemMoved, http.StatusText(http.StatusConflict), http.StatusConflict, said.Detail, nil,
				said.Revision, said.Was, said.Now}
		case refuse.IsLacking:
			return newProblem(http.StatusConflict, problemLacks, said.Detail)
		case refuse.IsConflict:
			return huma.Error409Conflict(said.Detail)
		}
		if said.Where != "" {
			return huma.Error422UnprocessableEntity(said.Detail,
				&huma.ErrorDetail{Location: said.Where, Message: said.Detail, Value: said.Found})
		}
		return huma.Error422UnprocessableEntity(said.Detail)
	case errors.As(err, &cost):
		return huma.Error422UnprocessableEntity(cost.Words + "; nothing was changed")
	case errors.As(err, &repeated):
		return newProblem(http.StatusConflict, problemStored, refuse.Words(err))
	case errors.As(err, &full):
		cause(slog.LevelWarn, "the disk is too full to store")
		return newProblem(http.StatusInsufficientStorage, problemFull, refuse.Words(err))
	case database.Full(err):
		cause(slog.LevelError, "the database has no room")
		return newProblem(http.StatusInsufficientStorage, problemFull, refuse.Words(err))
	case errors.As(err, &fault):
		return s.fault(ctx, fault.Value, fault.Stack)
	case errors.As(err, &unknown):
		cause(slog.LevelError, "the outcome of a transaction is unknown")
		return newProblem(http.StatusServiceUnavailable, problemUnknown,
			"the database connection was lost during the commit, so it is unknown whether this was stored. A repeat "+
				"with the same Idempotency-Key is safe; without a key, check first")
	case database.Refused(err) != nil:
		return huma.Error422UnprocessableEntity(refuse.Words(err))
	case ctx.Err() != nil && errors.Is(err, context.Canceled): // nobody waits for the answer any more
		cause(slog.LevelInfo, "a request was cancelled: its client disconnected")
		return newProblem(http.StatusServiceUnavailable, problemBusy,
			"the connection ended before the answer was ready; check whether the change was stored before you send "+
				"it again")
	case errors.Is(err, context.DeadlineExceeded) && errors.Is(ctx.Err(), context.DeadlineExceeded):
		cause(slog.LevelError, "a request took too long and was ended")
		return newProblem(http.StatusServiceUnavailable, problemSlow, fmt.Sprintf(
			"the answer took longer than %d minutes, so the server stopped; request a smaller part",
			int(longest.Minutes())))
	}
	cause(slog.LevelError, "the database cannot be used")
	return newProblem(http.StatusServiceUnavailable, problemAway, refuse.Words(err))
}

// answer makes a handler whose errors are said as failed says them: a handler
// gives back the error that it met, and only here it becomes a status.
func answer[I, O any](b *Kit, handle func(context.Context, *I) (*O, error)) func(context.Context, *I) (*O, error) {
	return func(ctx context.Context, in *I) (*O, error) {
		out, err := handle(ctx, in)
		if err != nil {
			return nil, b.Failed(ctx, err)
		}
		return out, nil
	}
}

// fault answers what the program itself has done wrong.
func (s *Kit) fault(ctx context.Context, value any, stack []byte) error {
	id := middleware.GetReqID(ctx)
	if f, ok := value.(*decide.Failure); ok {
		value, stack = f.Value, f.Stack
	}
	s.Log.Error("the program has a fault", "request", id, "panic", value, "stack", string(stack))
	return newProblem(http.StatusInternalServerError, problemFault,
		"the server failed to answer because of a bug; its log has the details under request "+id+
			". Stored data is unchanged")
}

// recovered answers a request whose handler panics.
func (s *Kit) recovered(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		defer func() {
			p := recover()
			if p == nil {
				return
			}
			if p == http.ErrAbortHandler { //nolint:errorlint // the value itself
				panic(p)
			}
			WriteProblem(w, s.fault(r.Context(), p, debug.Stack()))
		}()
		next.ServeHTTP(w, r)
	})
}

// WriteProblem answers outside of the API's own handlers.
func WriteProblem(w http.ResponseWriter, err error) {
	var m *Problem
	if !errors.As(err, &m) {
		m = &Problem{Type: problemFault, Status: http.StatusInternalServerError,
			Title: http.StatusText(http.StatusInternalServerError), Detail: err.Error()}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.Header().Del("Content-Encoding")
	w.WriteHeader(m.Status)
	_, _ = w.Write(jsonOf(m))
}

// busy refuses work that there is too much of already.
func busy(h http.Header, after time.Duration) error {
	h.Set("Retry-After", strconv.Itoa(int(after.Seconds())))
	return newProblem(http.StatusServiceUnavailable, problemBusy,
		"the server is busy with other large requests; try again in a moment")
}
