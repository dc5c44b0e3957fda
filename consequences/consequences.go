package consequences

import (
	"cmp"
	"context"
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
)

// verdictChange counts conversations that go from one verdict to another.
type verdictChange struct {
	Before   string   `json:"before" enum:"permit,reject,uncovered"`
	After    string   `json:"after" enum:"permit,reject,uncovered"`
	Count    int      `json:"count"`
	Rules    []int    `json:"rules" doc:"Lines of the rules that decide afterwards"`
	Examples []string `json:"examples"`
}

// GroupChange is the workloads that join and leave a group.
type GroupChange struct {
	Group     string   `json:"group"`
	Joins     []string `json:"joins" doc:"The first of them"`
	Leaves    []string `json:"leaves" doc:"The first of them"`
	Undecided []string `json:"undecided" doc:"The first of those of whom it can no longer tell"`

	JoinCount      int `json:"joinCount" doc:"How many join"`
	LeaveCount     int `json:"leaveCount"`
	UndecidedCount int `json:"undecidedCount"`
}

// Bounds of what is told of groups that change: many of many members would be more than
// anybody reads, and than there is memory for.
const (
	mostRulesTold  = 100
	mostGroupsTold = 1000 // that change most
	mostNamesTold  = 200  // in each list, and a hundred times as many in all
	fewNamesTold   = 3    // in each list, once the lists are long
)

// AssertChange is an assertion whose result changes.
type AssertChange struct {
	Sentence string `json:"sentence"`
	Before   string `json:"before"`
	After    string `json:"after" enum:"holds,open,broken,gone" doc:"gone: the assertion is no longer there"`
}

// Consequences is what a change does.
type Consequences struct {
	Conversations []verdictChange `json:"conversations"`
	Changed       int             `json:"changed" doc:"Conversations that change verdict"`
	Opens         Opening         `json:"opens"`
	Groups        []GroupChange   `json:"groups" doc:"Those that change most, at most 1,000"`
	GroupCount    int             `json:"groupCount" doc:"How many groups change"`
	Asserts       []AssertChange  `json:"asserts"`
	Probes        []ProbeChange   `json:"probes" doc:"Those that begin or cease to get the verdict that is expected"`
	Doubts        []string        `json:"doubts" doc:"Likely mistakes in new statements: tags that no workload has, days that have passed"`
}

// Opening is what a change permits that was not permitted, in pairs of addresses that two
// workloads hold now.
type Opening struct {
	Pairs  int `json:"pairs" doc:"Pairs of client and server that get permit on at least one point"`
	Unseen int `json:"unseen" doc:"Those of them without a conversation in the window on such a point"`
}

// ProbeChange is a probe that begins or ceases to be as expected.
type ProbeChange struct {
	Question   string `json:"question"`
	Want       string `json:"want"`
	Words      string `json:"words" doc:"What is answered then"`
	AsExpected bool   `json:"asExpected"`
}

// Changing reports what another policy text would change. What it would take too long to
// work out is refused (*decide.CostError).
func Changing(ctx context.Context, before *reach.View, m *model.Model, text string) (*Consequences, error) {
	after, err := m.After(ctx, text)
	if err != nil {
		return nil, err
	}
	out := ConsequencesOf(before, m, after)
	return &out, nil
}

// Affordable refuses a text whose groups would take too long over the estate.
func Affordable(m *model.Model, text string) error {
	p, _ := policy.Parse(text)
	return decide.Affordable(m.Compiled, p)
}

// ConsequencesOf reports what an update of the draft or the estate changes.
func ConsequencesOf(before *reach.View, snap *model.Model, change *model.After) Consequences {
	u := change.Update
	out := Consequences{Conversations: []verdictChange{}, Asserts: []AssertChange{},
		Probes: probeChanges(snap, u), Doubts: []string{}}
	opened := reach.OpenedBy(before, u)
	out.Opens = Opening{opened.Pairs, opened.Unseen}
	out.Groups = groupChanges(u)
	out.GroupCount = len(out.Groups)
	out.Groups = out.Groups[:min(mostGroupsTold, len(out.Groups))]
	if said := prove.Doubts(u.Before.Policy, u.After); said != nil {
		out.Doubts = said
	}
	byPair := map[[2]decide.Verdict]*verdictChange{}
	for _, ch := range before.Changes(change.View(before)) {
		out.Changed++
		k := [2]decide.Verdict{ch.Before, ch.After}
		vc := byPair[k]
		if vc == nil {
			vc = &verdictChange{Before: k[0].String(), After: k[1].String(), Rules: []int{}}
			byPair[k] = vc
		}
		vc.Count++
		if ch.AfterRule != nil && len(vc.Rules) < mostRulesTold && !slices.Contains(vc.Rules, ch.AfterRule.Line) {
			vc.Rules = append(vc.Rules, ch.AfterRule.Line)
		}
		if len(vc.Examples) < 4 {
			c := before.At(ch.Index)
			vc.Examples = append(vc.Examples, before.Name(c.Client)+" → "+before.Name(c.Server)+" "+c.Point.String())
		}
	}
	for _, a := range decide.Verdicts {
		for _, b := range decide.Verdicts {
			if vc := byPair[[2]decide.Verdict{a, b}]; vc != nil {
				slices.Sort(vc.Rules)
				out.Conversations = append(out.Conversations, *vc)
			}
		}
	}
	was, is := map[string]string{}, map[string]bool{}
	for _, r := range snap.Asserts() {
		was[r.Assert.Sentence()] = r.Outcome.String()
	}
	after := prove.Assertions(u.After)
	for _, r := range after {
		is[r.Assert.Sentence()] = true
	}
	for _, r := range snap.Asserts() {
		if sentence := r.Assert.Sentence(); !is[sentence] {
			out.Asserts = append(out.Asserts, AssertChange{sentence, r.Outcome.String(), "gone"})
			is[sentence] = true // if it was there twice
		}
	}
	for _, r := range after {
		sentence := r.Assert.Sentence()
		if w := was[sentence]; w != r.Outcome.String() {
			out.Asserts = append(out.Asserts, AssertChange{sentence, w, r.Outcome.String()})
		}
	}
	return out
}

// groupChanges reports who joins and leaves groups now.
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
	names := 0
	add := func(list *[]string, count *int, name string) {
		*count++
		if len(*list) < fewNamesTold || len(*list) < mostNamesTold && names < 100*mostNamesTold {
			names++
			*list = append(*list, name)
		}
	}
	// What groups say of one that moves, they say of all that move likewise.
	type difference struct {
		group     string
		then, now expr.Truth
	}
	differs := map[[2]int32][]difference{}
	differ := func(m decide.Moved) []difference {
		key := [2]int32{m.Before.Signature(), m.After.Signature()}
		list, known := differs[key]
		if !known {
			u.After.EachGroup(m.After, func(g *policy.Group, now expr.Truth) {
				if then := u.Before.Group(g.Name, m.Before); then != now {
					list = append(list, difference{g.Name, then, now})
				}
			})
			differs[key] = list
		}
		return list
	}
	at := u.After.AsOf
	seen := map[int32]bool{}
	for _, m := range u.Moved {
		if m.Outside || at.Before(m.From) || !at.Before(m.Until) || m.Before.Workload != m.After.Workload ||
			seen[m.After.Workload] || m.After.Workload == estate.Outside {
			continue
		}
		seen[m.After.Workload] = true
		label := u.After.Estate.Workload(m.After.Workload).Label()
		for _, d := range differ(m) {
			c := change(d.group)
			switch {
			case d.now == expr.Yes:
				add(&c.Joins, &c.JoinCount, label)
			case d.then == expr.Yes:
				add(&c.Leaves, &c.LeaveCount, label)
			case d.now == expr.Undecided:
				add(&c.Undecided, &c.UndecidedCount, label)
			}
		}
	}
	slices.SortFunc(out, func(a, b GroupChange) int {
		return cmp.Or(b.JoinCount+b.LeaveCount-a.JoinCount-a.LeaveCount, strings.Compare(a.Group, b.Group))
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
	kept := make([]model.Probe, len(before))
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
