package rest

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/ingest"
	"lucidorchard/point"
	"lucidorchard/server"
	"lucidorchard/watching"
)

// MatterOut is a matter.
type MatterOut struct {
	Matter
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
	Day    string        `json:"day" doc:"That the conversations are of"`
	OnDays []MatterDay   `json:"onDays" doc:"The newest first"`
	Log    []MatterWord  `json:"log" doc:"The newest first"`
	Total  int           `json:"total" doc:"Conversations of the day"`
	Talks  []matterTalk  `json:"talks" doc:"Of these, those seen last"`
	Points []matterPoint `json:"points" doc:"That the matter speaks of"`
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

// waiting is the states of matters that wait for somebody.
func waiting(state string) bool { return state == "new" || state == "with" }

// matters returns those that wait, and those of a time, as far as they are to be kept.
func (s *Watching) matters(ctx context.Context, from, to time.Time, keep func(*watching.Matter,
	[]watching.MatterDay) bool) ([]MatterOut, error) {
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
	slices.SortStableFunc(out, func(a, b MatterOut) int { return rankOf(a.State) - rankOf(b.State) })
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
		_ = w.Write([]string{"id", "kind", "matter", "why", "state", "with", "note", "first", "last", "days",
			"connections", "conversations on one day"})
		for _, m := range list {
			_ = w.Write([]string{m.ID, m.Kind, watch.Plain(m.Title), m.Why, m.State, m.Holder, m.Note,
				m.First.UTC().Format(time.RFC3339),
				m.Last.UTC().Format(time.RFC3339), fmt.Sprint(m.Days), fmt.Sprint(m.Connections),
				fmt.Sprint(m.Conversations)})
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
		return t, huma.Error422UnprocessableEntity(
			fmt.Sprintf("%s: found %q, expected a time of RFC 3339 such as 2026-11-20T14:00:00Z", name, text))
	}
	return t, nil
}

func rankOf(state string) int {
	return map[string]int{"new": 0, "with": 1, "seen": 2, "settled": 3}[state]
}

// sparkBins is into how many stretches a matter's line is cut.
const matterSpark = 24

func matterOut(m *watching.Matter, days []watching.MatterDay, from, to time.Time) (out MatterOut, err error) {
	out = MatterOut{Matter: newMatter(m), Spark: []int64{}, Days: len(days)}
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
		out.Conversations, out.Connections, out.Clients, out.Servers = d.Conversations, d.Connections, d.Clients,
			d.Servers
		for h := range d.Hours {
			out.Carried += hourOf(d.Carried, h)
			out.Dropped += hourOf(d.Dropped, h)
		}
	}
	out.Within = out.Within || m.Standing && m.Ended == nil || !m.Last.Before(from) && m.Last.Before(to)
	return out, nil
}

// hourOf returns what there was in an hour of a day; of days that were looked at by earlier
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
	out := MatterPage{OnDays: server.Each(days, newMatterDay),
		Log:   server.Each(log, func(w watching.MatterWord) MatterWord { return MatterWord(w) }),
		Talks: []matterTalk{}, Points: []matterPoint{}}
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
				return nil, huma.Error422UnprocessableEntity(fmt.Sprintf(
					"day: found %q, expected a day such as 2026-11-20", in.Day))
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

// pointsOf returns a point that a matter names.
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
		var said point.Status
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
