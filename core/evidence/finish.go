package evidence

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
)

// finish puts together what was found stretch by stretch.
func (m *making) finish(step time.Duration) {
	out := m.out
	out.MayLast, out.MembersLast = waysOf(&m.last), sorted(m.last.members)
	if m.last.broken != nil {
		out.Breaks = append(out.Breaks, *m.last.broken)
	}
	for i := range out.Days {
		day := m.days[out.Days[i].Day]
		m.unknown(day)
		day.State = day.state()
		day.Shown = day.State.shown()
		out.Days[i] = *day
		*out.Counts.of(day.State)++
		out.Counts.Days++
	}
	if step > 0 {
		out.Notes = append(out.Notes,
			fmt.Sprintf("Changes of tags and addresses are so many that those of the same %s are looked at together.",
				stepWords(step)))
	}
	out.Notes = append(out.Notes,
		"Traffic is counted by the hour: what of an hour fell before and after a change is told apart by when a conversation was first seen in it.")
	m.versions()
	m.points()
	m.finishCallers()
	for _, e := range m.Exemptions {
		if e.From.Before(m.To) && e.Until.After(m.From) && m.seen[e.Workload] {
			out.Exemptions = append(out.Exemptions, e)
		}
	}
	out.Changes, out.Gaps = m.Events, m.Gaps
	out.Inputs = m.inputs.done()
	blank(&out.Breaks)
	blank(&out.Versions)
	blank(&out.MayFirst)
	blank(&out.MayLast)
	blank(&out.MayChanges)
	blank(&out.Callers)
	blank(&out.MemberChanges)
	blank(&out.Exemptions)
	blank(&out.Points)
	blank(&out.Changes)
	blank(&out.Gaps)
	out.Sentence = out.sentence()
}

// blank makes a list that is written as [] where there is none.
func blank[T any](list *[]T) {
	if *list == nil {
		*list = []T{}
	}
}

func stepWords(step time.Duration) string {
	switch step {
	case time.Hour:
		return "hour"
	case 24 * time.Hour:
		return "day"
	}
	return plural.Of(int(step.Minutes()), "minute")
}

// unknown counts the hours of a day in which nothing was seen anywhere.
func (m *making) unknown(day *Day) {
	start, _ := time.Parse(time.DateOnly, day.Day)
	from, to := start, start.AddDate(0, 0, 1)
	if from.Before(m.From) {
		from = m.From
	}
	if to.After(m.To) {
		to = m.To
	}
	for h := flow.Hour(from.Unix() / 3600); int64(h+1)*3600 <= to.Unix(); h++ {
		if !m.Seen(h) {
			day.UnknownHours++
		}
	}
}

// shown reports what a state comes to.
func (s State) shown() string {
	switch s {
	case Held:
		return "kept"
	case Broken, Leaked:
		return "broken"
	}
	return "cannot be shown"
}

func (d *Day) state() State {
	switch {
	case d.Broken > 0:
		return Broken
	case d.leaked:
		return Leaked
	case d.Open > 0:
		return open
	case d.Undefined > 0:
		return undefined
	case d.None > 0:
		return None
	case d.partly:
		return Partly
	case d.UnknownHours > 0:
		return Unknown
	}
	return Held
}

func (c *DayCounts) of(s State) *int {
	return map[State]*int{Broken: &c.Broken, Leaked: &c.Leaked, open: &c.Open, undefined: &c.Undefined, None: &c.None,
		Partly:  &c.Partly,
		Unknown: &c.Unknown, Held: &c.Held}[s]
}

// sentence is the answer.
func (e *Evidence) sentence() string {
	c := &e.Counts
	days := plural.Of(c.Days, "day")
	var out string
	switch {
	case c.Held == c.Days && e.Promise.Kind == "group":
		out = fmt.Sprintf("On each of %s what was in force was enforced, and nothing leaked.", days)
	case c.Held == c.Days:
		out = fmt.Sprintf("It was kept on each of %s: it was in force and enforced, and nothing leaked.", days)
	case !slices.ContainsFunc(e.Days, func(d Day) bool { return d.Holds+d.Open+d.Broken+d.Undefined > 0 }):
		out = fmt.Sprintf("Nothing was in force there on any of %s.", days)
	default:
		var parts []string
		for _, x := range []struct {
			n     int
			words string
		}{{c.Broken, "what was in force broke it"}, {c.Leaked, "something leaked"},
			{c.Open, "what was in force left it open"},
			{c.Undefined, "what was in force did not know it"}, {c.None, "it was not in force all day"},
			{c.Partly, "it was not enforced everywhere all day"},
			{c.Unknown, "of some hours nothing is known"}} {
			if x.n > 0 {
				parts = append(parts, fmt.Sprintf("on %d %s", x.n, x.words))
			}
		}
		out = fmt.Sprintf("It was kept on %d of %s; %s.", c.Held, days, strings.Join(parts, ", "))
	}
	if e.Promise.Kind == "group" || e.Promise.Kind == "always" {
		return out
	}
	if e.Against == 0 {
		return out + " No connection was carried that it speaks against."
	}
	return out + fmt.Sprintf(" %s carried that it speaks against.", plural.Of(int(e.Against), "connection was",
		"connections were"))
}

// versions gathers the releases that the points concerned had loaded.
func (m *making) versions() {
	for _, r := range m.Releases {
		span, held := m.spans[r.No]
		if !held {
			continue
		}
		sum := sha256.Sum256([]byte(r.Text))
		m.out.Versions = append(m.out.Versions, versionTime{Release: r.No, Revision: r.Revision, Title: r.Title,
			Author: r.Author, At: r.At.UTC(),
			From: span.From, Until: span.Until, Promised: m.parsed(r.Text).promised || m.out.Promise.Kind == "group" &&
				len(m.parsed(r.Text).errs) == 0,
			SHA256: hex.EncodeToString(sum[:])})
	}
}

// points gathers the points that guarded it, and what they had loaded.
func (m *making) points() {
	for i := range m.Points {
		p := &m.Points[i]
		most := m.members[p.Name]
		if most == 0 {
			continue
		}
		at := []time.Time{m.From, m.To}
		for _, h := range p.Held {
			at = append(at, h.At)
		}
		for _, s := range p.Silent {
			at = append(at, s.From, s.Until)
		}
		for _, d := range p.Drifts {
			at = append(at, d.From, d.Until)
		}
		at = append(at, p.Made)
		if !p.Dropped.IsZero() {
			at = append(at, p.Dropped)
		}
		for k := range at {
			at[k] = at[k].UTC()
			if at[k].Before(m.From) {
				at[k] = m.From
			}
			if at[k].After(m.To) {
				at[k] = m.To
			}
		}
		slices.SortFunc(at, time.Time.Compare)
		at = slices.CompactFunc(at, time.Time.Equal)
		out := pointTime{Name: p.Name, Kind: p.Kind, Side: p.Side, Guards: p.Guards, Members: most, Held: []heldTime{}}
		for k := range at[:len(at)-1] {
			h, words := p.at(at[k]), ""
			switch {
			case p.silent(at[k]):
				h.Mode = "silent"
			case p.drifted(at[k]):
				h.Mode = "drifted"
				i := slices.IndexFunc(p.Drifts, func(d Drift) bool {
					return !at[k].Before(d.From) &&
						at[k].Before(d.Until)
				})
				words = p.Drifts[i].Words
			}
			if n := len(out.Held); n > 0 && out.Held[n-1].Release == h.Release && out.Held[n-1].Mode == h.Mode &&
				out.Held[n-1].Words == words {
				out.Held[n-1].Until = at[k+1]
				continue
			}
			out.Held = append(out.Held, heldTime{at[k], at[k+1], h.Release, h.Mode, words})
		}
		m.out.Points = append(m.out.Points, out)
	}
}

func (m *making) finishCallers() {
	for _, c := range m.callers {
		c.First, c.Last = c.First.UTC(), c.Last.UTC()
		m.out.Callers = append(m.out.Callers, *c)
	}
	first := func(is bool) int {
		if is {
			return 0
		}
		return 1
	}
	slices.SortFunc(m.out.Callers, func(a, b callerTime) int {
		return cmp.Or(first(a.Against)-first(b.Against), cmp.Compare(b.Sums.Leaks, a.Sums.Leaks),
			cmp.Compare(b.Sums.All(), a.Sums.All()),
			strings.Compare(a.Name+a.Service+a.Server+a.Rule, b.Name+b.Service+b.Server+b.Rule), a.Release-b.Release)
	})
	if n := len(m.out.Callers); n > mostCallers {
		m.out.Callers, m.out.MoreCallers = m.out.Callers[:mostCallers:mostCallers], n-mostCallers
	}
}

// inputs is what evidence is made from, as lines; of each a sum is kept.
type inputs struct {
	line func(input, text string)
	list []*input
}

type input struct {
	Input
	sum hash.Hash
}

func newInputs(line func(input, text string)) *inputs {
	if line == nil {
		line = func(string, string) {}
	}
	in := &inputs{line: line}
	for _, x := range [][2]string{
		{"policies", "The revisions of the draft and the releases: number, author, time and text"},
		{"estate", "What was on record of workloads: tags by source, addresses, with times"},
		{"points", "Enforcement points, what they held, when they were silent or drifted; exemptions"},
		{"traffic", "The conversations, by the hour, with those who are protected"},
	} {
		in.list = append(in.list, &input{Input{Name: x[0], Words: x[1]}, sha256.New()})
	}
	return in
}

// oneLine keeps a field in its place on its line.
var oneLine = strings.NewReplacer("\\", `\\`, "\n", `\n`, "\t", `\t`)

func (in *inputs) write(name string, fields ...any) {
	text := make([]string, len(fields))
	for i, f := range fields {
		switch f := f.(type) {
		case time.Time:
			text[i] = f.UTC().Format(time.RFC3339Nano)
		default:
			text[i] = oneLine.Replace(fmt.Sprint(f))
		}
	}
	line := strings.Join(text, "\t")
	for _, x := range in.list {
		if x.Name == name {
			x.Lines++
			_, _ = fmt.Fprintln(x.sum, line)
			in.line(name, line)
		}
	}
}

// state writes all but the traffic: as far as it lies before the end, so that the same
// lines come out later.
func (in *inputs) state(c *Case) {
	for _, d := range c.Drafts {
		in.write("policies", "revision", d.No, d.Author, d.At, d.Words, d.Text)
	}
	for _, r := range c.Releases {
		in.write("policies", "release", r.No, r.Revision, r.Author, r.At, r.Title, r.Text)
	}
	from, end := estate.InstantOf(c.From), estate.InstantOf(c.To)
	until := func(t estate.Instant) string { // what ended after the period had not ended
		if !t.Before(end) {
			return "-"
		}
		return t.String()
	}
	for i := range c.History.Past {
		p := &c.History.Past[i]
		if !p.Came(end) {
			continue
		}
		for _, w := range p.Were {
			if !w.Until.Before(from) {
				in.write("estate", "workload", p.ID, w.Name, w.OS, w.Kind, !w.Retired.IsZero() &&
					!w.Retired.After(c.To), until(w.Until))
			}
		}
		for _, s := range p.Said {
			if at := estate.InstantOf(s.At); !s.Until.Before(from) && !end.Before(at) {
				in.write("estate", "tag", p.ID, s.Key, s.Value, s.Source, s.By, s.At, until(s.Until))
			}
		}
		for _, l := range p.Leases {
			if !end.Before(l.From) && !l.Until.Before(from) {
				in.write("estate", "address", p.ID, l.Addr, l.From, until(l.Until))
			}
		}
	}
	for i := range c.Points {
		p := &c.Points[i]
		in.write("points", "point", p.Name, p.Kind, p.Side, p.Guards, p.Made, !p.Dropped.IsZero() &&
			!p.Dropped.After(c.To))
		for _, h := range p.Held {
			if h.At.Before(c.To) {
				in.write("points", "held", p.Name, h.At, h.Release, h.Mode)
			}
		}
		for _, s := range p.Silent {
			if s.From.Before(c.To) {
				in.write("points", "silent", p.Name, s.From, until(estate.InstantOf(s.Until)))
			}
		}
		for _, d := range p.Drifts {
			if d.From.Before(c.To) {
				in.write("points", "drifted", p.Name, d.From, until(estate.InstantOf(d.Until)), d.Words)
			}
		}
	}
	for _, e := range c.Exemptions {
		in.write("points", "exempt", e.Workload, e.Author, e.Owner, e.Reason, e.From, until(estate.InstantOf(e.Until)))
	}
}

func (in *inputs) bucket(b *flow.Bucket) {
	in.write("traffic", b.Hour.Start(), b.Client, b.Server, b.Point, b.Outcome, b.Connections, b.First, b.Last)
}

func (in *inputs) done() []Input {
	out := make([]Input, len(in.list))
	for i, x := range in.list {
		out[i] = x.Input
		out[i].SHA256 = hex.EncodeToString(x.sum.Sum(nil))
	}
	return out
}
