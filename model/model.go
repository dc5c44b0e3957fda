// Package model keeps the state of the estate that answers are made from: the
// workloads, the draft, what was compiled from both, and the conversations.
//
// A Model is one state, and never changes; a request takes one and answers all
// of its questions from it. A Keeper makes them, one after the other, in one
// goroutine of its own, and follows what is written by whom ever:
//
//	m, err := keeper.Current(ctx) // knows all that was written before
//	v, err := m.View(ctx, m.From, m.To)
//
// Model and Keeper are safe for concurrent use. The package must not know of
// HTTP. Start reading at Keeper.Current.
package model

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/syntax"
	"lucidorchard/core/whatif"
	"lucidorchard/database"
)

// Model is one state of the estate, the draft and what was seen.
type Model struct {
	database.Versions
	Estate     *estate.Estate
	Head       Revision
	Policy     *policy.Policy
	Errors     []*syntax.Error // of the stored text: an older version of the program took it
	Compiled   *decide.Compiled
	Structural []string // tag keys that say where a workload belongs
	// Inapplicable has the workloads that tags do not apply to.
	Inapplicable decide.Inapplicable
	Table        *flow.Table
	From, To     flow.Hour           // of all conversations
	Hours        map[flow.Hour]int64 // version of what is stored of each hour; not to be changed
	Made         time.Time

	kept       []Probe
	guarding   *guarding
	findings   func() []prove.Finding
	byLine     func() map[int][]prove.Finding
	users      func() map[string][]policy.Statement
	asserts    func() []prove.Result
	people     func() [][]decide.Placed
	keys       func() []string
	counts     func() []decide.GroupCount
	census     func() *whatif.Census
	probes     func() []AskedProbe
	judge      func() *reach.Judge
	turned     func() turned
	lastTurn   flow.Micros     // of any point
	exempt     map[string]bool // workloads, as judge goes by it
	acceptance func() *reach.Acceptance
	views      *views
	afters     *afters
}

// Findings returns what the draft alone says of its statements. It is found when
// first asked for, as all that follows.
func (m *Model) Findings() []prove.Finding { return m.findings() }

// FindingsAt returns those of the statement on a line.
func (m *Model) FindingsAt(line int) []prove.Finding { return m.byLine()[line] }

// Users returns the statements that name a group, in their order.
func (m *Model) Users(group string) []policy.Statement { return m.users()[group] }

// Asserts returns the results of the draft's assertions, in their order.
func (m *Model) Asserts() []prove.Result { return m.asserts() }

// People returns the endpoints of now, by their class.
func (m *Model) People() [][]decide.Placed { return m.people() }

// Keys returns all tag keys in use, in order.
func (m *Model) Keys() []string { return m.keys() }

// Counts returns how many workloads each group has, in the order of
// Policy.GroupOrder.
func (m *Model) Counts() []decide.GroupCount { return m.counts() }

// Census is what questions about traffic are put to.
func (m *Model) Census() *whatif.Census { return m.census() }

// Probes returns the probes with their answers.
func (m *Model) Probes() []AskedProbe { return m.probes() }

// ProbesUnder returns the probes with the answers of another policy's census.
func (m *Model) ProbesUnder(c *whatif.Census) []AskedProbe { return AskProbes(c, m.kept) }

// Acceptance reports what probes call rightly rejected.
func (m *Model) Acceptance() *reach.Acceptance { return m.acceptance() }

// AsOf is the instant that "now" stands for in the model.
func (m *Model) AsOf() estate.Instant { return m.Compiled.AsOf }

// Present returns how many workloads are not retired.
func (m *Model) Present() int {
	n := 0
	for _, w := range m.Estate.All() {
		if w.Retired.IsZero() {
			n++
		}
	}
	return n
}

// TagKeys returns all keys in use, the structural ones first.
func (m *Model) TagKeys() []string {
	out := slices.Clone(m.Structural)
	for _, k := range m.Keys() {
		if !slices.Contains(out, k) {
			out = append(out, k)
		}
	}
	return out
}

// derive sets what is found when first asked for. before is the model that this
// one was made from; nil: none.
func (m *Model) derive(before *Model) {
	compiled := m.Compiled
	m.deriveJudge(before)
	if before == nil || before.Estate != m.Estate {
		e := m.Estate
		m.keys = sync.OnceValue(func() []string { return keysOf(e) })
	}
	if before == nil || before.Compiled != compiled {
		m.afters = &afters{}
		m.findings = sync.OnceValue(func() []prove.Finding { return prove.Findings(compiled) })
		findings, p := m.findings, m.Policy
		m.byLine = sync.OnceValue(func() map[int][]prove.Finding {
			out := map[int][]prove.Finding{}
			for _, f := range findings() {
				out[f.Line] = append(out[f.Line], f)
			}
			return out
		})
		m.users = sync.OnceValue(func() map[string][]policy.Statement {
			out := map[string][]policy.Statement{}
			for _, item := range p.Items {
				if item.Statement == nil {
					continue
				}
				policy.EachNamed(item.Statement, func(name string) {
					if all := out[name]; len(all) == 0 || all[len(all)-1] != item.Statement {
						out[name] = append(all, item.Statement)
					}
				})
			}
			return out
		})
		m.counts = sync.OnceValue(func() []decide.GroupCount { return compiled.GroupCounts(compiled.AsOf) })
		m.people = sync.OnceValue(func() [][]decide.Placed { return compiled.Population(compiled.AsOf) })
		m.asserts = sync.OnceValue(func() []prove.Result { return prove.Assertions(compiled) })
		m.census = sync.OnceValue(func() *whatif.Census { return whatif.Count(compiled) })
	}
	if before == nil || before.Compiled != compiled || before.Versions.Probes != m.Versions.Probes {
		m.deriveProbes()
	}
}

func (m *Model) deriveProbes() {
	kept, census, version := m.kept, m.census, m.Versions.Probes
	m.probes = sync.OnceValue(func() []AskedProbe { return AskProbes(census(), kept) })
	probes := m.probes
	m.acceptance = sync.OnceValue(func() *reach.Acceptance {
		out := &reach.Acceptance{Key: fmt.Sprint(version)}
		if len(kept) == 0 {
			return out
		}
		for _, p := range probes() {
			if p.Want == "reject" && p.Question != nil {
				out.List = append(out.List, reach.Accepted{Client: p.Question.Client.Holds,
					Server: p.Question.Server.Holds, Points: p.Question.Points})
			}
		}
		return out
	})
}

// keysOf returns all tag keys of an estate, in order.
func keysOf(e *estate.Estate) []string {
	var out []string
	for _, w := range e.All() {
		k := 0
		for i := range w.Tags { // both are in order: most workloads have no new one
			for k < len(out) && out[k] < w.Tags[i].Key {
				k++
			}
			if k == len(out) || out[k] != w.Tags[i].Key {
				out = slices.Insert(out, k, w.Tags[i].Key)
			}
		}
	}
	return out
}

// AskedProbe is a probe with its answer under a model.
type AskedProbe struct {
	Probe
	Question *whatif.Question // nil: it cannot be read any more
	Answer   *whatif.Answer
	Err      *syntax.Error // why
}

// AsExpected reports whether it gets the verdict that is expected.
func (p *AskedProbe) AsExpected() bool { return p.Question != nil && p.Question.As(p.Answer) }

// AskProbes puts probes to a census.
func AskProbes(c *whatif.Census, kept []Probe) []AskedProbe {
	out := make([]AskedProbe, len(kept))
	var asked []whatif.Question
	var of []int
	for i, p := range kept {
		out[i].Probe = p
		qs, errs := c.Read(p.Question + " = " + p.Want)
		if len(errs) > 0 {
			out[i].Err = errs[0]
			continue
		}
		asked, of = append(asked, qs...), append(of, i)
	}
	for k, a := range c.AnswerAll(asked) {
		out[of[k]].Question, out[of[k]].Answer = &asked[k], a
	}
	return out
}

// View returns the conversations of a window under the draft. One that was asked
// for before is there at once.
func (m *Model) View(ctx context.Context, from, to flow.Hour) (*reach.View, error) {
	return m.views.get(ctx, viewKey{from: from, to: to}, func() *reach.View {
		return m.window(m.Table, from, to).Under(m.Compiled)
	})
}

// Stretch returns the conversations of some hours under the draft. It is not remembered:
// see View.
func (m *Model) Stretch(from, to flow.Hour) *reach.View {
	return m.window(m.Table, from, to).Under(m.Compiled)
}

// Judged returns since when points hold what was released, and so judge what is seen; false:
// nothing was released, and the draft does.
func (m *Model) Judged() (since time.Time, judged bool) {
	if m.guarding == nil || len(m.guarding.Releases) == 0 {
		return since, false
	}
	since = m.Made
	for _, p := range m.guarding.Periods {
		if p.Release != 0 && p.At.Before(since) {
			since = p.At
		}
	}
	return since, true
}

// Plus returns the model with more of what was seen, for what cannot wait until it is read.
func (m *Model) Plus(buckets []flow.Bucket) *Model {
	if len(buckets) == 0 {
		return m
	}
	next := *m
	next.Table = m.Table.Plus(buckets)
	next.From, next.To = next.Table.Span()
	next.views = &views{}
	return &next
}

// Parts returns what makes views of some rows of what was seen in some hours, as Stretch makes one of
// all of them; and what is the same for models that make the same views.
func (m *Model) Parts(from, to flow.Hour) (of func(*flow.Table) *reach.View, like Like) {
	like = Like{compiled: m.Compiled, structural: strings.Join(m.Structural, " ") + "; " + m.Inapplicable.String(),
		from: from, to: to}
	if m.judges(m.Table, from, to) {
		like.judge = m.judge()
	}
	e, structural, inapplicable := m.Estate, m.Structural, m.Inapplicable
	return func(part *flow.Table) *reach.View {
		w := reach.NewWindow(e, part, from, to)
		w.Structural, w.Inapplicable = structural, inapplicable
		w.JudgedBy(like.judge)
		return w.Under(like.compiled)
	}, like
}

// Like is what views are made by. It can be compared.
type Like struct {
	compiled   *decide.Compiled
	judge      *reach.Judge
	structural string
	from, to   flow.Hour
}

// Missing reports whether a workload lacks a tag that applies to it.
func (m *Model) Missing(i int32, key string) bool {
	return m.Inapplicable.Missing(m.Estate, i, key, m.Compiled.AsOf)
}

// judges reports whether what points held judges a window, and not the draft: from the first of them
// on. A window that was over before is judged by the draft, but one of all that is known reaches to
// the present.
func (m *Model) judges(table *flow.Table, from, to flow.Hour) bool {
	since, judged := m.Judged()
	first, end := table.Span()
	return judged && (since.Before(to.Start().Time()) || from <= first && to >= end)
}

// window cuts a window from a table.
func (m *Model) window(table *flow.Table, from, to flow.Hour) *reach.Window {
	w := reach.NewWindow(m.Estate, table, from, to)
	w.Structural, w.Inapplicable = m.Structural, m.Inapplicable
	if m.judges(table, from, to) {
		w.JudgedBy(m.judge())
	}
	return w
}

// Against is a view of the model, compared with another policy over the same
// window and estate. revision is the policy's.
func (m *Model) Against(ctx context.Context, v *reach.View, revision int, p *policy.Policy) (*reach.View, error) {
	return m.views.get(ctx, viewKey{v.From, v.To, revision}, func() *reach.View {
		return v.Compared(v.With(m.Compiled.WithPolicy(p, m.Compiled.AsOf)))
	})
}

// Of makes a model of an estate and a policy, without conversations and probes.
func Of(e *estate.Estate, p *policy.Policy, asOf estate.Instant) *Model {
	m := &Model{Estate: e, Policy: p, Compiled: decide.Compile(e, p, asOf), Structural: reach.Structural,
		Table: flow.NewTable(), views: &views{}, afters: &afters{}}
	m.derive(nil)
	return m
}
