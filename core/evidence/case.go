package evidence

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// Case is what evidence is made from. It is not changed.
type Case struct {
	Promise  string // an assertion, or "group NAME"
	From, To time.Time
	Made     time.Time
	By       string

	History    *estate.History
	Structural []string      // tag keys that say where a workload belongs
	Drafts     []PolicyState // revisions up to the end, in order: the one before the start, and those within
	Releases   []Release     // up to the end, in order
	Points     []Point
	Exemptions []ExemptTime
	Events     []Happening
	Gaps       []Gap
	Traffic    *flow.Table
	Seen       func(flow.Hour) bool // whether anything was seen in an hour
}

// PolicyState is a revision of the policy.
type PolicyState struct {
	No     int
	Text   string
	Author string
	At     time.Time
	Words  string
}

// Release is a revision that was released.
type Release struct {
	No, Revision  int
	Title, Author string
	At            time.Time
	Text          string
}

// Point is an enforcement point over time.
type Point struct {
	Name, Kind, Side, Guards string
	Made, Dropped            time.Time // Dropped is zero while there is one
	Held                     []Holding // in the order of time
	Silent                   []Span    // when it was not heard of
	Drifts                   []Drift   // when it held something else than it was told
}

// Drift is a time in which a point held something else than it was told, or could not tell.
type Drift struct {
	Span
	Words string
}

// Holding is what a point holds since a time.
type Holding struct {
	At      time.Time
	Release int
	Mode    string
}

// Span is a stretch of time, half open.
type Span struct{ From, Until time.Time }

func (p *Point) at(t time.Time) Holding {
	if t.Before(p.Made) || !p.Dropped.IsZero() && !t.Before(p.Dropped) {
		return Holding{Mode: "off"}
	}
	for i := len(p.Held) - 1; i >= 0; i-- {
		if !p.Held[i].At.After(t) {
			return p.Held[i]
		}
	}
	return Holding{Mode: "off"}
}

func (p *Point) silent(t time.Time) bool {
	return slices.ContainsFunc(p.Silent, func(s Span) bool { return !t.Before(s.From) && t.Before(s.Until) })
}

func (p *Point) drifted(t time.Time) bool {
	return slices.ContainsFunc(p.Drifts, func(d Drift) bool { return !t.Before(d.From) && t.Before(d.Until) })
}

// promised reads the promise: the line that is asked of policies.
func promised(promise string) (line string, group string) {
	if name, is := strings.CutPrefix(promise, "group "); is {
		return "assert never any -> " + syntax.Name(name) + " on any", name
	}
	return strings.TrimSpace(promise), ""
}

// Read reads a promise against the text of a policy, and returns it in one layout.
func Read(text, promise string) (string, []*syntax.Error) {
	if _, group := promised(promise); group != "" {
		return promise, ask(text, promise).errs
	}
	a := ask(text, promise)
	if len(a.errs) > 0 {
		return "", a.errs
	}
	return a.policy.Asserts[a.index].Sentence(), nil
}

// asked is a policy with the promise in it.
type asked struct {
	policy   *policy.Policy
	index    int  // of the promise among its assertions
	promised bool // it stands in the text itself
	errs     []*syntax.Error
}

// ask puts the promise into the text of a policy.
func ask(text, promise string) *asked {
	line, _ := promised(promise)
	p, errs := policy.Parse(text)
	if len(errs) > 0 {
		return &asked{policy: p, errs: errs}
	}
	if i := slices.IndexFunc(p.Asserts, func(a *policy.Assert) bool { return a.Sentence() == line }); i >= 0 {
		return &asked{policy: p, index: i, promised: true}
	}
	with, errs := policy.AppendAsserts(text, line+"\n")
	if len(errs) > 0 {
		return &asked{policy: p, errs: errs}
	}
	p, _ = policy.Parse(with)
	last := 0
	for i, a := range p.Asserts { // the one that was put at the end
		if a.Line > p.Asserts[last].Line {
			last = i
		}
	}
	return &asked{policy: p, index: last}
}

// draftAt returns the draft at a time: the last revision by then, else the first one.
func (c *Case) draftAt(t time.Time) *PolicyState {
	out := &c.Drafts[0]
	for i := range c.Drafts {
		if !c.Drafts[i].At.After(t) {
			out = &c.Drafts[i]
		}
	}
	return out
}

// words says the promise in a sentence.
func words(a *policy.Assert, group string) Promise {
	if group != "" {
		return Promise{Text: group, Kind: "group", Words: "Who reaches " + group}
	}
	on := ""
	if !a.On.Any {
		on = " on " + a.On.String()
	}
	clauses := a.Clauses.String()
	left, right := sideWords(a.Left), sideWords(a.Right)
	p := Promise{Text: a.Sentence(), Kind: a.Kind.String()}
	switch a.Kind {
	case policy.Only:
		p.Words = fmt.Sprintf("Only %s may reach %s%s%s", left, right, on, clauses)
	case policy.Never:
		p.Words = fmt.Sprintf("%s may never reach %s%s%s", capital(left), right, on, clauses)
	default:
		p.Words = fmt.Sprintf("%s may always reach %s%s%s", capital(left), right, on, clauses)
	}
	return p
}

func capital(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

func sideWords(l policy.List) string {
	if l.Any {
		return "anybody"
	}
	return strings.TrimSuffix(strings.TrimPrefix(l.String(), "("), ")")
}

// precise is how many changes of the estate are looked at one by one; when there are
// more, those of the same few minutes, or hour, are looked at together.
const precise = 1000

// cuts returns the times at which something that matters may have changed, with the start
// and the end; and what changed at each. step is how long apart changes of the estate may
// be that are looked at together.
func (c *Case) cuts() (at []time.Time, causes map[time.Time][]string, step time.Duration) {
	causes = map[time.Time][]string{c.From: nil, c.To: nil}
	note := func(t time.Time, words string) {
		t = t.UTC()
		if t.After(c.From) && t.Before(c.To) {
			if _, there := causes[t]; !there {
				causes[t] = nil
			}
			if words != "" {
				causes[t] = append(causes[t], words)
			}
		}
	}
	for day := c.From; day.Before(c.To); day = day.AddDate(0, 0, 1) {
		note(day, "")
	}
	for _, d := range c.Drafts {
		note(d.At, fmt.Sprintf("revision %d of the draft, by %s: %s", d.No, d.Author, d.Words))
	}
	for i := range c.Points {
		p := &c.Points[i]
		note(p.Made, "the point "+p.Name+" was made")
		if !p.Dropped.IsZero() {
			note(p.Dropped, "the point "+p.Name+" was dropped")
		}
		for _, h := range p.Held {
			words := fmt.Sprintf("%s: release %d, %s", p.Name, h.Release, h.Mode)
			if h.Release == 0 {
				words = p.Name + ": nothing is held"
			}
			note(h.At, words)
		}
		for _, s := range p.Silent {
			note(s.From, p.Name+" fell silent")
			note(s.Until, p.Name+" was heard of again")
		}
		for _, d := range p.Drifts {
			note(d.From, p.Name+" drifted: "+d.Words)
			note(d.Until, p.Name+" held its plan again")
		}
	}
	for _, e := range c.Exemptions {
		note(e.From, fmt.Sprintf("%s is exempt, by %s: %s", e.Name, e.Author, e.Reason))
		note(e.Until, e.Name+" is not exempt any more")
	}
	changes := c.History.Changes(estate.InstantOf(c.From), estate.InstantOf(c.To))
	for _, step = range []time.Duration{0, 5 * time.Minute, time.Hour, 24 * time.Hour} {
		found := map[time.Time]bool{}
		for _, t := range changes {
			found[up(t.Time(), step)] = true
		}
		if len(found) <= precise || step == 24*time.Hour {
			for t := range found {
				note(t, "")
			}
			break
		}
	}
	return slices.SortedFunc(maps.Keys(causes), time.Time.Compare), causes, step
}

// up returns the next time that is a whole number of steps, or the time itself.
func up(t time.Time, step time.Duration) time.Time {
	if step > 0 {
		if down := t.Truncate(step); !down.Equal(t) {
			t = down.Add(step)
		}
	}
	return t
}

// changed reports what was another in a stretch of time of the estate, of workloads that
// matter.
func (c *Case) changed(after, to estate.Instant, matters func(id string) bool) []string {
	var out []string
	within := func(t estate.Instant) bool { return after.Before(t) && !to.Before(t) }
	name := func(p *estate.Past) string {
		if n := p.Were[len(p.Were)-1].Name; n != "" {
			return n
		}
		return p.ID
	}
	for i := range c.History.Past {
		p := &c.History.Past[i]
		if len(p.Were) == 0 || !matters(p.ID) {
			continue
		}
		if within(p.Added) {
			out = append(out, name(p)+" came")
		}
		for k, w := range p.Were {
			switch {
			case !within(w.Until):
			case k+1 == len(p.Were):
				out = append(out, name(p)+" was taken away")
			default:
				next := p.Were[k+1]
				out = append(out, fmt.Sprintf("%s, until then %s", strings.TrimSpace(next.Name+" "+next.OS+" "+
					next.Kind), strings.TrimSpace(w.Name+" "+w.OS+" "+w.Kind)))
			}
		}
		set := map[string]bool{}
		for k := range p.Said {
			s := &p.Said[k]
			if within(estate.InstantOf(s.At)) {
				set[s.Key] = true
				value := s.Value
				if value == "" {
					value = "nothing"
				}
				out = append(out, fmt.Sprintf("%s of %s is %s, by %s", s.Key, name(p), value, cmp.Or(s.By, s.Source)))
			}
		}
		for k := range p.Said {
			if s := &p.Said[k]; within(s.Until) && !set[s.Key] {
				out = append(out, fmt.Sprintf("%s of %s is not %s any more", s.Key, name(p), s.Value))
			}
		}
		for _, l := range p.Leases {
			if within(l.From) {
				out = append(out, fmt.Sprintf("%s took the address %s", name(p), l.Addr))
			}
			if within(l.Until) {
				out = append(out, fmt.Sprintf("%s gave up the address %s", name(p), l.Addr))
			}
		}
		for _, w := range p.Were {
			if !w.Retired.IsZero() && within(estate.InstantOf(w.Retired)) {
				out = append(out, name(p)+" retired")
			}
		}
	}
	for _, source := range sortedKeys(c.History.Ranks) {
		ranks := c.History.Ranks[source]
		for k, r := range ranks[:max(1, len(ranks))-1] {
			if within(r.Until) {
				out = append(out, fmt.Sprintf("the source %s was ranked %d, until then %d", source, ranks[k+1].Rank,
					r.Rank))
			}
		}
	}
	return out
}
