package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sync"
	"time"

	"lucidorchard/store"
)

// Event is what open pages are told: the versions of what there is now. One that
// differs from the last says what has changed.
type Event struct {
	store.Versions
	Other int64 `json:"other"` // counts changes of all else: jobs, refusals, selections
}

// events tells open pages that something has changed.
type events struct {
	mu   sync.Mutex
	now  Event
	wait chan struct{}
}

// next gives what holds now, and a channel that is closed at the next change.
func (e *events) next() (Event, <-chan struct{}) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.wait == nil {
		e.wait = make(chan struct{})
	}
	return e.now, e.wait
}

// changed tells of a change of what no model holds.
func (e *events) changed() { e.tell(func(now *Event) { now.Other++ }) }

// made tells of a new model.
func (e *events) made(v store.Versions) { e.tell(func(now *Event) { now.Versions = v }) }

func (e *events) tell(change func(*Event)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	was := e.now
	if change(&e.now); e.now != was && e.wait != nil {
		close(e.wait)
		e.wait = nil
	}
}

// serveEvents sends a line for each change (server-sent events, WHATWG HTML).
func (s *Server) serveEvents(w http.ResponseWriter, r *http.Request) {
	control := http.NewResponseController(w)
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	quiet := false
	for {
		now, next := s.events.next()
		message := ": nothing new\n\n"
		if !quiet {
			data, err := json.Marshal(now)
			if err != nil {
				return
			}
			message = fmt.Sprintf("event: changed\ndata: %s\n\n", data)
		}
		if _, err := fmt.Fprint(w, message); err != nil {
			return
		}
		if err := control.Flush(); err != nil {
			return
		}
		quiet = false
		select {
		case <-next:
		case <-r.Context().Done():
			return
		case <-s.ctx.Done():
			return
		case <-time.After(25 * time.Second):
			quiet = true
		}
	}
}
