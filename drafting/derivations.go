package drafting

import (
	"bytes"

	// Deriving, and the proposals of the newest derivation as they stand.
	"cmp"
	"context"
	"encoding/gob"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/expr"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// Derivation is one run of deriving, without its proposals. What its body says
// is the business of who derives.
type Derivation struct {
	ID       int64           `db:"id"`
	Revision int             `db:"revision"`
	Body     json.RawMessage `db:"body"`
	Seen     []byte          `db:"seen"` // the conversations that it looked at; nil: made before they were kept
}

// KeptProposal is what a derivation proposed.
type KeptProposal struct {
	ID         int64           `db:"id"`
	Derivation int64           `db:"derivation"`
	Rule       string          `db:"rule"` // its sentence, without its note
	Body       json.RawMessage `db:"body"`
	Seen       []byte          `db:"seen"` // which of the derivation's conversations are behind it
}

// AsideTalk is a conversation that a derivation set aside for a reason.
type AsideTalk struct {
	Reason         string
	Client, Server netip.Addr
	Point          service.Point
}

// Proposal is a rule that derivation suggests, with its evidence.
type Proposal struct {
	ID            int64    `json:"id"`
	Key           string   `json:"key"`
	Groups        []string `json:"groups"`
	Conversations int      `json:"conversations"`
	Open          int      `json:"open"`
	Pairs         int      `json:"pairs"`
	Opened        int      `json:"opened"`
	Fill          float64  `json:"fill"`
	Connections   int64    `json:"connections"`
	Days          int      `json:"days"`
	First         string   `json:"first"`
	Last          string   `json:"last"`
	Warnings      []string `json:"warnings"`
	Why           string   `json:"why"`
	Alone         string   `json:"alone,omitempty"`
	Shape         string   `json:"shape,omitempty"`
	Callers       []Caller `json:"callers"`
	CallerCount   int      `json:"callerCount"`
	Spark         []int    `json:"spark"`
	Barred        bool     `json:"barred"`
	Choices       []Choice `json:"choices"`
	Own           int      `json:"own"`

	Refused *Refusal `json:"refused,omitempty"`
	Again   bool     `json:"again"`
}

// Choice is a rule that can be taken of a proposal.
type Choice struct {
	Words         string `json:"words"`
	Sentence      string `json:"sentence"`
	Text          string `json:"text"`
	Opened        int    `json:"opened"`
	Conversations int    `json:"conversations"`
	Open          int    `json:"open"`
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
	IDs   []int64       `json:"ids"`
	Parts *derive.Parts `json:"parts,omitempty"`
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
	Examples      []Talk `json:"examples"`
}

// NamedTag is a tag that proposals stand on and that a workload lacks, or misspells.
type NamedTag struct {
	derive.MissingTag
	Name string `json:"name"`
}

// Talk names a conversation.
type Talk struct {
	Client  TalkEnd `json:"client"`
	Server  TalkEnd `json:"server"`
	Service string  `json:"service"`
	First   string  `json:"first"`
	Signs   string  `json:"signs,omitempty"`
	Number  int     `json:"number"`
}

// TalkEnd is one end of a conversation.
type TalkEnd struct {
	Addr string `json:"addr"`
	Name string `json:"name"`
}

// Derived is a derivation as it stands in the draft.
type Derived struct {
	ID         int64       `json:"id"`
	Revision   int         `json:"revision"`
	Balance    float64     `json:"balance"`
	Considered int         `json:"considered"`
	Dropped    int         `json:"dropped"`
	Covered    int         `json:"covered"`
	Scope      string      `json:"scope,omitempty"`
	From       string      `json:"from"`
	To         string      `json:"to"`
	Path       []PathPoint `json:"path"`
	Gone       []GoneRule  `json:"gone"`
	Aside      []Aside     `json:"aside"`
	Tags       []NamedTag  `json:"tags"`
	Proposals  []Proposal  `json:"-"` // of all balances, each once; then those that are barred
}

// DeriveScope limits what is proposed to what touches a group; its zero value to
// nothing.
type DeriveScope struct {
	Group string // the name of a group
	Area  string // or of an area: the same for its group
}

// derivationMade is the result of a job that derives.
type derivationMade struct {
	Derivation int64 `json:"derivation"`
	Proposals  int   `json:"proposals"`
}

// Derive starts deriving proposals from the conversations of a view.
func (a *Service) Derive(ctx context.Context, v *reach.View, m *model.Model, balance float64,
	scope DeriveScope) (jobs.Job, error) {
	group, name := scope.Group, scope.Group
	if scope.Area != "" {
		area := m.Policy.Areas[scope.Area]
		if area == nil {
			return jobs.Job{}, refuse.Missing("there is no area " + scope.Area)
		}
		group, name = area.Group.Name, "area "+scope.Area
	}
	if group != "" && m.Policy.Groups[group] == nil {
		return jobs.Job{}, refuse.Missing("there is no group " + group)
	}
	return a.StartStoring(ctx, "derive", "Derive proposals",
		func(ctx context.Context, progress func(float64, string)) (any, error) {
			made := derived(ctx, v, m, balance, group, progress)
			if made == nil {
				return nil, ctx.Err()
			}
			made.Scope = name
			return a.keepDerivation(ctx, made)
		})
}

// madeDerivation is a derivation that is not stored yet: the ids of its path are indexes
// into its proposals.
type madeDerivation struct {
	Derived
	seen   []derive.Seen
	behind []behind // of each proposal
	aside  []AsideTalk
}

// behind is the evidence of a proposal and of each of its choices, as indexes into the
// conversations of the derivation.
type behind struct {
	Own     []int
	Choices [][]int
}

// derived derives. It returns nil if the context ended.
func derived(ctx context.Context, v *reach.View, m *model.Model, balance float64, group string,
	progress func(float64, string)) *madeDerivation {
	convs := conversationsOf(v)
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
		return nil
	}
	out := &madeDerivation{Derived: Derived{
		Revision: m.Head.No, Balance: balance, Considered: result.Considered, Covered: result.Covered,
		From: v.From.Start().String(), To: v.To.Start().String(),
		Path: []PathPoint{}, Gone: []GoneRule{}, Aside: []Aside{}, Tags: []NamedTag{}, Proposals: []Proposal{},
	}}
	number := make([]int, len(convs)) // in out.seen
	for i := range convs {
		c := &convs[i]
		if !derive.LeftOpen(m.Compiled, c.Client, c.Server, c.Point) || input.Scope != nil &&
			!input.Scope(c.Client, c.Server) {
			continue
		}
		dropped := c.Connections == 0
		if dropped {
			out.Dropped++
		}
		number[i] = len(out.seen)
		out.seen = append(out.seen, derive.Seen{Client: c.Client.Addr, Server: c.Server.Addr, Point: c.Point,
			At:      c.First,
			Dropped: dropped})
	}
	add := func(p *derive.Proposal, barred bool) {
		made := proposalOf(v, convs, p)
		made.Barred = barred
		out.Proposals = append(out.Proposals, made)
		out.behind = append(out.behind, behindOf(p, number))
	}
	known := map[[2]any]int64{} // by rule and evidence: at another balance one rule may have more behind it
	for _, at := range result.Path {
		point := PathPoint{CurvePoint: at.CurvePoint, IDs: []int64{}}
		for i := range at.Proposals {
			p := &at.Proposals[i]
			k := [2]any{p.Rule.Sentence(), len(p.Conversations)}
			if _, have := known[k]; !have {
				known[k] = int64(len(out.Proposals))
				add(p, false)
			}
			point.IDs = append(point.IDs, known[k])
		}
		out.Path = append(out.Path, point)
	}
	for i := range result.Wide {
		add(&result.Wide[i], true)
	}
	if group == "" {
		for _, i := range derive.Gone(input) {
			r := m.Policy.Rules[i]
			out.Gone = append(out.Gone, GoneRule{r.Line, r.Sentence(), r.Note})
		}
	}
	out.setAside(v, convs, result, number)
	for _, t := range result.Tags {
		if i, ok := m.Estate.ByID(t.Workload); ok {
			out.Tags = append(out.Tags, NamedTag{t, m.Estate.Workload(i).Label()})
		}
	}
	return out
}

// conversationsOf returns the conversations of a view as derivation takes them.
func conversationsOf(v *reach.View) []derive.Conversation {
	convs := make([]derive.Conversation, v.Len())
	for i := range convs {
		c := v.At(i)
		convs[i] = derive.Conversation{Client: c.Client, Server: c.Server, Point: c.Point, Dropped: c.Dropped,
			Connections: c.Connections - c.Dropped, First: c.First, Last: c.Last, Bytes: c.Bytes}
		for _, b := range v.RowsOf(i) {
			convs[i].Days.Add(v.Table.Bucket(int(b)).First)
		}
	}
	return convs
}

// setAside adds what a derivation set aside, with examples; number finds conversations
// among those that are kept as seen.
func (out *madeDerivation) setAside(v *reach.View, convs []derive.Conversation, result *derive.Result, number []int) {
	for reason, x := range result.Aside {
		for _, i := range x.Conversations {
			c := &convs[i]
			out.seen[number[i]].Aside = 1 + reason
			out.aside = append(out.aside, AsideTalk{Reason: string(x.Reason), Client: c.Client.Addr,
				Server: c.Server.Addr,
				Point:  c.Point})
		}
		o := Aside{Reason: string(x.Reason), Words: x.Reason.Words(), Conversations: len(x.Conversations),
			Examples: []Talk{}}
		for n, i := range x.Conversations[:min(50, len(x.Conversations))] {
			c := v.At(i)
			o.Examples = append(o.Examples, Talk{TalkEnd{c.Client.Addr.String(), v.Name(c.Client)},
				TalkEnd{c.Server.Addr.String(), v.Name(c.Server)}, c.Point.String(), c.First.String(), x.Signs[n],
				number[i]})
		}
		out.Aside = append(out.Aside, o)
	}
}

func behindOf(p *derive.Proposal, number []int) behind {
	numbers := func(of []int) []int {
		out := make([]int, len(of))
		for k, i := range of {
			out[k] = number[i]
		}
		return out
	}
	b := behind{Own: numbers(p.Conversations)}
	eachChoice(p, func(a derive.Alternative) { b.Choices = append(b.Choices, numbers(a.Conversations)) })
	return b
}

// eachChoice visits the rules that can be taken of a proposal, from narrow to wide.
func eachChoice(p *derive.Proposal, f func(derive.Alternative)) {
	for _, a := range slices.Backward(p.Narrower) {
		f(a)
	}
	f(derive.Alternative{Rule: p.Rule, Groups: p.Groups, Opened: p.Opened, Conversations: p.Conversations})
	for _, a := range p.Wider {
		f(a)
	}
}

func proposalOf(v *reach.View, convs []derive.Conversation, p *derive.Proposal) Proposal {
	out := Proposal{
		Key: p.Rule.Sentence(), Groups: []string{}, Conversations: len(p.Conversations), Pairs: p.Pairs,
		Opened: p.Opened, Fill: p.Fill(),
		Connections: p.Connections, Days: p.Days, First: p.First.String(), Last: p.Last.String(),
		Warnings: append([]string{}, p.Warnings...), Why: p.Why, Alone: p.Alone, Shape: p.Shape, Callers: []Caller{},
		Spark:   make([]int, 24),
		Choices: []Choice{}, Own: len(p.Narrower),
	}
	for _, g := range p.Groups {
		out.Groups = append(out.Groups, g.String())
	}
	eachChoice(p, func(a derive.Alternative) {
		c := Choice{Words: a.Words, Sentence: a.Rule.Sentence(), Opened: a.Opened, Conversations: len(a.Conversations)}
		for _, g := range a.Groups {
			c.Text += g.String() + "\n"
		}
		c.Text += a.Rule.String()
		out.Choices = append(out.Choices, c)
	})
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
func (a *Service) keepDerivation(ctx context.Context, d *madeDerivation) (derivationMade, error) {
	rows := make([]KeptProposal, len(d.Proposals))
	for i, p := range d.Proposals {
		raw, err := json.Marshal(p)
		if err != nil {
			return derivationMade{}, err
		}
		seen, err := packed(d.behind[i])
		if err != nil {
			return derivationMade{}, err
		}
		rows[i] = KeptProposal{Rule: p.Key, Body: raw, Seen: seen}
	}
	seen, err := packed(d.seen)
	if err != nil {
		return derivationMade{}, err
	}
	id, err := a.Store.AddDerivation(ctx, Derivation{Revision: d.Revision, Seen: seen}, rows, d.aside,
		func(ids []int64) (json.RawMessage, error) {
			for i := range d.Path {
				for k, place := range d.Path[i].IDs {
					d.Path[i].IDs[k] = ids[place]
				}
			}
			return json.Marshal(d.Derived)
		})
	return derivationMade{id, len(d.Proposals)}, err
}

// packed encodes what a derivation has seen for its column.
func packed(seen any) ([]byte, error) {
	var b bytes.Buffer
	err := gob.NewEncoder(&b).Encode(seen)
	return b.Bytes(), err
}

func unpacked(b []byte, seen any) error { return gob.NewDecoder(bytes.NewReader(b)).Decode(seen) }

func readProposal(row KeptProposal) (p Proposal, err error) {
	if err := json.Unmarshal(row.Body, &p); err != nil {
		return p, fmt.Errorf("proposal %d cannot be read: %w", row.ID, err)
	}
	p.ID = row.ID
	return p, nil
}

// toJudge reports whether a person has still to judge a proposal.
func (p *Proposal) toJudge() bool { return p.Refused == nil || p.Again }
