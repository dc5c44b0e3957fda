package rest

import (
	"time"

	"lucidorchard/core/derive"
	"lucidorchard/drafting"
	"lucidorchard/server"
)

// Refusal is a proposal that somebody refused.
type Refusal struct {
	Rule   string    `json:"rule" doc:"The proposed rule without its note"`
	Reason string    `json:"reason"`
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	// What was behind it then; 0 is not known.
	Conversations int `json:"conversations"`
	Callers       int `json:"callers"`
	// The sentence of the rule that was taken instead; while it stands in the
	// draft, the refusal holds. Blank: it was refused for good.
	Instead string `json:"instead,omitempty"`
}

// Choice is a rule that can be taken of a proposal.
type Choice struct {
	Words         string `json:"words" doc:"The difference to the proposal; blank: it is the proposal"`
	Sentence      string `json:"sentence"`
	Text          string `json:"text" doc:"The groups it needs and the rule, a line each"`
	Opened        int    `json:"opened"`
	Conversations int    `json:"conversations" doc:"Of the proposal's, those that it permits"`
	Open          int    `json:"open" doc:"Of those, how many no rule of the draft decides yet"`
}

// caller is a client of a proposal.
type caller struct {
	Name          string `json:"name"`
	Label         string `json:"label"`
	Conversations int    `json:"conversations"`
	Connections   int64  `json:"connections"`
	Days          int    `json:"days"`
}

// pathPoint is the proposals at one balance.
type pathPoint struct {
	derive.CurvePoint
	IDs   []int64       `json:"ids" doc:"Of its proposals, in order"`
	Parts *derive.Parts `json:"parts,omitempty" doc:"All conversations of the derivation, each in one part; without it, an earlier version derived"`
}

// goneRule is a rule that nothing in the window needed.
type goneRule struct {
	Line     int    `json:"line"`
	Sentence string `json:"sentence"`
	Note     string `json:"note,omitempty"`
}

// Aside is what was set aside for one reason.
type Aside struct {
	Reason        string `json:"reason"`
	Words         string `json:"words"`
	Conversations int    `json:"conversations" doc:"Those that no rule of the draft decides yet"`
	Examples      []talk `json:"examples" doc:"At most 50"`
}

// namedTag is a tag that proposals stand on and that a workload lacks, or misspells.
type namedTag struct {
	derive.MissingTag
	Name string `json:"name" doc:"The workload's"`
}

// talk names a conversation.
type talk struct {
	Client  talkEnd `json:"client"`
	Server  talkEnd `json:"server"`
	Service string  `json:"service"`
	First   string  `json:"first"`
	Signs   string  `json:"signs,omitempty" doc:"Why it is suspicious"`
	Number  int     `json:"number" doc:"Of the conversation, among those of the derivation"`
}

// talkEnd is one end of a conversation.
type talkEnd struct {
	Addr string `json:"addr"`
	Name string `json:"name"`
}

// ProposalOut is a rule that derivation suggests, with its evidence, and cut into parts.
type ProposalOut struct {
	ID            int64    `json:"id"`
	Key           string   `json:"key" doc:"The rule without its note; the key of a refusal"`
	Groups        []string `json:"groups" doc:"New groups, as statements"`
	Conversations int      `json:"conversations" doc:"That it rests on, when it was derived"`
	Open          int      `json:"open" doc:"Of those, how many no rule of the draft decides yet"`
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
	Callers       []caller `json:"callers" doc:"The busiest, at most 8"`
	CallerCount   int      `json:"callerCount"`
	Spark         []int    `json:"spark"`
	Barred        bool     `json:"barred" doc:"It lets far more in than was seen, and can only be narrowed"`
	Choices       []Choice `json:"choices" doc:"What can be taken, from narrow to wide"`
	Own           int      `json:"own" doc:"Which of the choices is the proposal itself"`

	Refused *Refusal `json:"refused,omitempty"`
	Again   bool     `json:"again" doc:"It was refused, but there is much more behind it now"`

	Rule RuleOut `json:"rule"`
}

// derivedOut is a derivation as it stands in the draft.
type derivedOut struct {
	ID         int64         `json:"id"`
	Revision   int           `json:"revision" doc:"That it was derived on"`
	Balance    float64       `json:"balance"`
	Considered int           `json:"considered" doc:"Conversations that no rule decided, and that were not only dropped"`
	Dropped    int           `json:"dropped" doc:"Conversations that no rule decided, and that the network only dropped: nothing is proposed for them"`
	Covered    int           `json:"covered"`
	Scope      string        `json:"scope,omitempty" doc:"What it was limited to: the group or area"`
	From       string        `json:"from"`
	To         string        `json:"to"`
	Path       []pathPoint   `json:"path" doc:"The proposals of each balance"`
	Gone       []goneRule    `json:"gone" doc:"Rules of the draft that nothing in the window needed"`
	Aside      []Aside       `json:"aside"`
	Tags       []namedTag    `json:"tags" doc:"Worth setting, that which settles most first"`
	Proposals  []ProposalOut `json:"proposals" doc:"Of all balances, each once; then those that are barred"`
}

func newDerived(d *drafting.Derived) *derivedOut {
	return &derivedOut{ID: d.ID, Revision: d.Revision, Balance: d.Balance, Considered: d.Considered, Dropped: d.Dropped,
		Covered: d.Covered, Scope: d.Scope, From: d.From, To: d.To,
		Path:      server.Each(d.Path, func(p drafting.PathPoint) pathPoint { return pathPoint(p) }),
		Gone:      server.Each(d.Gone, func(r drafting.GoneRule) goneRule { return goneRule(r) }),
		Aside:     server.Each(d.Aside, newAside),
		Tags:      server.Each(d.Tags, func(t drafting.NamedTag) namedTag { return namedTag(t) }),
		Proposals: server.Each(d.Proposals, newProposal)}
}

func newAside(a drafting.Aside) Aside {
	return Aside{a.Reason, a.Words, a.Conversations, server.Each(a.Examples, func(t drafting.Talk) talk {
		return talk{talkEnd(t.Client), talkEnd(t.Server), t.Service, t.First, t.Signs, t.Number}
	})}
}

func newProposal(p drafting.Proposal) ProposalOut {
	out := ProposalOut{ID: p.ID, Key: p.Key, Groups: p.Groups, Conversations: p.Conversations, Open: p.Open,
		Pairs: p.Pairs, Opened: p.Opened, Fill: p.Fill, Connections: p.Connections, Days: p.Days, First: p.First,
		Last: p.Last, Warnings: p.Warnings, Why: p.Why, Alone: p.Alone, Shape: p.Shape,
		Callers:     server.Each(p.Callers, func(c drafting.Caller) caller { return caller(c) }),
		CallerCount: p.CallerCount, Spark: p.Spark, Barred: p.Barred,
		Choices: server.Each(p.Choices, func(c drafting.Choice) Choice { return Choice(c) }),
		Own:     p.Own, Refused: (*Refusal)(p.Refused), Again: p.Again}
	if r := ruleOf(p.Choices[p.Own].Text); r != nil {
		out.Rule = *ruleOut(r)
	}
	return out
}

// Judgement is what a person says of a proposal.
type Judgement struct {
	Proposal int64  `json:"proposal" doc:"Its id"`
	Do       string `json:"do" enum:"take,refuse,again" doc:"again: it is to be judged again"`
	Choice   *int   `json:"choice,omitempty" minimum:"0" doc:"take: which of its choices; without it, the proposal itself"`
	Reason   string `json:"reason,omitempty" maxLength:"2000" doc:"refuse: why"`
}
