package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/ingest"
	"lucidorchard/model"
	"lucidorchard/point"
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

// watchedGroup says which groups are watched.
type watchedGroup struct {
	Groups []string `json:"groups"`
	Chosen bool     `json:"chosen" doc:"Somebody chose them; else those that assertions protect are watched"`
}

// WatchBin is what became of the connections of a stretch of time.
type WatchBin struct {
	At string `json:"at"`
	watch.Hour
}

// MatterOut is a matter.
type MatterOut struct {
	watching.Matter
	Title         []watch.Piece  `json:"title" doc:"A sentence in pieces"`
	About         watching.About `json:"about"`
	Conversations int64          `json:"conversations" doc:"Of its last day, or of the one in the time that had most"`
	Connections   int64          `json:"connections" doc:"Of the hours that the time touches; of one that was not seen in it, of its last day"`
	Carried       int64          `json:"carried" doc:"Of the connections, those that were carried"`
	Dropped       int64          `json:"dropped" doc:"Of the connections, those that were dropped; of the rest it is not known"`
	Clients       int64          `json:"clients"`
	Servers       int64          `json:"servers"`
	Days          int            `json:"days" doc:"On how many days it was seen, of the last hundred"`
	Spark         []int64        `json:"spark" doc:"Connections over the time; empty for an hour"`
	Within        bool           `json:"within" doc:"It was seen in the time"`
}

// MatterPage is a matter with all that is known of it.
type MatterPage struct {
	MatterOut
	Day    string                `json:"day" doc:"That the conversations are of"`
	OnDays []watching.MatterDay  `json:"onDays" doc:"The newest first"`
	Log    []watching.MatterWord `json:"log" doc:"The newest first"`
	Total  int                   `json:"total" doc:"Conversations of the day"`
	Talks  []matterTalk          `json:"talks" doc:"Of these, those seen last"`
	Points []matterPoint         `json:"points" doc:"That the matter speaks of"`
}

// matterTalk is a conversation of a matter.
type matterTalk struct {
	answers.ConversationOut
	Release  int    `json:"release" doc:"By which it was judged; 0: the draft"`
	Judged   string `json:"judged,omitempty" doc:"The rule that decides there, in words"`
	Line     int    `json:"line,omitempty" doc:"Of that rule"`
	Observer string `json:"observer,omitempty" doc:"Who reported it"`
}

// matterPoint is an enforcement point that a matter speaks of.
type matterPoint struct {
	Name  string `json:"name"`
	State string `json:"state"`
	Words string `json:"words,omitempty"`
	Mode  string `json:"mode"`
}

// watchAPI answers how what is in force holds.
type Watching struct {
	*server.Kit
	*answers.Desk
	*watching.Service
	Releasing *releasing.Service
}

func (s *Watching) Routes(r server.Routes) {
	r.Stream("/watch/stream", s.serveStream)
	r.Feed("/watch/flows", s.serveFlows)
	server.Get(r, "watch", "/watch", "How what is in force held over a time: the picture, and the matters to look at", s.watch)
	server.Get(r, "count", "/watch/counters", "What became of the connections of the last minutes, by pair or by rule", s.counters)
	server.Get(r, "read-matter", "/watch/matters/{id}", "A matter, with the conversations of one of its days", s.matter, server.CanBeMissing)
	server.Get(r, "export-matters", "/watch/matters.csv", "All matters of the last hundred days as CSV", s.exportMatters)
	server.Post(r, "say-of-matters", "/watch/matters/state", "Say that matters are seen, with somebody, or settled", s.say)
	s.noticeRoutes(r)
	server.Put(r, "choose-watched", "/watch/groups", "Say which groups are watched for newcomers, silence and members", s.choose, server.CanBeMissing)
}

// periods are the times that can be looked at, with how long they are and their bins.
var periods = map[string]struct {
	length, bin time.Duration
}{
	"hour": {time.Hour, time.Minute}, "day": {24 * time.Hour, time.Hour}, "week": {7 * 24 * time.Hour, 2 * time.Hour},
	"quarter": {91 * 24 * time.Hour, 24 * time.Hour},
}

// waiting is the states of matters that wait for somebody.
func waiting(m *watching.Matter) bool { return m.State == "new" || m.State == "with" }

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
		if waiting(&out.Matters[i].Matter) {
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

// spanView gives what was seen in a span, with some of what was seen before and after it.
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
		o := counterOut{Who: c.Who.Text, What: c.What.Text, Rule: c.Rule, Line: c.Line, Release: c.Release, Carried: c.Carried, Dropped: c.Dropped,
			Counts: WatchBin{out.From, c.Hour}}
		out.Counters = append(out.Counters, o)
	}
	return server.OK(out), nil
}

// matters gives those that wait, and those of a time, as far as they are to be kept.
func (s *Watching) matters(ctx context.Context, from, to time.Time, keep func(*watching.Matter, []watching.MatterDay) bool) ([]MatterOut, error) {
	list, err := s.Matters(ctx, from)
	if err != nil {
		return nil, err
	}
	days, err := s.MatterDays(ctx, to.AddDate(0, 0, -100))
	if err != nil {
		return nil, err
	}
	out := make([]MatterOut, 0, len(list))
	for i := range list {
		m := &list[i]
		if !keep(m, days[m.ID]) {
			continue
		}
		o, err := matterOut(m, days[m.ID], from, to)
		if err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b MatterOut) int { return rankOf(&a.Matter) - rankOf(&b.Matter) })
	return out, nil
}

func every(*watching.Matter, []watching.MatterDay) bool { return true }

func (s *Watching) exportMatters(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	now := time.Now()
	list, err := s.matters(ctx, now.AddDate(0, 0, -100), now, every)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("matters.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"id", "kind", "matter", "why", "state", "with", "note", "first", "last", "days", "connections", "conversations on one day"})
		for _, m := range list {
			_ = w.Write([]string{m.ID, m.Kind, watch.Plain(m.Title), m.Why, m.State, m.Holder, m.Note, m.First.UTC().Format(time.RFC3339),
				m.Last.UTC().Format(time.RFC3339), fmt.Sprint(m.Days), fmt.Sprint(m.Connections), fmt.Sprint(m.Conversations)})
		}
	}), nil
}

// seenIn keeps the matters that were seen in a time, to the hour; blank is without bound.
func seenIn(since, until string) (keep func(*watching.Matter, []watching.MatterDay) bool, err error) {
	if since == "" && until == "" {
		return every, nil
	}
	from, to := time.Time{}, time.Now().AddDate(1, 0, 0)
	for _, x := range []struct {
		text, name string
		to         *time.Time
	}{{since, "since", &from}, {until, "until", &to}} {
		if x.text == "" {
			continue
		}
		if *x.to, err = readTime(x.name, x.text); err != nil {
			return nil, err
		}
	}
	return func(m *watching.Matter, days []watching.MatterDay) bool {
		for _, d := range days {
			for h, n := range d.Hours {
				at := d.Day.UTC().Add(time.Duration(h) * time.Hour)
				if n > 0 && at.Before(to) && at.Add(time.Hour).After(from) {
					return true
				}
			}
		}
		return m.Standing && m.First.Before(to) && (m.Ended == nil || !m.Ended.Before(from))
	}, nil
}

func readTime(name, text string) (time.Time, error) {
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, huma.Error422UnprocessableEntity(fmt.Sprintf("%s: found %q, expected a time of RFC 3339 such as 2026-11-20T14:00:00Z", name, text))
	}
	return t, nil
}

func rankOf(m *watching.Matter) int {
	return map[string]int{"new": 0, "with": 1, "seen": 2, "settled": 3}[m.State]
}

// sparkBins is into how many stretches a matter's line is cut.
const matterSpark = 24

func matterOut(m *watching.Matter, days []watching.MatterDay, from, to time.Time) (out MatterOut, err error) {
	out = MatterOut{Matter: *m, Spark: []int64{}, Days: len(days)}
	if err := json.Unmarshal(m.Title, &out.Title); err != nil {
		return out, err
	}
	if err := json.Unmarshal(m.About, &out.About); err != nil {
		return out, err
	}
	span := to.Sub(from)
	if span > time.Hour { // of less than an hour nothing is known
		out.Spark = make([]int64, matterSpark)
	}
	for _, d := range days {
		in := !d.Last.Before(from) && d.First.Before(to)
		for h, n := range d.Hours {
			at := d.Day.UTC().Add(time.Duration(h) * time.Hour)
			if n == 0 || !at.Add(time.Hour).After(from) || !at.Before(to) {
				continue
			}
			out.Connections += n
			out.Carried += hourOf(d.Carried, h)
			out.Dropped += hourOf(d.Dropped, h)
			if len(out.Spark) > 0 {
				out.Spark[min(matterSpark-1, int(max(0, at.Sub(from))*matterSpark/span))] += n
			}
		}
		if in {
			out.Within = true
			out.Conversations = max(out.Conversations, d.Conversations)
			out.Clients, out.Servers = max(out.Clients, d.Clients), max(out.Servers, d.Servers)
		}
	}
	if n := len(days); !out.Within && n > 0 {
		d := days[n-1]
		out.Conversations, out.Connections, out.Clients, out.Servers = d.Conversations, d.Connections, d.Clients, d.Servers
		for h := range d.Hours {
			out.Carried += hourOf(d.Carried, h)
			out.Dropped += hourOf(d.Dropped, h)
		}
	}
	out.Within = out.Within || m.Standing && m.Ended == nil || !m.Last.Before(from) && m.Last.Before(to)
	return out, nil
}

// hourOf gives what there was in an hour of a day; of days that were looked at by earlier
// versions nothing is known.
func hourOf(hours []int64, h int) int64 {
	if h < len(hours) {
		return hours[h]
	}
	return 0
}

// talksShown is how many conversations of a matter are shown.
const talksShown = 100

func (s *Watching) matter(ctx context.Context, in *struct {
	ID  string `path:"id"`
	Day string `query:"day" doc:"One of its days, such as 2026-11-20; without it, its last"`
}) (*server.Body[MatterPage], error) {
	m, days, log, found, err := s.Matter(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if !found {
		return nil, huma.Error404NotFound("there is no matter " + in.ID)
	}
	out := MatterPage{OnDays: days, Log: log, Talks: []matterTalk{}, Points: []matterPoint{}}
	if out.OnDays == nil {
		out.OnDays = []watching.MatterDay{}
	}
	to := time.Now()
	if out.MatterOut, err = matterOut(&m, days, to.AddDate(0, 0, -100), to); err != nil {
		return nil, err
	}
	slices.Reverse(out.OnDays)
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	if len(days) > 0 {
		day := out.OnDays[0].Day.UTC()
		if in.Day != "" {
			if day, err = time.Parse(time.DateOnly, in.Day); err != nil {
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("day: found %q, expected a day such as 2026-11-20", in.Day))
			}
		}
		out.Day = day.Format(time.DateOnly)
		part, err := s.MatterOn(ctx, snap, in.ID, day)
		if err != nil {
			return nil, err
		}
		out.Total = len(part.Conversations)
		chosen := slices.Clone(part.Conversations)
		slices.SortFunc(chosen, func(a, b int32) int {
			return part.View.At(int(b)).Last.Compare(part.View.At(int(a)).Last)
		})
		for _, i := range chosen[:min(len(chosen), talksShown)] {
			out.Talks = append(out.Talks, talkOut(part.View, int(i)))
		}
	}
	if out.Points, err = s.pointsOf(ctx, out.About.Point); err != nil {
		return nil, err
	}
	return server.OK(out), nil
}

func talkOut(v *reach.View, i int) matterTalk {
	out := matterTalk{ConversationOut: answers.NewConversationOut(v, i)}
	r := v.Ruling(i)
	if out.Release = r.Release; r.Rule != nil {
		out.Judged, out.Line = r.Rule.Sentence(), r.Rule.Line
	}
	out.Observer = v.Observer(i)
	return out
}

// pointsOf gives a point that a matter names.
func (s *Watching) pointsOf(ctx context.Context, name string) ([]matterPoint, error) {
	out := []matterPoint{}
	if name == "" {
		return out, nil
	}
	points, err := s.Points(ctx)
	for _, p := range points {
		if p.Name != name || p.Said == nil {
			continue
		}
		var said point.Said
		if err := json.Unmarshal(p.Said, &said); err != nil {
			return nil, err
		}
		_, mode := said.Runs().Deciding()
		out = append(out, matterPoint{p.Name, said.State, said.Words, mode})
	}
	return out, err
}

func (s *Watching) say(ctx context.Context, in *struct {
	Body struct {
		IDs    []string   `json:"ids" minItems:"1" maxItems:"10000"`
		State  string     `json:"state" enum:"new,seen,with,settled"`
		Holder string     `json:"holder,omitempty" maxLength:"200" doc:"With whom it is"`
		Note   string     `json:"note,omitempty" maxLength:"2000" doc:"Why it is settled"`
		Again  *time.Time `json:"again,omitempty" doc:"It opens again then"`
	}
}) (*server.Body[changed], error) {
	n, err := s.Say(ctx, in.Body.IDs, in.Body.State, in.Body.Holder, in.Body.Note, in.Body.Again)
	return server.OK(changed{n}), err
}

// changed says how many were changed.
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
			server.WriteProblem(w, huma.Error422UnprocessableEntity(fmt.Sprintf("Last-Event-ID: found %q, expected the id of an event", text)))
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
