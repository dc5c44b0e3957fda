package evidence_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/evidence"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/sample"
)

// start is where the instants of samples begin.
var start = time.Unix(1_795_000_000, 0).UTC()

func hour(n int) time.Time { return start.Add(time.Duration(n) * time.Hour) }

// drawnHistory makes a past for the workloads of an estate: tags that come, change and go
// at whole hours.
func drawnHistory(t *rapid.T, e *estate.Estate) *estate.History {
	since := hour(rapid.SampledFrom([]int{-48, 2}).Draw(t, "since")) // when tags were first on record
	h := &estate.History{Ranks: map[string][]estate.Rank{"": {{Rank: 5, Until: estate.End}}}}
	for _, w := range e.All() {
		p := estate.Past{ID: w.ID, Added: estate.Beginning, Were: []estate.Was{{Name: w.Name, OS: w.OS,
			Until: estate.End}}, Leases: w.Leases}
		for _, tag := range w.Tags {
			tag.At = since
			said := estate.TagSpan{Tag: tag, Until: estate.End}
			if rapid.IntRange(0, 2).Draw(t, "changes") == 0 {
				at := hour(rapid.IntRange(3, 9).Draw(t, "changed"))
				said.Until = estate.InstantOf(at)
				if value := rapid.SampledFrom([]string{"", "store", "live", "fares"}).Draw(t, "next"); value != "" {
					p.Said = append(p.Said, estate.TagSpan{Tag: estate.Tag{Key: tag.Key, Value: value, At: at},
						Until: estate.End})
				}
			}
			p.Said = append(p.Said, said)
		}
		h.Past = append(h.Past, p)
	}
	return h
}

func drawnCase(t *rapid.T) *evidence.Case {
	c := &evidence.Case{Promise: sample.Assert(t), From: hour(0), To: hour(10), Made: hour(10), By: "somebody",
		Traffic: flow.NewTable(),
		Seen:    func(flow.Hour) bool { return true }}
	p, errs := policy.Parse(
		"service web = tcp/80\nservice mix = web\narea yard = g2 owner \"crew\"\ngroup g0 = any\ngroup g1 = any\ngroup g2 = any\n" +
			"group g3 = any\ngroup g4 = any\ngroup \"10.0.0.1\" = any\ngroup \"any\" = any\nlayer x\n" + c.Promise)
	require.Empty(t, errs, c.Promise)
	c.Promise = p.Asserts[0].Sentence()
	c.History = drawnHistory(t, sample.Estate(t))
	for i := range rapid.IntRange(1, 3).Draw(t, "drafts") {
		c.Drafts = append(c.Drafts, evidence.PolicyState{No: i + 1, Text: sample.Policy(t), At: hour(3*i - 1)})
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "releases") {
		c.Releases = append(c.Releases, evidence.Release{No: i + 1, Text: sample.Policy(t), At: hour(i)})
	}
	for i := range rapid.IntRange(0, 2).Draw(t, "points") {
		point := evidence.Point{Name: fmt.Sprint("point ", i), Side: rapid.SampledFrom([]string{"server", "client",
			"both"}).Draw(t, "side"),
			Guards: sample.Expr(t, 1, -1), Made: hour(-1)}
		if rapid.Bool().Draw(t, "dropped") {
			point.Dropped = hour(rapid.IntRange(1, 9).Draw(t, "when dropped"))
		}
		for k := range len(c.Releases) {
			point.Held = append(point.Held, evidence.Holding{At: hour(2*k + i + 1), Release: c.Releases[k].No,
				Mode: rapid.SampledFrom([]string{"observe", "enforce"}).Draw(t, "mode")})
		}
		if rapid.Bool().Draw(t, "silent") {
			from := rapid.IntRange(0, 8).Draw(t, "silent from")
			point.Silent = append(point.Silent, evidence.Span{From: hour(from), Until: hour(from + 1)})
		}
		if rapid.Bool().Draw(t, "drifted") {
			from := rapid.IntRange(0, 8).Draw(t, "drifted from")
			point.Drifts = append(point.Drifts, evidence.Drift{Span: evidence.Span{From: hour(from),
				Until: hour(from + 2)}, Words: "a rule is missing"})
		}
		c.Points = append(c.Points, point)
	}
	if rapid.Bool().Draw(t, "exempt") {
		c.Exemptions = append(c.Exemptions, evidence.ExemptTime{Workload: "w0", From: hour(2), Until: hour(7)})
	}
	return c
}

// told is what an hour comes to, worked out from nothing.
type told struct {
	outcome                                              string // blank: nothing was in force
	members, enforced, observed, silent, drifted, exempt int
}

// ask works out an hour as slowly as can be: every part of it anew.
func ask(c *evidence.Case, t time.Time) told {
	at := estate.InstantOf(t)
	if since, known := c.History.Known(); known { // an hour later stands in for the time before
		if since = estate.InstantOf(since.Time().Add(time.Hour)); at.Before(since) {
			at = since
		}
	}
	e, _ := estate.New(c.History.At(at))
	compile := func(text string) (*decide.Compiled, int) {
		with, errs := policy.AppendAsserts(text, c.Promise+"\n")
		if len(errs) > 0 {
			return nil, 0
		}
		p, _ := policy.Parse(with)
		i := slices.IndexFunc(p.Asserts,
			func(a *policy.Assert) bool { return a.Line == p.Asserts[len(p.Asserts)-1].Line })
		return decide.Compile(e, p, at), i
	}
	draft := c.Drafts[0].Text
	for _, d := range c.Drafts {
		if !d.At.After(t) {
			draft = d.Text
		}
	}
	p, _ := policy.Parse(draft)
	base := decide.Compile(e, p, at)
	held := func(p evidence.Point) evidence.Holding {
		out := evidence.Holding{}
		for _, h := range p.Held {
			if !h.At.After(t) {
				out = h
			}
		}
		if !p.Dropped.IsZero() && !p.Dropped.After(t) {
			out = evidence.Holding{}
		}
		return out
	}
	newest := 0
	for _, p := range c.Points {
		newest = max(newest, held(p).Release)
	}
	ruling, index := compile(draft)
	if newest > 0 {
		if r, i := compile(c.Releases[newest-1].Text); r != nil {
			ruling, index = r, i
		}
	}
	var out told
	if ruling == nil {
		return out
	}
	_, right, _, _ := ruling.AssertClasses(index)
	members := map[int32]bool{}
	e.Held(at, func(ep estate.Endpoint) {
		if right(ruling.At(ep.Addr, at).Class) {
			members[ep.Workload] = true
		}
	})
	releases := map[int]bool{}
	best := map[int32]int{}
	exempt := func(w int32) bool {
		return slices.ContainsFunc(c.Exemptions, func(x evidence.ExemptTime) bool {
			return x.Workload == e.Workload(w).ID && !t.Before(x.From) && t.Before(x.Until)
		})
	}
	for _, p := range c.Points {
		h := held(p)
		if h.Release == 0 || p.Side == "client" {
			continue
		}
		x, _ := expr.ParseText(p.Guards)
		if plan.UnknownGroup(base, x) != "" {
			continue
		}
		for _, w := range plan.Guarded(base, []*expr.Expr{x})[0].In {
			if !members[w] || exempt(w) {
				continue
			}
			releases[h.Release] = true
			how := 1
			if slices.ContainsFunc(p.Silent, func(s evidence.Span) bool {
				return !t.Before(s.From) &&
					t.Before(s.Until)
			}) {
				how = 2
			} else if slices.ContainsFunc(p.Drifts, func(d evidence.Drift) bool {
				return !t.Before(d.From) &&
					t.Before(d.Until)
			}) {
				how = 3
			} else if h.Mode == "enforce" {
				how = 4
			}
			best[w] = max(best[w], how)
		}
	}
	out.members = len(members)
	for w := range members {
		switch {
		case exempt(w):
			out.exempt++
		case best[w] == 4:
			out.enforced++
		case best[w] == 3:
			out.drifted++
		case best[w] == 2:
			out.silent++
		case best[w] == 1:
			out.observed++
		}
	}
	order := []string{"", "holds", "open", "undefined", "broken"}
	for r := range releases {
		outcome := "undefined"
		if c, i := compile(c.Releases[r-1].Text); c != nil {
			outcome = prove.Assertions(c)[i].Outcome.String()
		}
		if slices.Index(order, outcome) > slices.Index(order, out.outcome) {
			out.outcome = outcome
		}
	}
	return out
}

// What evidence says of each day is what comes of asking each hour from nothing.
func TestEvidenceIsWhatEachHourSays(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawnCase(t)
		e, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
		var unreadable *evidence.UnreadableError
		if err != nil {
			require.ErrorAs(t, err, &unreadable)
			return
		}
		type sums struct {
			holds, open, broken, undefined, none, members, enforced, observed, silent, drifted,
			exempt int
		}
		want := map[string]*sums{}
		for i := range 10 {
			now := ask(c, hour(i))
			day := hour(i).Format(time.DateOnly)
			// An hour of the sample may lie in two days.
			for _, x := range []struct {
				day     string
				seconds int
			}{{day, 0}, {hour(i + 1).Add(-time.Second).Format(time.DateOnly), 0}} {
				s := want[x.day]
				if s == nil {
					s = &sums{enforced: 1 << 20}
					want[x.day] = s
				}
			}
			for k := range 3600 {
				s := want[hour(i).Add(time.Duration(k)*time.Second).Format(time.DateOnly)]
				switch now.outcome {
				case "holds":
					s.holds++
				case "open":
					s.open++
				case "broken":
					s.broken++
				case "undefined":
					s.undefined++
				default:
					s.none++
				}
				if k == 0 || k == 3599 {
					s.members, s.enforced = max(s.members, now.members), min(s.enforced, now.enforced)
					s.drifted = max(s.drifted, now.drifted)
					s.observed, s.silent, s.exempt = max(s.observed, now.observed), max(s.silent, now.silent),
						max(s.exempt, now.exempt)
				}
			}
		}
		for _, d := range e.Days {
			require.Equal(t, *want[d.Day], sums{int(d.Holds), int(d.Open), int(d.Broken), int(d.Undefined),
				int(d.None), d.Members, d.Enforced, d.Observed,
				d.Silent, d.Drifted, d.Exempt}, "%s\n%s", d.Day, c.Promise)
		}
		require.Len(t, e.Days, len(want))
		lasted := map[string]int64{}
		for _, b := range e.Breaks {
			until := c.To
			if b.Until != nil {
				until = *b.Until
			}
			lasted[b.Outcome] += int64(until.Sub(b.From) / time.Second)
		}
		for _, d := range e.Days {
			lasted["broken"] -= d.Broken
			lasted["open"] -= d.Open
			lasted["undefined"] -= d.Undefined
		}
		for outcome, rest := range lasted {
			require.Zero(t, rest, "breaks are the time in which it was %s", outcome)
		}
	})
}
