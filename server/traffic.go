package server

import (
	"context"
	"maps"
	"slices"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
)

// traffic is the conversations as they were last read, and what was made of
// them. It is guarded by the state's lock.
type traffic struct {
	table      *flow.Table
	hours      map[flow.Hour]int64 // version of each hour that was read
	read       int64               // version of the conversations that was read
	cost       time.Duration       // of reading and resolving, the last time
	refreshing bool
	next       time.Time // no refresh before this
}

// slow is from what cost on new traffic is read and resolved beside the answers,
// which are of the traffic before it meanwhile.
const slow = 300 * time.Millisecond

// readTraffic reads the hours that have changed since a table was read.
func (s *Server) readTraffic(ctx context.Context, table *flow.Table, known map[flow.Hour]int64) (*flow.Table, map[flow.Hour]int64, error) {
	hours, err := s.Store.Hours(ctx)
	if err != nil {
		return nil, nil, err
	}
	var changed, gone []flow.Hour
	for h, v := range hours {
		if was, ok := known[h]; !ok || was != v {
			changed = append(changed, h)
		}
	}
	for h := range known {
		if _, ok := hours[h]; !ok {
			gone = append(gone, h)
		}
	}
	if table == nil {
		table = flow.NewTable()
	}
	chunks, err := s.Store.Chunks(ctx, changed, table.Dict)
	if err != nil {
		return nil, nil, err
	}
	return table.With(chunks, gone), hours, nil
}

// loadTraffic brings the table up to a version; the lock is held. If that takes
// long it is done beside, and what was read before stays for now.
func (s *Server) loadTraffic(ctx context.Context, version int64) error {
	st := &s.state
	t := &st.traffic
	if t.table != nil && t.read == version {
		return nil
	}
	if t.table != nil && t.cost > slow && !st.urgent {
		if !t.refreshing && time.Now().After(t.next) {
			t.refreshing = true
			s.jobs.group.Go(func() { s.refreshTraffic(version) })
		}
		return nil
	}
	start := time.Now()
	table, hours, err := s.readTraffic(ctx, t.table, t.hours)
	if err != nil {
		return err
	}
	t.table, t.hours, t.read, t.cost, st.urgent = table, hours, version, time.Since(start), false
	st.windows++
	return nil
}

// refreshTraffic reads new traffic and makes the views that are in use from it,
// before it puts them in place of the old ones.
func (s *Server) refreshTraffic(version int64) {
	st := &s.state
	start := time.Now()
	st.mu.Lock()
	table, hours, snap, views := st.traffic.table, maps.Clone(st.traffic.hours), st.current, slices.Clone(st.views)
	st.mu.Unlock()
	table, hours, err := s.readTraffic(s.ctx, table, hours)
	var fresh []keptView
	if err == nil && len(views) > 0 {
		last := views[len(views)-1]
		from, to := table.Span()
		if last.from != snap.from {
			from = last.from
		}
		if last.to != snap.to {
			to = last.to
		}
		w := reach.NewWindow(snap.estate, table, from, to)
		w.Structural = snap.structural
		v := w.Under(snap.compiled)
		v.Warm()
		fresh = append(fresh, keptView{0, from, to, v})
	}
	st.mu.Lock()
	defer st.mu.Unlock()
	t := &st.traffic
	t.refreshing = false
	t.next = time.Now().Add(4 * time.Since(start)) // a quarter of the time at most
	if err != nil {
		s.Log.Error("new traffic cannot be read", "error", err)
		return
	}
	if t.read > version {
		return // something was imported meanwhile, and read at once
	}
	t.table, t.hours, t.read, t.cost = table, hours, version, time.Since(start)
	st.current.from, st.current.to = table.Span()
	st.windows++
	st.views = st.views[:0]
	for _, k := range fresh {
		k.windows = st.windows
		if k.view.Compiled == st.current.compiled {
			st.views = append(st.views, k)
		}
	}
	s.events.changed()
}
