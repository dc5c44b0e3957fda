package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/model"
	"lucidorchard/releasing"
	"lucidorchard/server"
	"lucidorchard/watching"
)

// WatchOut is how what is in force held over a time.
type WatchOut struct {
	From    string       `json:"from"`
	To      string       `json:"to"`
	InForce int          `json:"inForce" doc:"The newest release that a point enforces; 0: none, and the draft judges"`
	Bins    []WatchBin   `json:"bins" doc:"Of equal length, the oldest first"`
	Sum     WatchBin     `json:"sum" doc:"Of all of them"`
	Matters []MatterOut  `json:"matters" doc:"Those that wait for somebody first, then those of the time that are seen or settled; the newest first"`
	Open    int          `json:"open" doc:"How many are new, or with somebody"`
	Watched watchedGroup `json:"watched"`
	Looking bool         `json:"looking" doc:"What was seen is still being gathered"`
}

// watchedGroup is a group that may be watched.
type watchedGroup struct {
	Groups []string `json:"groups"`
	Chosen bool     `json:"chosen" doc:"Somebody chose them; else those that assertions protect are watched"`
}

// WatchBin is what became of the connections of a stretch of time.
type WatchBin struct {
	At string `json:"at"`
	watch.Hour
}

// Watching answers how what is in force holds.
type Watching struct {
	*server.Kit
	*answers.Desk
	*watching.Service
	Releasing *releasing.Service
}

func (s *Watching) Routes(r server.Routes) {
	r.Stream("/watch/stream", s.serveStream)
	r.Feed("/watch/flows", s.serveFlows)
	server.Get(r, "watch", "/watch", "How well the policy in force held over a time: the counts and the matters",
		s.watch)
	server.Get(r, "count", "/watch/counters", "The outcomes of the connections of the last minutes, by pair or by rule",
		s.counters)
	server.Get(r, "read-matter", "/watch/matters/{id}", "A matter, with the conversations of one of its days",
		s.matter, server.CanBeMissing)
	server.Get(r, "export-matters", "/watch/matters.csv", "All matters of the last hundred days as CSV",
		s.exportMatters)
	server.Post(r, "say-of-matters", "/watch/matters/state", "Mark matters as seen, assigned or settled",
		s.say)
	s.noticeRoutes(r)
	server.Put(r, "choose-watched", "/watch/groups", "Choose the groups that are watched for new callers, missing "+
		"callers and members",
		s.choose, server.CanBeMissing)
}

// periods are the times that can be looked at, with how long they are and their bins.
var periods = map[string]struct {
	length, bin time.Duration
}{
	"hour": {time.Hour, time.Minute}, "day": {24 * time.Hour, time.Hour}, "week": {7 * 24 * time.Hour, 2 * time.Hour},
	"quarter": {91 * 24 * time.Hour, 24 * time.Hour},
}

func (s *Watching) watch(ctx context.Context, in *struct {
	Period string `query:"period" enum:"hour,day,week,quarter" default:"day"`
	To     string `query:"to" doc:"Its end, RFC 3339; without it, now, or the last conversation if that is older than a day"`
	Since  string `query:"since" doc:"Only matters that were seen from then on, RFC 3339"`
	Until  string `query:"until" doc:"Only those that were seen before then"`
}) (*server.Body[WatchOut], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	p := periods[in.Period]
	end := time.Now().UTC()
	if last := m.To.Start().Time(); m.From < m.To && end.Sub(last) > 24*time.Hour {
		end = last
	}
	if in.To != "" {
		if end, err = readTime("to", in.To); err != nil {
			return nil, err
		}
	}
	if in.Period != "hour" { // whole bins
		end = end.Add(p.bin - 1).Truncate(p.bin)
	} else {
		end = end.Truncate(time.Minute).Add(time.Minute)
	}
	from := end.Add(-p.length)
	out := WatchOut{From: from.Format(time.RFC3339), To: end.Format(time.RFC3339)}
	if out.InForce, _, err = s.Releasing.InForce(ctx, m); err != nil {
		return nil, err
	}
	for at := from; at.Before(end); at = at.Add(p.bin) {
		out.Bins = append(out.Bins, WatchBin{At: at.Format(time.RFC3339)})
	}
	if in.Period == "hour" {
		err = s.minutes(ctx, m, from, out.Bins)
	} else {
		err = s.hours(ctx, from, end, p.bin, out.Bins)
	}
	if err != nil {
		return nil, err
	}
	for _, b := range out.Bins {
		out.Sum.Add(b.Hour)
	}
	out.Sum.At = out.From
	seen, err := seenIn(in.Since, in.Until)
	if err != nil {
		return nil, err
	}
	if out.Matters, err = s.matters(ctx, from, end, seen); err != nil {
		return nil, err
	}
	for i := range out.Matters {
		if waiting(out.Matters[i].State) {
			out.Open++
		}
	}
	chosen, err := s.Watched(ctx)
	if err != nil {
		return nil, err
	}
	groups, err := s.WatchedGroups(ctx, m)
	if err != nil {
		return nil, err
	}
	out.Watched = watchedGroup{groups, len(chosen) > 0}
	if out.Looking, err = s.StillLooking(ctx, m); err != nil {
		return nil, err
	}
	return server.OK(out), nil
}

// hours fills bins of whole hours.
func (s *Watching) hours(ctx context.Context, from, end time.Time, bin time.Duration, bins []WatchBin) error {
	hours, err := s.WatchHours(ctx, flow.Hour(from.Unix()/3600), flow.Hour(end.Unix()/3600))
	for hour, h := range hours {
		bins[int(hour.Start().Time().Sub(from)/bin)].Add(h)
	}
	return err
}

// spanView returns what was seen in a span, with some of what was seen before and after it.
func (s *Watching) spanView(ctx context.Context, m *model.Model, span watch.Span) (*reach.View, error) {
	end := span.From + span.Bin*flow.Micros(span.Bins)
	first, last := flow.HourOf(span.From.Instant()), flow.HourOf((end-1).Instant())+1
	first, last = max(first, m.From), min(last, m.To)
	if first >= last {
		return nil, nil
	}
	return m.View(ctx, first, last)
}

// minutes fills bins of a minute.
func (s *Watching) minutes(ctx context.Context, m *model.Model, from time.Time, bins []WatchBin) error {
	span := watch.Span{From: flow.MicrosOf(from), Bin: 60e6, Bins: len(bins)}
	v, err := s.spanView(ctx, m, span)
	if err != nil || v == nil {
		return err
	}
	for i, h := range watch.Bins(v, span) {
		bins[i].Add(h)
	}
	return nil
}

// counterOut is what became of the connections of a pair, or of those that a rule decides.
type counterOut struct {
	Who     string   `json:"who,omitempty"`
	What    string   `json:"what,omitempty"`
	Rule    string   `json:"rule,omitempty" doc:"Blank: no rule, where counters are by rule"`
	Line    int      `json:"line,omitempty"`
	Release int      `json:"release" doc:"By which it was judged; 0: the draft"`
	Counts  WatchBin `json:"counts"`
	Carried []int64  `json:"carried" doc:"By bin: ten minutes' minutes, an hour's minutes, or a day's hours"`
	Dropped []int64  `json:"dropped"`
}

// CounterPage is some counters.
type CounterPage struct {
	Total    int          `json:"total"`
	From     string       `json:"from"`
	Counters []counterOut `json:"counters" doc:"Those of which most was dropped or leaked first, then the busiest"`
}

func (s *Watching) counters(ctx context.Context, in *struct {
	Period string `query:"period" enum:"minutes,hour,day" default:"minutes" doc:"The last ten minutes, hour or day"`
	By     string `query:"by" enum:"pair,rule" default:"pair"`
	server.Page
}) (*server.Body[CounterPage], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	span := watch.Span{Bin: 60e6, Bins: map[string]int{"minutes": 10, "hour": 60, "day": 24}[in.Period]}
	if in.Period == "day" {
		span.Bin = 3600e6
	}
	now := flow.MicrosOf(time.Now())
	span.From = (now/span.Bin+1)*span.Bin - span.Bin*flow.Micros(span.Bins)
	out := CounterPage{From: span.From.Instant().Time().Format(time.RFC3339), Counters: []counterOut{}}
	v, err := s.spanView(ctx, m, span)
	if err != nil || v == nil {
		return server.OK(out), err
	}
	all := watch.Counters(v, span, in.By == "rule")
	out.Total = len(all)
	from, to := in.Cut(len(all))
	for _, c := range all[from:to] {
		o := counterOut{Who: c.Who.Text, What: c.What.Text, Rule: c.Rule, Line: c.Line, Release: c.Release,
			Carried: c.Carried, Dropped: c.Dropped,
			Counts: WatchBin{out.From, c.Hour}}
		out.Counters = append(out.Counters, o)
	}
	return server.OK(out), nil
}

// changed is how many matters were changed.
type changed struct {
	Changed int `json:"changed"`
}

func (s *Watching) choose(ctx context.Context, in *struct {
	Body struct {
		Groups []string `json:"groups" doc:"None: those that assertions protect"`
	}
}) (*struct{}, error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return nil, s.PutWatched(ctx, m, in.Body.Groups)
}

// serveStream sends each matter as it appears, grows or is said something of (server-sent
// events, WHATWG HTML). The id of an event is when that was: whoever comes back with it in
// Last-Event-ID gets what happened since, each at least once.
func (s *Watching) serveStream(w http.ResponseWriter, r *http.Request) {
	control := http.NewResponseController(w)
	since := time.Now()
	if text := r.Header.Get("Last-Event-ID"); text != "" {
		t, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			server.WriteProblem(w,
				huma.Error422UnprocessableEntity(fmt.Sprintf("Last-Event-ID: found %q, expected the id of an event",
					text)))
			return
		}
		since = t
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	sent := map[string]string{}
	first := r.Header.Get("Last-Event-ID") == ""
	for {
		_, next := s.Kit.Events.Next()
		list, err := s.matters(r.Context(), since.Add(-time.Hour), time.Now(), every)
		if err != nil {
			return // whoever listens comes back
		}
		message := ": nothing new\n\n"
		for i := len(list) - 1; i >= 0; i-- { // the newest last
			m := &list[i]
			at := m.Last
			if m.Changed.After(at) {
				at = m.Changed
			}
			is := fmt.Sprint(m.State, m.Connections, m.Ended, at)
			was, known := sent[m.ID]
			sent[m.ID] = is
			if was == is || first || !known && at.Before(since) {
				continue
			}
			data, err := json.Marshal(m)
			if err != nil {
				return
			}
			message += fmt.Sprintf("id: %s\nevent: matter\ndata: %s\n\n", at.UTC().Format(time.RFC3339Nano), data)
		}
		first = false
		if _, err := fmt.Fprint(w, message); err != nil {
			return
		}
		if err := control.Flush(); err != nil {
			return
		}
		select {
		case <-next:
			select { // many changes are one
			case <-time.After(200 * time.Millisecond):
			case <-r.Context().Done():
				return
			}
		case <-r.Context().Done():
			return
		case <-s.Kit.Done:
			return
		case <-time.After(25 * time.Second):
		}
	}
}
