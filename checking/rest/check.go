package rest

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/settle"
	"lucidorchard/drafting"
	"lucidorchard/ingest"
	"lucidorchard/ledger"
	"lucidorchard/server"
)

// AssertOut is an assertion with its result.
type AssertOut struct {
	Line     int                  `json:"line"`
	Kind     string               `json:"kind" enum:"never,always,only"`
	Sentence string               `json:"sentence"`
	Note     string               `json:"note,omitempty"`
	Left     []string             `json:"left"`
	Right    []string             `json:"right"`
	On       string               `json:"on"`
	Clauses  string               `json:"clauses"`
	Result   string               `json:"result" enum:"holds,open,broken"`
	Client   *answers.EndpointOut `json:"client,omitempty" doc:"The counterexample"`
	Server   *answers.EndpointOut `json:"server,omitempty"`
	Service  string               `json:"service,omitempty"`
	Rule     *answers.RuleRef     `json:"rule,omitempty"`
}

// CheckOut is what the draft would do with what was seen, of the conversations
// that a filter selects, whatever their verdicts.
type CheckOut struct {
	Revision      int                    `json:"revision"`
	Conversations int                    `json:"conversations" doc:"Of the window, without the filter"`
	Counts        answers.CountsOut      `json:"counts"`
	Pairs         *answers.CountsOut     `json:"pairs,omitempty" doc:"Pairs of a client and a server by the verdict that asks for most; if they are the measure"`
	Connections   map[string]int64       `json:"connections" doc:"By verdict"`
	Bytes         map[string]int64       `json:"bytes"`
	Outcomes      map[string]OutcomesOut `json:"outcomes" doc:"By verdict"`
	Leaks         int                    `json:"leaks" doc:"Rejected, yet carried"`
	Chokes        int                    `json:"chokes" doc:"Permitted, yet dropped"`
	Held          bool                   `json:"held" doc:"Leaks and chokes are judged by the releases that points enforced; otherwise by the draft"`
	Asking        int                    `json:"asking" doc:"Carried conversations that the draft rejects and that no probe accepts"`
	Accepted      int                    `json:"accepted" doc:"Rejected, and accepted by a probe"`
	Rules         int                    `json:"rules"`
	LiveStores    int                    `json:"liveStores" doc:"Uncovered conversations that reach a store in live"`
	Difference    *differenceOut         `json:"difference,omitempty"`
}

// differenceOut compares the draft with another revision over the window.
type differenceOut struct {
	Revision answers.Revision             `json:"revision"`
	Counts   map[string]answers.CountsOut `json:"counts" doc:"By the verdict in that revision: conversations by the verdict now"`
	Changed  int                          `json:"changed"`
}

// Checks answers about the check: totals, assertions, findings.
type Checks struct {
	*answers.Desk
	*drafting.Service
}

func (s *Checks) Routes(r server.Routes) {
	server.Get(r, "check-window", "/check", "The verdicts of the window, compared with a revision", s.check,
		server.CanBeMissing)
	server.Get(r, "list-check-parts", "/check/parts", "Verdict counts for the window, grouped by dimension",
		s.checkParts, server.CanBeMissing)
	server.Get(r, "list-assertions", "/assertions", "The assertions with their results", s.assertions)
	server.Post(r, "try-assertion", "/assertions/try", "Prove a statement without storing it", s.tryAssertion)
	server.Get(r, "read-assertion-fix", "/assertions/fix", "Rules that would make an assertion hold", s.assertionFix,
		server.CanBeMissing)
	server.Get(r, "list-findings", "/findings", "The findings on the policy and its evidence", s.findings)
	server.Get(r, "export-assertions", "/assertions.csv", "The assertions with their results as CSV",
		s.exportAssertions)
	server.Get(r, "export-findings", "/findings.csv", "The findings as CSV", s.exportFindings)
}

func (s *Checks) check(ctx context.Context, in *struct {
	answers.Window
	ledger.Filter
	Measure string `query:"measure" enum:"conversations,pairs,bytes" default:"conversations"`
}) (*server.Body[CheckOut], error) {
	v, snap, q, err := s.Asked(ctx, in.Window, in.Filter)
	if err != nil {
		return nil, err
	}
	q.Count = answers.LiveStore
	t := v.Totals(q)
	out := CheckOut{Revision: snap.Head.No, Conversations: v.Len(), Counts: answers.NewCountsOut(t.Conversations),
		Connections: map[string]int64{}, Bytes: map[string]int64{}, Outcomes: map[string]OutcomesOut{},
		Leaks: t.Leaks, Chokes: t.Chokes, Held: v.Fates() != nil, Asking: t.Asking, Accepted: t.Accepted,
		Rules:      len(snap.Policy.Rules),
		LiveStores: t.Counted}
	for _, verdict := range decide.Verdicts {
		out.Connections[verdict.String()], out.Bytes[verdict.String()],
			out.Outcomes[verdict.String()] = t.Connections[verdict], t.Bytes[verdict],
			outcomesOut(t.Outcomes[verdict])
	}
	if in.Measure == "pairs" {
		pairs := answers.NewCountsOut(v.Pairs(q))
		out.Pairs = &pairs
	}
	if in.Against != 0 {
		against, err := s.Revision(ctx, in.Against)
		if err != nil {
			return nil, err
		}
		out.Difference = &differenceOut{Revision: answers.NewRevision(against),
			Counts: map[string]answers.CountsOut{}}
		for was, counts := range t.Difference {
			out.Difference.Counts[decide.Verdict(was).String()] = answers.NewCountsOut(counts)
			for is, n := range counts {
				if was != is {
					out.Difference.Changed += n
				}
			}
		}
	}
	return server.OK(out), nil
}

// OutcomesOut is how many conversations had each outcome.
type OutcomesOut struct {
	Unknown int `json:"unknown"`
	Carried int `json:"carried"`
	Dropped int `json:"dropped"`
}

func outcomesOut(n [3]int) OutcomesOut {
	return OutcomesOut{n[flow.Unknown], n[flow.Carried], n[flow.Dropped]}
}

// PartOut is a part of the estate with its conversations.
type PartOut struct {
	Key    string            `json:"key" doc:"What for takes"`
	Name   string            `json:"name"`
	Counts answers.CountsOut `json:"counts"`
	Then   answers.CountsOut `json:"then" doc:"In the revision that is compared with; without one as counts"`
}

// checkParts lists the parts of the estate: values of a tag, areas or owners.
func (s *Checks) checkParts(ctx context.Context, in *struct {
	answers.Window
	Against int    `query:"against"`
	By      string `query:"by" default:"app" doc:"A tag, ~area or ~owner"`
	server.All
}) (*server.List[PartOut], error) {
	v, _, err := s.ViewAgainst(ctx, in.Window, in.Against)
	if err != nil {
		return nil, err
	}
	out := []PartOut{}
	v.EachPart(reach.Query{}, in.By, func(l reach.Label, now, then reach.Counts) {
		if l.Kind == "outside" || l.Lack != "" || l.Nobody {
			return
		}
		out = append(out, PartOut{answers.PartKey(in.By, l.Text), l.Text, answers.NewCountsOut(now),
			answers.NewCountsOut(then)})
	})
	slices.SortFunc(out, func(a, b PartOut) int { return strings.Compare(a.Name, b.Name) })
	return server.Cut(ctx, out, in.All), nil
}

func (s *Checks) assertions(ctx context.Context, in *struct{ server.All }) (*server.List[AssertOut], error) {
	v, snap, err := s.View(ctx, answers.Window{})
	if err != nil {
		return nil, err
	}
	out := []AssertOut{}
	for _, r := range snap.Asserts() {
		out = append(out, assertOut(v, r))
	}
	slices.SortStableFunc(out, func(a, b AssertOut) int {
		rank := map[string]int{"broken": 0, "open": 1, "holds": 2}
		return rank[a.Result] - rank[b.Result]
	})
	return server.Cut(ctx, out, in.All), nil
}

func assertOut(v *reach.View, r prove.Result) AssertOut {
	a := r.Assert
	o := AssertOut{Line: a.Line, Kind: a.Kind.String(), Sentence: a.Sentence(), Note: a.Note,
		Left: answers.Items(a.Left), Right: answers.Items(a.Right), On: a.On.String(), Clauses: a.Clauses.String(),
		Result: r.Outcome.String()}
	if r.Outcome != prove.Holds {
		client, server := answers.NewEndpointOut(v, r.Client, reach.Label{}),
			answers.NewEndpointOut(v, r.Server, reach.Label{})
		o.Client, o.Server, o.Service, o.Rule = &client, &server, r.Point.String(), answers.NewRuleRef(r.Rule)
	}
	return o
}

// Tried is what assertions would come to that are not in the draft.
type Tried struct {
	Errors  []answers.TextError `json:"errors"`
	Results []AssertOut         `json:"results" doc:"Of those in the text, in its order"`
}

// tryAssertion proves assertions against the draft without keeping them.
func (s *Checks) tryAssertion(ctx context.Context, in *struct {
	Body struct {
		Text string `json:"text" doc:"Assertions, one a line"`
	}
}) (*server.Body[Tried], error) {
	v, snap, err := s.View(ctx, answers.Window{})
	if err != nil {
		return nil, err
	}
	text, errs := policy.AppendAsserts(snap.Head.Text, in.Body.Text)
	if len(errs) > 0 {
		return server.OK(Tried{Errors: answers.TextErrors(errs), Results: []AssertOut{}}), nil
	}
	out := Tried{Errors: []answers.TextError{}, Results: []AssertOut{}}
	after, err := snap.After(ctx, text)
	if err != nil {
		return nil, err
	}
	for _, r := range prove.Assertions(after.Update.After)[len(snap.Policy.Asserts):] {
		out.Results = append(out.Results, assertOut(v, r))
	}
	return server.OK(out), nil
}

// AssertFix is an edit after which an assertion holds.
type AssertFix struct {
	Found        bool                       `json:"found" doc:"Whether there is one"`
	Words        string                     `json:"words"`
	Lines        []string                   `json:"lines" doc:"Rules to add"`
	Before       int                        `json:"before" doc:"The line that they stand before; 0: last in the layer allowances"`
	Revision     int                        `json:"revision"`
	Consequences *consequences.Consequences `json:"consequences,omitempty"`
}

// assertionFix finds rules that make an assertion of the draft hold.
func (s *Checks) assertionFix(ctx context.Context, in *struct {
	answers.Window
	Line int `query:"line" required:"true" doc:"Of the assertion"`
}) (*server.Body[AssertFix], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	for _, r := range snap.Asserts() {
		if r.Assert.Line != in.Line {
			continue
		}
		out := AssertFix{Lines: []string{}, Revision: snap.Head.No}
		m, ok := settle.FixAssertion(snap.Compiled, snap.Head.Text, r)
		if ok {
			c, err := consequences.Changing(ctx, v, snap, m.Text)
			if err != nil {
				return nil, err
			}
			out = AssertFix{true, m.Words, m.Lines, m.Before, snap.Head.No, c}
		}
		return server.OK(out), nil
	}
	return nil, huma.Error404NotFound(fmt.Sprintf("there is no assertion on line %d", in.Line))
}

func (s *Checks) exportAssertions(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	all, err := s.assertions(ctx, &struct{ server.All }{server.All{Limit: math.MaxInt32}})
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("assertions.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"line", "assertion", "note", "result", "client", "server", "service", "rule"})
		for _, a := range all.Body {
			row := []string{fmt.Sprint(a.Line), a.Sentence, a.Note, a.Result, "", "", "", ""}
			if a.Client != nil {
				row[4], row[5], row[6] = a.Client.Name, a.Server.Name, a.Service
			}
			if a.Rule != nil {
				row[7] = fmt.Sprint(a.Rule.Line)
			}
			_ = w.Write(row)
		}
	}), nil
}
