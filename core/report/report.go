// Package report says what a draft of the policy changes, for the people whose
// traffic it is: part by part of the estate, so that each can say yes or no to
// theirs.
//
// It must not know of screens. Start reading at New.
package report

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
)

// Report is what a draft changes.
type Report struct {
	Draft      Version     `json:"draft"`
	Before     Version     `json:"before" doc:"The revision that the draft is compared with"`
	Window     [2]string   `json:"window" doc:"Of the conversations, RFC 3339"`
	Now        Counts      `json:"now" doc:"Conversations by verdict under the draft"`
	Then       Counts      `json:"then" doc:"Under the revision before"`
	Changed    int         `json:"changed" doc:"Conversations that change verdict"`
	Statements []Statement `json:"statements" doc:"Lines of the policy that were added and removed"`
	Parts      []Part      `json:"parts" doc:"Those that lose or gain most first; quiet ones last"`
	Assertions []Assertion `json:"assertions"`
	Probes     []Probe     `json:"probes"`
}

// Version is a revision of the policy.
type Version struct {
	No     int    `json:"no"`
	Author string `json:"author"`
	At     string `json:"at"`
	Words  string `json:"words"`
}

// Counts has a number for each verdict.
type Counts struct {
	Permit    int `json:"permit"`
	Reject    int `json:"reject"`
	Uncovered int `json:"uncovered"`
}

// CountsOf returns the numbers with their names.
func CountsOf(c decide.Counts) Counts {
	return Counts{c[decide.Permit], c[decide.Reject], c[decide.Uncovered]}
}

// Statement is a line of the policy.
type Statement struct {
	Change string `json:"change" enum:"added,removed"`
	Text   string `json:"text"`
}

// Part is what the draft does to one part of the estate: an application, an area
// or an owner's.
type Part struct {
	Name     string      `json:"name"`
	Owner    string      `json:"owner,omitempty" doc:"Of the areas that its workloads are in"`
	Now      Counts      `json:"now" doc:"Conversations that it has an end of"`
	Then     Counts      `json:"then"`
	Loses    []FlowGroup `json:"loses" doc:"What was permitted, and is no longer"`
	Gains    []FlowGroup `json:"gains" doc:"What is permitted now, and was not"`
	Others   []FlowGroup `json:"others" doc:"What changes its verdict otherwise"`
	Open     []FlowGroup `json:"open" doc:"What is asked of its owner: uncovered, or rejected while it runs"`
	Accepted []FlowGroup `json:"accepted" doc:"Rejected although it runs, and accepted by somebody"`
}

// FlowGroup is traffic that is alike: the conversations between two groups on a
// service.
type FlowGroup struct {
	Client        string `json:"client"`
	Server        string `json:"server"`
	Service       string `json:"service"`
	Was           string `json:"was" enum:"permit,reject,uncovered"`
	Is            string `json:"is" enum:"permit,reject,uncovered"`
	Conversations int    `json:"conversations"`
	Connections   int64  `json:"connections"`
	Carried       int    `json:"carried" doc:"Conversations that the network carried"`
	Last          string `json:"last" doc:"When it was last seen"`
	Rule          string `json:"rule,omitempty" doc:"That decides it now"`
	Why           string `json:"why,omitempty" doc:"The rule's note, or the reason that was given"`
}

// Assertion is an assertion with its result.
type Assertion struct {
	Sentence string `json:"sentence"`
	Note     string `json:"note,omitempty"`
	Result   string `json:"result" enum:"holds,open,broken"`
	Example  string `json:"example,omitempty" doc:"What contradicts it"`
}

// Probe is a question with the verdict that is expected.
type Probe struct {
	Question   string `json:"question"`
	Want       string `json:"want"`
	Words      string `json:"words" doc:"What is answered"`
	AsExpected bool   `json:"asExpected"`
	Reason     string `json:"reason,omitempty"`
}

// Options is what a report is made of beside the view.
type Options struct {
	By            string // what parts are called by, see reach.Query.By
	Query         reach.Query
	Before, Draft string // texts of the policy
	Asserts       []prove.Result
	Accepted      func(conversation int) string // why it is right to reject it
}

// New makes the report of a view that is compared with another.
func New(v *reach.View, o Options) Report {
	t := v.Totals(o.Query)
	r := Report{
		Now: CountsOf(t.Conversations), Statements: Statements(o.Before, o.Draft), Parts: []Part{},
		Assertions: []Assertion{}, Probes: []Probe{},
		Window: [2]string{v.From.Start().String(), v.To.Start().String()},
	}
	var then decide.Counts
	for was, counts := range t.Difference {
		for is, n := range counts {
			then[was] += n
			if was != is {
				r.Changed += n
			}
		}
	}
	r.Then = CountsOf(then)
	r.parts(v, o)
	for _, a := range o.Asserts {
		out := Assertion{Sentence: sentence(a.Assert), Note: a.Assert.Note, Result: a.Outcome.String()}
		if a.Outcome != prove.Holds {
			out.Example = v.Name(a.Client) + " → " + v.Name(a.Server) + " on " + a.Point.String() + ", " + by(a.Rule)
		}
		r.Assertions = append(r.Assertions, out)
	}
	rank := map[string]int{"broken": 0, "open": 1, "holds": 2}
	slices.SortStableFunc(r.Assertions, func(a, b Assertion) int { return rank[a.Result] - rank[b.Result] })
	return r
}

func by(r *policy.Rule) string {
	if r == nil {
		return "which no rule decides"
	}
	return "by " + bare(r)
}

func bare(r *policy.Rule) string {
	b := *r
	b.Note = ""
	return b.String()
}

func sentence(a *policy.Assert) string {
	b := *a
	b.Note = ""
	return strings.TrimPrefix(b.String(), "assert ")
}

// Statements returns the lines that one text has and the other has not.
func Statements(before, after string) []Statement {
	out := []Statement{}
	a, b := policy.Lines(before), policy.Lines(after)
	there := make([]bool, len(b))
	for i, to := range policy.Follow(a, b) {
		if to > 0 {
			there[to-1] = true
		} else if strings.TrimSpace(a[i]) != "" {
			out = append(out, Statement{"removed", a[i]})
		}
	}
	for i, line := range b {
		if !there[i] && strings.TrimSpace(line) != "" {
			out = append(out, Statement{"added", line})
		}
	}
	return out
}

// parts sorts what changes, and what is open, to those whose it is.
func (r *Report) parts(v *reach.View, o Options) {
	index := map[string]int{}
	part := func(l reach.Label) *Part {
		i, ok := index[l.Text]
		if !ok {
			i = len(r.Parts)
			index[l.Text] = i
			r.Parts = append(r.Parts, Part{Name: l.Text, Loses: []FlowGroup{}, Gains: []FlowGroup{},
				Others: []FlowGroup{}, Open: []FlowGroup{}, Accepted: []FlowGroup{}})
		}
		return &r.Parts[i]
	}
	v.EachPart(o.Query, o.By, func(l reach.Label, now, then decide.Counts) {
		p := part(l)
		p.Now, p.Then = CountsOf(now), CountsOf(then)
	})
	for _, s := range v.FlowGroups(o.Query, o.By) {
		out := FlowGroup{
			Client: s.Client.Text, Server: s.Server.Text, Service: reach.ServiceText(s.Point), Was: s.Was.String(),
			Is:            s.Is.String(),
			Conversations: s.Conversations, Connections: s.Connections, Carried: s.Carried, Last: s.Last.String(),
		}
		if s.Rule != nil {
			out.Rule, out.Why = bare(s.Rule), s.Rule.Note
		}
		names := []reach.Label{s.ClientPart}
		if s.ServerPart.Text != s.ClientPart.Text {
			names = append(names, s.ServerPart)
		}
		for _, l := range names {
			if l.Kind == "outside" {
				continue // nobody's
			}
			p := part(l)
			changed := v.Against != nil && s.Was != s.Is
			switch {
			case changed && s.Was == decide.Permit:
				p.Loses = append(p.Loses, out)
			case changed && s.Is == decide.Permit:
				p.Gains = append(p.Gains, out)
			case changed:
				p.Others = append(p.Others, out)
			}
			switch {
			case s.Is == decide.Reject && s.Accepted == s.Conversations:
				accepted := out
				if o.Accepted != nil {
					accepted.Why = cmp.Or(o.Accepted(s.Example), accepted.Why)
				}
				p.Accepted = append(p.Accepted, accepted)
			case s.Is == decide.Uncovered, s.Is == decide.Reject && s.Carried > 0:
				p.Open = append(p.Open, out)
			}
		}
	}
	r.Parts = slices.DeleteFunc(r.Parts, func(p Part) bool { return p.Name == "outside" })
	slices.SortFunc(r.Parts, func(a, b Part) int {
		return cmp.Or(count(b.Loses)-count(a.Loses), count(b.Gains)-count(a.Gains), count(b.Open)-count(a.Open),
			strings.Compare(a.Name, b.Name))
	})
}

func count(groups []FlowGroup) (n int) {
	for _, s := range groups {
		n += s.Conversations
	}
	return n
}
