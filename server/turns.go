package server

import (
	"context"
	"errors"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"
)

// Bounds of what is worked on at once.
const (
	largeAtOnce  = 8                // large questions
	largeOfOne   = 6                // of them of one client: others have a place at any time
	largeWaiting = 64               // that wait for their turn
	waitingOfOne = 48               // of them of one client
	largeWait    = 20 * time.Second // at most, then the client is told to come again
	longest      = 3 * time.Minute  // that a request may take, but for files
)

// large are the paths whose answers are computed over all conversations or all
// pairs.
var large = []string{
	"/check", "/report", "/ledger", "/conversations", "/flows/map", "/groups/preview", "/starters", "/groups/rename",
	"/groups/remove", "/policy", "/proposals/",
	"/settle", "/whatif", "/assertions", "/findings", "/figures", "/ask", "/tags", "/suggestions/accept",
	"/vocabulary/fix", "/imports/",
}

// turns are the places for large questions, for all clients and for each.
// It is safe for concurrent use.
type turns struct {
	mu      sync.Mutex
	working map[string]int // by client
	worked  int
	waiting []*waiter // in the order in which they came
	Wait    time.Duration
}

// waiter is a question that waits for its turn.
type waiter struct {
	client string
	begin  chan struct{} // closed when it may
}

func newTurns() *turns { return &turns{working: map[string]int{}, Wait: largeWait} }

// figures returns how many are worked on, and how many wait.
func (t *turns) figures() (worked, waiting int) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.worked, len(t.waiting)
}

func (t *turns) room(client string) bool {
	return t.worked < largeAtOnce && t.working[client] < largeOfOne
}

// Take waits for a place. Without one: the client is to come again after a time, or
// has left (0).
func (t *turns) Take(ctx context.Context, client string) (ok bool, again time.Duration) {
	t.mu.Lock()
	if t.room(client) { // whoever waits has none: of another client, at its own bound
		t.enter(client)
		t.mu.Unlock()
		return true, 0
	}
	ofIt := 0
	for _, w := range t.waiting {
		if w.client == client {
			ofIt++
		}
	}
	if len(t.waiting) >= largeWaiting || ofIt >= waitingOfOne {
		t.mu.Unlock()
		return false, 5 * time.Second
	}
	me := &waiter{client, make(chan struct{})}
	t.waiting = append(t.waiting, me)
	t.mu.Unlock()
	patience := time.NewTimer(t.Wait)
	defer patience.Stop()
	select {
	case <-me.begin:
		return true, 0
	case <-ctx.Done():
	case <-patience.C:
		again = 10 * time.Second
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if i := slices.Index(t.waiting, me); i >= 0 {
		t.waiting = slices.Delete(t.waiting, i, i+1)
		return false, again
	}
	return true, 0 // its turn came in the same moment
}

func (t *turns) enter(client string) {
	t.worked++
	t.working[client]++
}

// Leave passes a place on to the first that waits and may have it.
func (t *turns) Leave(client string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.worked--
	if t.working[client]--; t.working[client] == 0 {
		delete(t.working, client)
	}
	for i := 0; i < len(t.waiting); {
		w := t.waiting[i]
		if !t.room(w.client) {
			i++
			continue
		}
		t.enter(w.client)
		t.waiting = slices.Delete(t.waiting, i, i+1)
		close(w.begin)
	}
}

// turnKey is where a request that sends a file finds how to take its turn.
type turnKey struct{}

// limited lets so many large questions in at once; the others wait for a while,
// as long as their clients do. One that sends a file takes its turn when the file
// is here.
func (t *turns) limited(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		path, ours := strings.CutPrefix(r.URL.Path, Version)
		if !ours || !slices.ContainsFunc(large, func(p string) bool { return strings.HasPrefix(path, p) }) {
			next.ServeHTTP(w, r)
			return
		}
		client := clientOf(r)
		taken := false
		defer func() {
			if taken {
				t.Leave(client)
			}
		}()
		take := func(ctx context.Context) error {
			ok, again := t.Take(ctx, client)
			taken = ok
			switch {
			case ok:
				return nil
			case again == 0:
				return context.Cause(ctx)
			}
			return busy(w.Header(), again)
		}
		if sentAsFile(r.URL.Path) {
			next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), turnKey{}, take)))
			return
		}
		if err := take(r.Context()); err != nil {
			if r.Context().Err() == nil || !errors.Is(err, context.Cause(r.Context())) {
				WriteProblem(w, err)
			}
			return
		}
		next.ServeHTTP(w, r)
	})
}

// takeTurn waits for the turn of a request whose file is here.
func takeTurn(ctx context.Context) error {
	if take, ok := ctx.Value(turnKey{}).(func(context.Context) error); ok {
		return take(ctx)
	}
	return nil
}

// clientOf returns the address that a request came from, for bounds of one client.
func clientOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		return r.RemoteAddr
	}
	return host
}
