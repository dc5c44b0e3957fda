package app

// Deriving, and the proposals of the newest derivation as they stand.

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/store"
)

// Proposal is a rule that derivation suggests, with its evidence.
type Proposal struct {
	ID            int64    `json:"id"`
	Key           string   `json:"key" doc:"The rule without its note: what a refusal is kept under"`
	Groups        []string `json:"groups" doc:"New groups, as statements"`
	Conversations int      `json:"conversations"`
	Pairs         int      `json:"pairs" doc:"Pairs times services that were seen"`
	Opened        int      `json:"opened" doc:"Pairs times services that it opens"`
	Fill          float64  `json:"fill"`
	Connections   int64    `json:"connections"`
	Days          int      `json:"days"`
	First         string   `json:"first"`
	Last          string   `json:"last"`
	Warnings      []string `json:"warnings"`
	Why           string   `json:"why" doc:"This width: who takes part, on how many days"`
	Alone         string   `json:"alone,omitempty" doc:"Why it has to be looked at by itself; it is taken with no others"`
	Shape         string   `json:"shape,omitempty" doc:"The same for proposals that say the same of other applications"`
	Callers       []Caller `json:"callers" doc:"The busiest, at most 8"`
	CallerCount   int      `json:"callerCount"`
	Spark         []int    `json:"spark"`
	Barred        bool     `json:"barred" doc:"It lets far more in than was seen, and can only be narrowed"`
	Choices       []Choice `json:"choices" doc:"What can be taken, from narrow to wide"`
	Own           int      `json:"own" doc:"Which of the choices is the proposal itself"`

	Refused *store.Refusal `json:"refused,omitempty"`
	Again   bool           `json:"again" doc:"It was refused, but there is much more behind it now"`
}

// Choice is a rule that can be taken of a proposal.
type Choice struct {
	Words         string `json:"words" doc:"In what it differs from the proposal; blank: it is the proposal"`
	Sentence      string `json:"sentence"`
	Text          string `json:"text" doc:"The groups it needs and the rule, a line each"`
	Opened        int    `json:"opened"`
	Conversations int    `json:"conversations" doc:"Of the proposal's, those that it permits"`
}

// Caller is a client of a proposal.
type Caller struct {
	Name          string `json:"name"`
	Label         string `json:"label"`
	Conversations int    `json:"conversations"`
	Connections   int64  `json:"connections"`
	Days          int    `json:"days"`
}

// PathPoint is the proposals at one balance.
type PathPoint struct {
	derive.CurvePoint
	IDs []int64 `json:"ids" doc:"Of its proposals, in order"`
}

// GoneRule is a rule that nothing in the window needed.
type GoneRule struct {
	Line     int    `json:"line"`
	Sentence string `json:"sentence"`
	Note     string `json:"note,omitempty"`
}

// Aside is what was set aside for one reason.
type Aside struct {
	Reason        string `json:"reason"`
	Words         string `json:"words"`
	Conversations int    `json:"conversations"`
	Examples      []Talk `json:"examples" doc:"At most 50"`
}

// NamedTag is a tag that proposals stand on and that a workload lacks, or misspells.
type NamedTag struct {
	derive.MissingTag
	Name string `json:"name" doc:"The workload's"`
}

// Talk names a conversation.
type Talk struct {
	Client  TalkEnd `json:"client"`
	Server  TalkEnd `json:"server"`
	Service string  `json:"service"`
	First   string  `json:"first"`
	Signs   string  `json:"signs,omitempty" doc:"What speaks against it"`
}

// TalkEnd is one end of a conversation.
type TalkEnd struct {
	Addr string `json:"addr"`
	Name string `json:"name"`
}

// Derived is a derivation as it stands in the draft.
type Derived struct {
	ID         int64       `json:"id"`
	Revision   int         `json:"revision" doc:"That it was derived on"`
	Balance    float64     `json:"balance"`
	Considered int         `json:"considered" doc:"Conversations that no rule decided, and that were not only dropped"`
	Dropped    int         `json:"dropped" doc:"Conversations that no rule decided, and that the network only dropped: nothing is proposed for them"`
	Covered    int         `json:"covered"`
	Scope      string      `json:"scope,omitempty" doc:"What it was limited to: the group or area"`
	From       string      `json:"from"`
	To         string      `json:"to"`
	Path       []PathPoint `json:"path" doc:"The proposals of each balance"`
	Gone       []GoneRule  `json:"gone" doc:"Rules of the draft that nothing in the window needed"`
	Aside      []Aside     `json:"aside"`
	Tags       []NamedTag  `json:"tags" doc:"Worth setting, that which settles most first"`
	Proposals  []Proposal  `json:"-"` // of all balances, each once; then those that are barred
}

// DeriveScope limits what is proposed to what touches a group; its zero value to
// nothing.
type DeriveScope struct {
	Group string // the name of a group
	Area  string // or of an area: the same for its group
}

// DerivationMade is the result of a job that derives.
type DerivationMade struct {
	Derivation int64 `json:"derivation"`
	Proposals  int   `json:"proposals"`
}

// Derive starts deriving proposals from the conversations of a view.
func (a *App) Derive(ctx context.Context, v *reach.View, m *model.Model, balance float64,
	scope DeriveScope) (store.Job, error) {
	group, name := scope.Group, scope.Group
	if scope.Area != "" {
		area := m.Policy.Areas[scope.Area]
		if area == nil {
			return store.Job{}, Missing("there is no area " + scope.Area)
		}
		group, name = area.Group.Name, "area "+scope.Area
	}
	if group != "" && m.Policy.Groups[group] == nil {
		return store.Job{}, Missing("there is no group " + group)
	}
	return a.StartStoring(ctx, "derive", "Derive proposals",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			out, found, aside := derived(ctx, v, m, balance, group, progress)
			if out == nil {
				return nil, ctx.Err()
			}
			out.Scope = name
			return a.keepDerivation(ctx, out, found, aside)
		})
}

// derived derives; the ids of the path are places among the proposals yet. It is
// nil if it was cancelled.
func derived(ctx context.Context, v *reach.View, m *model.Model, balance float64, group string,
	progress func(float64, string)) (*Derived, []Proposal, []store.SetAside) {
	convs := make([]derive.Conversation, v.Len())
	for i := range convs {
		c := v.At(i)
		convs[i] = derive.Conversation{Client: c.Client, Server: c.Server, Point: c.Point, Dropped: c.Dropped,
			Connections: c.Connections - c.Dropped, First: c.First, Last: c.Last, Bytes: c.Bytes}
		for _, b := range v.RowsOf(i) {
			convs[i].Days.Add(v.Table.Bucket(int(b)).First)
		}
	}
	input := derive.Input{Compiled: m.Compiled, Conversations: convs, Balance: balance, Judged: true,
		Progress: func(done float64) bool {
			progress(done, fmt.Sprintf("looking at %d conversations", len(convs)))
			return ctx.Err() == nil
		}}
	if group != "" {
		in := func(p decide.Placed) bool { return m.Compiled.Group(group, p) == expr.Yes }
		input.Scope = func(client, server decide.Placed) bool { return in(client) || in(server) }
	}
	result := derive.Derive(input)
	if result == nil {
		return nil, nil, nil
	}
	out := &Derived{
		Revision: m.Head.No, Balance: balance, Considered: result.Considered, Covered: result.Covered,
		From: v.From.Start().String(), To: v.To.Start().String(),
		Path: []PathPoint{}, Gone: []GoneRule{}, Aside: []Aside{}, Tags: []NamedTag{},
	}
	for i := range convs {
		c := &convs[i]
		if c.Connections == 0 && v.Verdict(i) == decide.Uncovered && (input.Scope == nil || input.Scope(c.Client, c.Server)) {
			out.Dropped++
		}
	}
	found := []Proposal{}
	known := map[[2]any]int64{} // by rule and evidence: at another balance one rule may have more behind it
	for _, at := range result.Path {
		point := PathPoint{at.CurvePoint, []int64{}}
		for i := range at.Proposals {
			p := proposalOf(v, convs, &at.Proposals[i])
			k := [2]any{p.Key, p.Conversations}
			if _, have := known[k]; !have {
				known[k] = int64(len(found))
				found = append(found, p)
			}
			point.IDs = append(point.IDs, known[k])
		}
		out.Path = append(out.Path, point)
	}
	for i := range result.Wide {
		p := proposalOf(v, convs, &result.Wide[i])
		p.Barred = true
		found = append(found, p)
	}
	if group == "" {
		for _, i := range derive.Gone(input) {
			r := m.Policy.Rules[i]
			out.Gone = append(out.Gone, GoneRule{r.Line, r.Sentence(), r.Note})
		}
	}
	var aside []store.SetAside
	for _, x := range result.Aside {
		for _, i := range x.Conversations {
			c := &convs[i]
			aside = append(aside, store.SetAside{Reason: string(x.Reason), Client: c.Client.Addr, Server: c.Server.Addr,
				Point: c.Point})
		}
		o := Aside{Reason: string(x.Reason), Words: x.Reason.Words(), Conversations: len(x.Conversations),
			Examples: []Talk{}}
		for n, i := range x.Conversations[:min(50, len(x.Conversations))] {
			c := v.At(i)
			o.Examples = append(o.Examples, Talk{TalkEnd{c.Client.Addr.String(), v.Name(c.Client)},
				TalkEnd{c.Server.Addr.String(), v.Name(c.Server)}, c.Point.String(), c.First.String(), x.Signs[n]})
		}
		out.Aside = append(out.Aside, o)
	}
	for _, t := range result.Tags {
		if i, ok := m.Estate.ByID(t.Workload); ok {
			out.Tags = append(out.Tags, NamedTag{t, m.Estate.Workload(i).Label()})
		}
	}
	return out, found, aside
}

func proposalOf(v *reach.View, convs []derive.Conversation, p *derive.Proposal) Proposal {
	out := Proposal{
		Key: p.Rule.Sentence(), Groups: []string{}, Conversations: len(p.Conversations), Pairs: p.Pairs,
		Opened: p.Opened, Fill: p.Fill(),
		Connections: p.Connections, Days: p.Days, First: p.First.String(), Last: p.Last.String(),
		Warnings: append([]string{}, p.Warnings...), Why: p.Why, Alone: p.Alone, Shape: p.Shape, Callers: []Caller{}, Spark: make([]int, 24),
		Choices: []Choice{}, Own: len(p.Narrower),
	}
	for _, g := range p.Groups {
		out.Groups = append(out.Groups, g.String())
	}
	add := func(words string, groups []*policy.Group, rule *policy.Rule, opened, conversations int) {
		c := Choice{Words: words, Sentence: rule.Sentence(), Opened: opened, Conversations: conversations}
		for _, g := range groups {
			c.Text += g.String() + "\n"
		}
		c.Text += rule.String()
		out.Choices = append(out.Choices, c)
	}
	for _, x := range slices.Backward(p.Narrower) {
		add(x.Words, x.Groups, x.Rule, x.Opened, x.Conversations)
	}
	add("", p.Groups, p.Rule, p.Opened, len(p.Conversations))
	for _, x := range p.Wider {
		add(x.Words, x.Groups, x.Rule, x.Opened, x.Conversations)
	}
	index := map[string]int{}
	days := map[string]*derive.Days{}
	for _, i := range p.Conversations {
		c := v.At(i)
		name := v.Name(c.Client)
		k, ok := index[name]
		if !ok {
			k = len(out.Callers)
			index[name] = k
			client, _ := v.Labels(i)
			out.Callers = append(out.Callers, Caller{Name: name, Label: client.Text})
			days[name] = new(derive.Days)
		}
		out.Callers[k].Conversations++
		out.Callers[k].Connections += convs[i].Connections
		*days[name] |= convs[i].Days
		out.Callers[k].Days = days[name].Count()
		v.Spread(i, out.Spark)
	}
	out.CallerCount = len(out.Callers)
	slices.SortStableFunc(out.Callers, func(a, b Caller) int { return cmp.Compare(b.Connections, a.Connections) })
	out.Callers = out.Callers[:min(8, len(out.Callers))]
	return out
}

// keepDerivation stores a derivation and its proposals.
func (a *App) keepDerivation(ctx context.Context, d *Derived, found []Proposal,
	aside []store.SetAside) (DerivationMade, error) {
	rows := make([]store.Proposal, len(found))
	for i, p := range found {
		raw, err := json.Marshal(p)
		if err != nil {
			return DerivationMade{}, err
		}
		rows[i] = store.Proposal{Rule: p.Key, Body: raw}
	}
	id, err := a.Store.AddDerivation(ctx, d.Revision, rows, aside, func(ids []int64) (json.RawMessage, error) {
		for i := range d.Path {
			for k, place := range d.Path[i].IDs {
				d.Path[i].IDs[k] = ids[place]
			}
		}
		return json.Marshal(d)
	})
	return DerivationMade{id, len(found)}, err
}

func readProposal(row store.Proposal) (p Proposal, err error) {
	if err := json.Unmarshal(row.Body, &p); err != nil {
		return p, fmt.Errorf("proposal %d cannot be read: %w", row.ID, err)
	}
	p.ID = row.ID
	return p, nil
}

// Derived gives the newest derivation without what the draft has taken since,
// and all refusals, newest first; nil if there is none yet.
func (a *App) Derived(ctx context.Context, m *model.Model) (*Derived, []store.Refusal, error) {
	refused, err := a.Store.Refusals(ctx)
	if err != nil {
		return nil, nil, err
	}
	row, rows, err := a.Store.NewestDerivation(ctx)
	if err != nil || row == nil {
		return nil, refused, err
	}
	d := &Derived{}
	if err := json.Unmarshal(row.Body, d); err != nil {
		return nil, nil, fmt.Errorf("derivation %d cannot be read: %w", row.ID, err)
	}
	d.ID, d.Proposals = row.ID, []Proposal{}
	have := linesOf(m)
	for _, row := range rows {
		if have[row.Rule] > 0 {
			continue
		}
		p, err := readProposal(row)
		if err != nil {
			return nil, nil, err
		}
		if p.Refused = standing(refused, p.Key, have); p.Refused != nil {
			p.Again = muchMore(p.Refused, p.Conversations, p.CallerCount)
		}
		d.Proposals = append(d.Proposals, p)
	}
	// A tag that was set since is not worth setting any more.
	d.Tags = slices.DeleteFunc(d.Tags, func(t NamedTag) bool {
		i, ok := m.Estate.ByID(t.Workload)
		if !ok {
			return true
		}
		have, _ := m.Estate.Workload(i).Tag(t.Key)
		return have.Value != t.Was
	})
	if d.Tags == nil {
		d.Tags = []NamedTag{} // of an earlier program
	}
	d.Gone = slices.DeleteFunc(d.Gone, func(g GoneRule) bool { return have[g.Sentence] == 0 })
	for i := range d.Gone { // lines move
		d.Gone[i].Line = have[d.Gone[i].Sentence]
	}
	return d, refused, nil
}

// Waiting counts the proposals that are still to be judged at the balance that was
// derived for, with those that can only be narrowed.
func (a *App) Waiting(ctx context.Context, m *model.Model) (int, error) {
	row, heads, err := a.Store.NewestHeads(ctx)
	if err != nil || row == nil {
		return 0, err
	}
	refused, err := a.Store.Refusals(ctx)
	if err != nil {
		return 0, err
	}
	var d Derived
	if err := json.Unmarshal(row.Body, &d); err != nil {
		return 0, fmt.Errorf("derivation %d cannot be read: %w", row.ID, err)
	}
	shown := map[int64]bool{}
	for _, at := range d.Path {
		for _, id := range at.IDs {
			shown[id] = shown[id] || at.Balance == d.Balance
		}
	}
	have := linesOf(m)
	n := 0
	for _, h := range heads {
		if !shown[h.ID] && !h.Barred || have[h.Rule] > 0 {
			continue
		}
		if r := standing(refused, h.Rule, have); r == nil || muchMore(r, h.Conversations, h.Callers) {
			n++
		}
	}
	return n, nil
}

// linesOf gives the lines of the draft's rules by their sentences.
func linesOf(m *model.Model) map[string]int {
	have := map[string]int{}
	for _, r := range m.Policy.Rules {
		have[r.Sentence()] = r.Line
	}
	return have
}

// standing finds the refusal of a rule that holds; nil: none.
func standing(refused []store.Refusal, rule string, have map[string]int) *store.Refusal {
	for i := range refused {
		if r := &refused[i]; r.Rule == rule && (r.Instead == "" || have[r.Instead] > 0) {
			return r
		}
	}
	return nil
}

// muchMore reports whether the evidence has changed so much since a refusal that
// a person should look again: twice the conversations or callers, and not just a
// few.
func muchMore(r *store.Refusal, conversations, callers int) bool {
	return r.Conversations > 0 && (conversations >= 2*r.Conversations+5 || callers >= 2*r.Callers+3)
}
