// Package events tells open pages, and what runs in the background, that something has
// changed. It counts changes by kind and must not know more of them. Start reading at Events.
package events

import (
	"sync"

	"lucidorchard/database"
)

// Event is what open pages are told: the versions of what there is now. One that
// differs from the last says what has changed.
type Event struct {
	database.Versions
	Other  int64 `json:"other"`  // counts changes of all else: jobs, refusals, selections
	Points int64 `json:"points"` // counts changes of releases, and of what points hold
	Watch  int64 `json:"watch"`  // counts changes of matters, and of who is told of them
	Aims   int64 `json:"-"`      // counts changes of what points are to hold
}

// Events counts changes and wakes those who wait for one. Its zero value is ready to use; it is
// safe for concurrent use.
type Events struct {
	mu   sync.Mutex
	now  Event
	wait chan struct{}
}

// Next returns what holds now, and a channel that is closed at the next change.
func (e *Events) Next() (Event, <-chan struct{}) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.wait == nil {
		e.wait = make(chan struct{})
	}
	return e.now, e.wait
}

// Changed reports a change of what no model holds.
func (e *Events) Changed() { e.tell(func(now *Event) { now.Other++ }) }

// PointsChanged reports a change of releases, or of what points hold.
func (e *Events) PointsChanged() { e.tell(func(now *Event) { now.Points++ }) }

// MattersChanged reports a change of matters, or of who is told of them.
func (e *Events) MattersChanged() { e.tell(func(now *Event) { now.Watch++ }) }

// PointsAimed reports a change of what points are to hold.
func (e *Events) PointsAimed() { e.tell(func(now *Event) { now.Points++; now.Aims++ }) }

// Made reports a new model.
func (e *Events) Made(v database.Versions) { e.tell(func(now *Event) { now.Versions = v }) }

func (e *Events) tell(change func(*Event)) {
	e.mu.Lock()
	defer e.mu.Unlock()
	was := e.now
	if change(&e.now); e.now != was && e.wait != nil {
		close(e.wait)
		e.wait = nil
	}
}
