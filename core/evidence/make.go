package evidence

import (
	"context"
	"fmt"
	"slices"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

// mostCallers is how many callers are listed; the others are counted.
const mostCallers = 1000

// UnreadableError reports that the promise cannot be asked of the newest draft.
type UnreadableError struct{ Errs []*syntax.Error }

func (e *UnreadableError) Error() string { return e.Errs[0].Message }

// Make makes the evidence of a case. progress is told how much of it is done; line is given
// each line of the inputs, by their names, and may be nil.
func Make(ctx context.Context, c *Case, progress func(done float64), line func(input, text string)) (*Evidence, error) {
	m := &making{Case: c, asked: map[string]*asked{}, callers: map[callerKey]*callerTime{}, days: map[string]*Day{},
		inputs: newInputs(line),
		out:    &Evidence{Format: format, From: c.From, To: c.To, Made: c.Made, By: c.By}}
	if err := m.begin(); err != nil {
		return nil, err
	}
	at, causes, step := c.cuts()
	m.causes = causes
	for i := range at[:len(at)-1] {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		m.stretch(at[i], at[i+1], i == 0)
		progress(float64(i+1) / float64(len(at)))
	}
	m.finish(step)
	return m.out, nil
}

// making is evidence on its way.
type making struct {
	*Case
	out    *Evidence
	causes map[time.Time][]string
	asked  map[string]*asked // by text
	inputs *inputs

	known  estate.Instant // before it nothing is on record of tags
	estate *estate.Estate
	asOf   estate.Instant // of the estate
	epoch  int            // of the estate, and the draft
	draft  *asked
	base   *decide.Compiled         // the draft
	under  map[int]*decide.Compiled // by release, for the stretch
	before time.Time                // start of the last stretch

	guards      []plan.Guards // by point
	guardsEpoch int

	last    situation
	seen    map[string]bool // ids of all that were ever protected
	spans   map[int]Span    // by release: when it was held where it matters
	members map[string]int  // of points: most that they guarded of what matters
	callers map[callerKey]*callerTime
	days    map[string]*Day
	traffic servers
}

// situation is how things were for a stretch of time.
type situation struct {
	members map[string]string       // names by id
	ways    map[way]map[string]bool // clients
	ids     map[string]string       // of clients, by name
	broken  *Break                  // that goes on
	held    map[int]bool            // releases, at points that matter
}

func (m *making) begin() error {
	newest := m.parsed(m.Drafts[len(m.Drafts)-1].Text)
	if len(newest.errs) > 0 {
		return &UnreadableError{newest.errs}
	}
	_, group := promised(m.Promise)
	m.out.Promise = words(newest.policy.Asserts[newest.index], group)
	if since, known := m.History.Known(); known {
		m.known = estate.InstantOf(since.Time().Add(time.Hour))
		if end := estate.InstantOf(m.To); end.Before(m.known) {
			m.known = end
		}
		if estate.InstantOf(m.From).Before(since) {
			m.out.Notes = append(m.out.Notes,
				fmt.Sprintf("Of tags nothing is on record before %s: what they were an hour later stands in for the time before.",
					stamp(since.Time())))
		}
	}
	if first := m.Drafts[0]; m.From.Before(first.At) {
		m.out.Notes = append(m.out.Notes,
			fmt.Sprintf("Before %s there was no policy: its first draft, revision %d, stands in for the time before, and nothing was in force.",
				stamp(first.At), first.No))
	}
	m.members, m.seen, m.spans = map[string]int{}, map[string]bool{}, map[int]Span{}
	m.inputs.state(m.Case)
	return nil
}

func stamp(t time.Time) string { return t.UTC().Format("2 Jan 2006 15:04 UTC") }

func (m *making) parsed(text string) *asked {
	a := m.asked[text]
	if a == nil {
		a = ask(text, m.Promise)
		m.asked[text] = a
	}
	return a
}

// moveTo makes the estate and the draft as they were at a time.
func (m *making) moveTo(t time.Time) {
	at := estate.InstantOf(t)
	if at.Before(m.known) {
		at = m.known
	}
	draft := m.parsed(m.draftAt(t).Text)
	m.under = map[int]*decide.Compiled{}
	switch {
	case m.estate == nil:
		m.estate, _ = estate.New(m.History.At(at))
		m.base = decide.Compile(m.estate, draft.policy, at)
		m.epoch++
	default:
		put, gone := m.History.Between(m.asOf, at)
		if len(put)+len(gone) > 0 {
			e, touched, _ := m.estate.With(put, gone)
			m.estate, m.base = e, m.base.WithEstate(e, touched).After
			m.epoch++
		}
		if draft != m.draft {
			m.epoch++
		}
		if draft != m.draft || m.asOf != at {
			m.base = m.base.WithPolicy(draft.policy, at).After
		}
		if m.base.Worn() {
			m.base = decide.Compile(m.estate, draft.policy, at)
		}
	}
	m.asOf, m.draft = at, draft
}

// of returns the policy of a release, 0 being the draft, with the promise in it; nil asked
// where it cannot be, nil both where there is no such release.
func (m *making) of(release int) (*decide.Compiled, *asked) {
	if release == 0 {
		if len(m.draft.errs) > 0 {
			return m.base, nil
		}
		return m.base, m.draft
	}
	i := slices.IndexFunc(m.Releases, func(r Release) bool { return r.No == release })
	if i < 0 {
		return nil, nil
	}
	a := m.parsed(m.Releases[i].Text)
	if m.under[release] == nil {
		m.under[release] = m.base.WithPolicy(a.policy, m.asOf).After
	}
	if len(a.errs) > 0 {
		return m.under[release], nil
	}
	return m.under[release], a
}

// stretch looks at a stretch of time in which nothing changes.
func (m *making) stretch(from, until time.Time, first bool) {
	m.moveTo(from)
	newest := 0
	holds := make([]Holding, len(m.Points))
	for i := range m.Points {
		holds[i] = m.Points[i].at(from)
		newest = max(newest, holds[i].Release)
	}
	compiled, asked := m.of(newest)
	if asked == nil {
		compiled, asked = m.of(0)
	}
	now := situation{members: map[string]string{}, ways: map[way]map[string]bool{}, ids: map[string]string{},
		held: map[int]bool{}}
	var people *population
	if asked != nil {
		people = populationOf(compiled, asked.index)
		for _, w := range people.members {
			id := m.estate.Workload(w).ID
			now.members[id], m.seen[id] = m.estate.Workload(w).Label(), true
		}
	}
	day := m.day(from)
	m.cover(day, from, people, holds, &now)
	for r := range now.held {
		span, held := m.spans[r]
		if !held {
			span.From = from
		}
		span.Until = until
		m.spans[r] = span
	}
	m.prove(day, from, until, &now)
	m.ways(&now)
	m.differ(from, &now, first)
	m.look(day, from, until, people, compiled)
	m.last, m.before = now, from
}

func (m *making) day(t time.Time) *Day {
	key := t.Format(time.DateOnly)
	d := m.days[key]
	if d == nil {
		d = &Day{Day: key, Enforced: -1, Releases: []int{}}
		m.days[key] = d
		m.out.Days = append(m.out.Days, Day{Day: key})
	}
	return d
}

// population is who there is at an instant.
type population struct {
	at      *decide.Compiled
	members []int32 // workloads on the right of the promise, rising
	right   func(class int32) bool
	against func(client, server int32) bool // classes between which the promise lets nothing go
	points  service.Set
}

func populationOf(c *decide.Compiled, assert int) *population {
	left, right, agrees, points := c.AssertClasses(assert)
	kind := c.Policy.Asserts[assert].Kind
	p := &population{at: c, right: right, points: points.Real(), against: func(client, server int32) bool {
		return kind != policy.Always && left(client) == (kind == policy.Never) && agrees(client, server)
	}}
	in := map[int32]bool{}
	c.Estate.Held(c.AsOf, func(e estate.Endpoint) {
		if !in[e.Workload] && right(c.At(e.Addr, c.AsOf).Class) {
			in[e.Workload] = true
			p.members = append(p.members, e.Workload)
		}
	})
	slices.Sort(p.members)
	return p
}

// guarded returns what each point guards.
func (m *making) guarded() []plan.Guards {
	if m.guards != nil && m.guardsEpoch == m.epoch {
		return m.guards
	}
	texts := make([]string, len(m.Points))
	for i := range m.Points {
		texts[i] = m.Points[i].Guards
	}
	m.guards, m.guardsEpoch = plan.GuardedBy(m.base, texts), m.epoch
	return m.guards
}

func (m *making) exempt(t time.Time) map[string]bool {
	out := map[string]bool{}
	for _, e := range m.Exemptions {
		if !t.Before(e.From) && t.Before(e.Until) {
			out[e.Workload] = true
		}
	}
	return out
}

// cover notes how those who are protected were guarded at a time.
func (m *making) cover(day *Day, t time.Time, people *population, holds []Holding, now *situation) {
	if people == nil {
		day.Enforced = 0
		return
	}
	const none, observed, silent, drifted, enforced = 0, 1, 2, 3, 4
	best := map[int32]int{}
	exempt := m.exempt(t)
	for i, g := range m.guarded() {
		p := &m.Points[i]
		if p.Side == "client" || t.Before(p.Made) || !p.Dropped.IsZero() && !t.Before(p.Dropped) {
			continue
		}
		n := 0
		for _, w := range people.members {
			if _, in := slices.BinarySearch(g.In, w); !in || exempt[m.estate.Workload(w).ID] {
				continue
			}
			n++
			how := none
			switch {
			case holds[i].Release == 0:
			case p.silent(t):
				how = silent
			case p.drifted(t):
				how = drifted
			case holds[i].Mode == "enforce":
				how = enforced
			default:
				how = observed
			}
			best[w] = max(best[w], how)
		}
		if n == 0 {
			continue
		}
		m.members[p.Name] = max(m.members[p.Name], n)
		if r := holds[i].Release; r != 0 {
			now.held[r] = true
			if !slices.Contains(day.Releases, r) {
				day.Releases = append(day.Releases, r)
				slices.Sort(day.Releases)
			}
		}
	}
	var is [5]int
	out := 0
	for _, w := range people.members {
		if exempt[m.estate.Workload(w).ID] {
			out++
		} else {
			is[best[w]]++
		}
	}
	day.Members = max(day.Members, len(people.members))
	if day.Enforced < 0 || is[enforced] < day.Enforced {
		day.Enforced = is[enforced]
	}
	day.Drifted = max(day.Drifted, is[drifted])
	day.Observed, day.Silent, day.Exempt = max(day.Observed, is[observed]), max(day.Silent, is[silent]),
		max(day.Exempt, out)
	if is[enforced] < len(people.members) {
		day.partly = true
	}
}

// prove notes whether what was in force kept the promise.
func (m *making) prove(day *Day, from, until time.Time, now *situation) {
	seconds := int64(until.Sub(from) / time.Second)
	var worst *Break
	for release := range now.held {
		b := m.outcome(release)
		if worst == nil || rank(b.Outcome) > rank(worst.Outcome) || rank(b.Outcome) == rank(worst.Outcome) &&
			b.Release > worst.Release {
			worst = b
		}
	}
	if worst == nil {
		day.None += seconds
		if draft := m.outcome(0); rank(draft.Outcome) >= rank(day.Draft) {
			day.Draft = draft.Outcome
		}
	} else {
		switch worst.Outcome {
		case "holds":
			day.Holds += seconds
		case "open":
			day.Open += seconds
		case "broken":
			day.Broken += seconds
		default:
			day.Undefined += seconds
		}
	}
	was := m.last.broken
	if worst == nil || worst.Outcome == "holds" {
		worst = nil
	}
	switch {
	case was != nil && worst != nil && was.Outcome == worst.Outcome && was.Release == worst.Release:
		now.broken = was
		return
	case was != nil:
		until := from
		was.Until, was.Ended = &until, m.cause(from, nil)
		m.out.Breaks = append(m.out.Breaks, *was)
	}
	if worst != nil {
		worst.From, worst.Cause, worst.Ended = from, m.cause(from, nil), []string{}
		now.broken = worst
	}
}

func rank(outcome string) int {
	return slices.Index([]string{"", "holds", "open", "undefined", "broken"}, outcome)
}

// outcome asks a release, 0 being the draft, for the promise.
func (m *making) outcome(release int) *Break {
	c, a := m.of(release)
	out := &Break{Release: release, Outcome: "undefined"}
	if a == nil {
		return out
	}
	if m.out.Promise.Kind == "group" {
		out.Outcome = "holds"
		return out
	}
	r := prove.Assertion(c, a.index)
	out.Outcome = r.Outcome.String()
	if r.Outcome != prove.Holds {
		out.Example = fmt.Sprintf("%s → %s on %s", m.name(r.Client), m.name(r.Server), r.Point)
		if r.Rule != nil {
			out.Rule, out.Line = r.Rule.Sentence(), r.Rule.Line
		}
	}
	return out
}

func (m *making) name(p decide.Placed) string {
	if p.Workload == estate.Outside {
		return p.Addr.String()
	}
	return m.estate.Workload(p.Workload).Label()
}

// cause reports what changed at a time. ids are the workloads whose tags and addresses
// matter; nil: all.
func (m *making) cause(t time.Time, ids map[string]bool) []string {
	out := slices.Clone(m.causes[t])
	if !m.before.IsZero() {
		out = append(out, m.changed(estate.InstantOf(m.before), estate.InstantOf(t), func(id string) bool {
			if ids == nil {
				return true
			}
			return ids[id]
		})...)
	}
	const most = 6
	if len(out) > most {
		out = append(out[:most:most], fmt.Sprintf("and %d changes more", len(out)-most))
	}
	switch {
	case len(out) > 0:
	case m.before.IsZero():
		out = []string{"the start of the period"}
	case t.Equal(t.Truncate(24 * time.Hour)):
		out = []string{"a new day, and with it a date of the policy"}
	default:
		out = []string{"something of which nothing is on record"}
	}
	return out
}

func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func sorted(names map[string]string) []string {
	out := make([]string, 0, len(names))
	for _, n := range names {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}
