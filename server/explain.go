package server

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/whatif"
	"lucidorchard/model"
	"lucidorchard/store"
)

// ReasonOut is one part of an expression that settled its answer.
type ReasonOut struct {
	Text    string      `json:"text"`
	Truth   string      `json:"truth" enum:"yes,no,undecided"`
	Key     string      `json:"key,omitempty"`
	Value   string      `json:"value,omitempty"`
	Tag     *TagOut     `json:"tag,omitempty"`
	Missing bool        `json:"missing,omitempty" doc:"The workload does not have the key"`
	Group   string      `json:"group,omitempty"`
	Kids    []ReasonOut `json:"kids,omitempty"`
}

func reasonsOut(rs []expr.Reason) []ReasonOut {
	out := []ReasonOut{}
	for _, r := range rs {
		o := ReasonOut{Text: r.Text, Truth: r.Truth.String(), Key: r.Key, Value: r.Value, Missing: r.Missing, Group: r.Group}
		if r.Tag != nil {
			t := tagOut(*r.Tag)
			o.Tag = &t
		}
		if len(r.Kids) > 0 {
			o.Kids = reasonsOut(r.Kids)
		}
		out = append(out, o)
	}
	return out
}

// RuleRef names a rule.
type RuleRef struct {
	Line     int    `json:"line"`
	Sentence string `json:"sentence" doc:"The rule as it stands in the text, without its note"`
	Note     string `json:"note,omitempty"`
	Layer    string `json:"layer"`
	Verdict  string `json:"verdict" enum:"permit,reject"`
	Author   string `json:"author,omitempty"`
	At       string `json:"at,omitempty"`
}

func ruleRef(r *policy.Rule) *RuleRef {
	if r == nil {
		return nil
	}
	bare := *r
	bare.Note = ""
	return &RuleRef{Line: r.Line, Sentence: bare.String(), Note: r.Note, Layer: r.Layer.Name, Verdict: decide.VerdictOf(r).String()}
}

// EndpointOut is one end of a conversation.
type EndpointOut struct {
	Addr     string `json:"addr"`
	Workload string `json:"workload,omitempty" doc:"Id; empty for outside"`
	Name     string `json:"name"`
	Label    string `json:"label" doc:"What the ledger calls it"`
	Lack     string `json:"lack,omitempty" doc:"A structural tag that it lacks"`
}

func endpointOut(v *reach.View, p decide.Placed, l reach.Label) EndpointOut {
	out := EndpointOut{Addr: p.Addr.String(), Name: v.Name(p), Label: l.Text, Lack: l.Lack}
	if p.Workload != estate.Outside {
		out.Workload = v.Compiled.Estate.Workload(p.Workload).ID
	}
	return out
}

// CountsOut has a number for each verdict.
type CountsOut struct {
	Permit    int `json:"permit"`
	Reject    int `json:"reject"`
	Uncovered int `json:"uncovered"`
}

func countsOut(c reach.Counts) CountsOut {
	return CountsOut{c[decide.Permit], c[decide.Reject], c[decide.Uncovered]}
}

// VerdictChange counts conversations that go from one verdict to another.
type VerdictChange struct {
	Before   string   `json:"before" enum:"permit,reject,uncovered"`
	After    string   `json:"after" enum:"permit,reject,uncovered"`
	Count    int      `json:"count"`
	Rules    []int    `json:"rules" doc:"Lines of the rules that decide afterwards"`
	Examples []string `json:"examples"`
}

// GroupChange says who joins and leaves a group.
type GroupChange struct {
	Group     string   `json:"group"`
	Joins     []string `json:"joins"`
	Leaves    []string `json:"leaves"`
	Undecided []string `json:"undecided" doc:"Those of whom it can no longer tell"`
}

// AssertChange is an assertion whose result changes.
type AssertChange struct {
	Sentence string `json:"sentence"`
	Before   string `json:"before"`
	After    string `json:"after" enum:"holds,open,broken,gone" doc:"gone: the assertion is no longer there"`
}

// Consequences is what a change does.
type Consequences struct {
	Conversations []VerdictChange `json:"conversations"`
	Changed       int             `json:"changed" doc:"Conversations that change verdict"`
	Groups        []GroupChange   `json:"groups"`
	Asserts       []AssertChange  `json:"asserts"`
	Probes        []ProbeChange   `json:"probes" doc:"Those that begin or cease to get the verdict that is expected"`
}

// ProbeChange is a probe that begins or ceases to be as expected.
type ProbeChange struct {
	Question   string `json:"question"`
	Want       string `json:"want"`
	Words      string `json:"words" doc:"What is answered then"`
	AsExpected bool   `json:"asExpected"`
}

// consequences says what an update of the draft or the estate changes.
func (s *Server) consequences(before *reach.View, snap *model.Model, u *decide.Update) Consequences {
	out := Consequences{Conversations: []VerdictChange{}, Groups: groupChanges(u), Asserts: []AssertChange{}, Probes: probeChanges(snap, u)}
	byPair := map[[2]decide.Verdict]*VerdictChange{}
	for _, ch := range before.Changes(before.With(u)) {
		out.Changed++
		k := [2]decide.Verdict{ch.Before, ch.After}
		vc := byPair[k]
		if vc == nil {
			vc = &VerdictChange{Before: k[0].String(), After: k[1].String(), Rules: []int{}}
			byPair[k] = vc
		}
		vc.Count++
		if ch.AfterRule != nil && !slices.Contains(vc.Rules, ch.AfterRule.Line) {
			vc.Rules = append(vc.Rules, ch.AfterRule.Line)
		}
		if len(vc.Examples) < 4 {
			c := before.At(ch.Index)
			vc.Examples = append(vc.Examples, before.Name(c.Client)+" → "+before.Name(c.Server)+" "+c.Point.String())
		}
	}
	for _, a := range allVerdicts {
		for _, b := range allVerdicts {
			if vc := byPair[[2]decide.Verdict{a, b}]; vc != nil {
				slices.Sort(vc.Rules)
				out.Conversations = append(out.Conversations, *vc)
			}
		}
	}
	was, is := map[string]string{}, map[string]bool{}
	for _, r := range snap.Asserts() {
		was[assertSentence(r.Assert)] = r.Outcome.String()
	}
	after := prove.Assertions(u.After)
	for _, r := range after {
		is[assertSentence(r.Assert)] = true
	}
	for _, r := range snap.Asserts() {
		if sentence := assertSentence(r.Assert); !is[sentence] {
			out.Asserts = append(out.Asserts, AssertChange{sentence, r.Outcome.String(), "gone"})
			is[sentence] = true // if it was there twice
		}
	}
	for _, r := range after {
		sentence := assertSentence(r.Assert)
		if w := was[sentence]; w != r.Outcome.String() {
			out.Asserts = append(out.Asserts, AssertChange{sentence, w, r.Outcome.String()})
		}
	}
	return out
}

func assertSentence(a *policy.Assert) string {
	bare := *a
	bare.Note = ""
	return bare.String()
}

// groupChanges says who joins and leaves groups now.
func groupChanges(u *decide.Update) []GroupChange {
	out := []GroupChange{}
	index := map[string]int{}
	change := func(g string) *GroupChange {
		i, ok := index[g]
		if !ok {
			i = len(out)
			index[g] = i
			out = append(out, GroupChange{Group: g, Joins: []string{}, Leaves: []string{}, Undecided: []string{}})
		}
		return &out[i]
	}
	at := u.After.AsOf
	seen := map[int32]bool{}
	for _, m := range u.Moved {
		if m.Outside || at.Before(m.From) || !at.Before(m.Until) || m.Before.Workload != m.After.Workload || seen[m.After.Workload] || m.After.Workload == estate.Outside {
			continue
		}
		seen[m.After.Workload] = true
		label := u.After.Estate.Workload(m.After.Workload).Label()
		u.After.EachGroup(m.After, func(g *policy.Group, now expr.Truth) {
			then := u.Before.Group(g.Name, m.Before)
			switch {
			case now == then:
			case now == expr.Yes:
				c := change(g.Name)
				c.Joins = append(c.Joins, label)
			case then == expr.Yes:
				c := change(g.Name)
				c.Leaves = append(c.Leaves, label)
			case now == expr.Undecided:
				c := change(g.Name)
				c.Undecided = append(c.Undecided, label)
			}
		})
	}
	slices.SortFunc(out, func(a, b GroupChange) int {
		return cmp.Or(len(b.Joins)+len(b.Leaves)-len(a.Joins)-len(a.Leaves), strings.Compare(a.Group, b.Group))
	})
	return out
}

// probeChanges asks the probes again after an update.
func probeChanges(snap *model.Model, u *decide.Update) []ProbeChange {
	out := []ProbeChange{}
	before := snap.Probes()
	if len(before) == 0 || u.Nothing() {
		return out
	}
	kept := make([]store.Probe, len(before))
	for i := range before {
		kept[i] = before[i].Probe
	}
	census := whatif.Count(u.After)
	for i, p := range model.AskProbes(census, kept) {
		if p.AsExpected() == before[i].AsExpected() {
			continue
		}
		c := ProbeChange{Question: p.Probe.Question, Want: p.Want, AsExpected: p.AsExpected()}
		if p.Err != nil {
			c.Words = p.Err.Message
		} else {
			c.Words = census.Words(p.Question, p.Answer)
		}
		out = append(out, c)
	}
	return out
}
