package rest

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/drafting"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// Why is a verdict with the chain that explains it.
type Why struct {
	Client   answers.EndpointOut `json:"client"`
	Server   answers.EndpointOut `json:"server"`
	Service  string              `json:"service"`
	Verdict  string              `json:"verdict" enum:"permit,reject,uncovered"`
	Rule     *answers.RuleRef    `json:"rule,omitempty"`
	ClientIs []Belongs           `json:"clientIs" doc:"Memberships of the client that decided; without a rule, those of the closest rule"`
	ServerIs []Belongs           `json:"serverIs"`
	Steps    []StepOut           `json:"steps" doc:"Every rule that was considered, in order"`
	Closest  *StepOut            `json:"closest,omitempty" doc:"Without a rule: the one that agreed with most of the flow"`
	Rules    int                 `json:"rules"`
	Seen     *seenOut            `json:"seen,omitempty" doc:"What was seen of it in the window"`
	Hints    []tagHint           `json:"hints" doc:"Tags that are missing and would settle a membership"`
	Before   *Why                `json:"before,omitempty" doc:"The same question to the revision that is compared with"`
}

// Belongs is what a group says of an end, with the reasons.
type Belongs struct {
	Group   string              `json:"group"`
	Truth   string              `json:"truth" enum:"yes,no,undecided"`
	Listed  string              `json:"listed,omitempty"`
	Reasons []answers.ReasonOut `json:"reasons"`
}

// StepOut is a rule that was considered.
type StepOut struct {
	Rule    answers.RuleRef `json:"rule"`
	Matches bool            `json:"matches"`
	Failed  string          `json:"failed,omitempty"`
	Because []Belongs       `json:"because"`
}

// seenOut is what was seen of a conversation.
type seenOut struct {
	Connections int64  `json:"connections"`
	Carried     int64  `json:"carried"`
	Dropped     int64  `json:"dropped"`
	First       string `json:"first"`
	Last        string `json:"last"`
	Observer    string `json:"observer"`
}

// tagHint is a tag that a workload lacks and that would settle whether it is
// in a group.
type tagHint struct {
	Workload string   `json:"workload"`
	Name     string   `json:"name"`
	Key      string   `json:"key"`
	Group    string   `json:"group"`
	Values   []string `json:"values" doc:"Values in use, most used first; if settles, only those with which a rule decides"`
	Settles  bool     `json:"settles" doc:"One of the values is enough; if not, other tags are missing too"`
}

// found is something that the ask bar can go to.
type found struct {
	Kind string `json:"kind" enum:"workload,group,rule"`
	Name string `json:"name"`
	Hint string `json:"hint"`
	ID   string `json:"id"`
}

// Answer is what the ask bar says to a text.
type Answer struct {
	Why      *Why       `json:"why,omitempty"`
	InForce  *inForce   `json:"inForce,omitempty" doc:"The answer of the release in force, if it differs from the draft's"`
	Several  *AnswerOut `json:"several,omitempty" doc:"To a question about groups or several ends"`
	Problem  string     `json:"problem,omitempty" doc:"Why a question cannot be answered"`
	Findings []found    `json:"findings"`
}

// inForce is a verdict of a release.
type inForce struct {
	Release int    `json:"release"`
	Verdict string `json:"verdict" enum:"permit,reject,uncovered"`
	Line    int    `json:"line" doc:"Of the deciding rule in that release; 0: none decides"`
}

// Asking answers about the ask bar and the why.
type Asking struct {
	*answers.Desk
	*drafting.Service
	Releasing *releasing.Service
}

func (s *Asking) Routes(r server.Routes) {
	server.Get(r, "ask", "/ask", "Answer a question in words: who may reach whom, and why", s.ask)
	server.Get(r, "explain-verdict", "/why", "Why a conversation gets its verdict, down to the tag", s.why,
		server.CanBeMissing)
}

func (s *Asking) ask(ctx context.Context, in *struct {
	answers.Window
	Text string `query:"q" required:"true"`
}) (*server.Body[Answer], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	out := Answer{Findings: []found{}}
	text := strings.ReplaceAll(in.Text, "→", "->")
	left, right, asks := strings.Cut(text, "->")
	if !asks {
		out.Findings = find(snap, text)
		return server.OK(out), nil
	}
	client, srv, pt, problem := question(snap, left, right)
	if problem != "" {
		// It may speak of more than two ends and a port.
		census := snap.Census()
		if qs, errs := census.Read(text); len(qs) == 1 && len(errs) == 0 {
			a := answerOut(census, &qs[0], census.Answer(&qs[0]))
			out.Several = &a
			return server.OK(out), nil
		}
		out.Problem = problem
		return server.OK(out), nil
	}
	why := s.explain(ctx, v, snap, client, srv, pt)
	out.Why = &why
	release, c, err := s.Releasing.InForce(ctx, snap)
	if err != nil {
		return nil, err
	}
	if release != 0 {
		x := inForce{Release: release}
		rule := c.Decide(c.At(client.Addr, c.AsOf), c.At(srv.Addr, c.AsOf), pt)
		if rule != nil {
			x.Line = rule.Line
		}
		if x.Verdict = decide.VerdictOf(rule).String(); x.Verdict != why.Verdict {
			out.InForce = &x
		}
	}
	return server.OK(out), nil
}

// question reads "client -> server service".
func question(snap *model.Model, left, right string) (client, srv decide.Placed, pt service.Point,
	problem string) {
	words := strings.Fields(right)
	if len(words) == 0 || strings.TrimSpace(left) == "" {
		return client, srv, 0,
			"ask as: client -> server service, for example booking-entry-02 -> fares-store-01 tcp/5432"
	}
	if client, problem = endpoint(snap, strings.TrimSpace(left)); problem != "" {
		return
	}
	if srv, problem = endpoint(snap, words[0]); problem != "" {
		return
	}
	if len(words) != 2 {
		return client, srv, 0, "say the service too, such as tcp/443, udp/53, icmp/8.0 or a service of the policy"
	}
	if def := snap.Policy.Services[words[1]]; def != nil {
		points := snap.Policy.Points(policy.Services{Specs: []policy.Spec{{Service: def.Name}}})
		if len(points) > 0 {
			return client, srv, points[0].Lo, ""
		}
	}
	pt, err := answers.ReadPoint(words[1])
	if err != nil {
		return client, srv, 0, "found the service " + words[1] +
			", expected a protocol with a port such as tcp/443, or a service that the policy names"
	}
	return client, srv, pt, ""
}

// endpoint finds what a word of a question names: an address, or a workload by
// its id or name.
func endpoint(snap *model.Model, word string) (decide.Placed, string) {
	at := snap.Compiled.AsOf
	if a, err := netip.ParseAddr(word); err == nil && a.Zone() == "" {
		return snap.Compiled.At(a, at), ""
	}
	index := -1
	if i, ok := snap.Estate.ByID(word); ok {
		index = int(i)
	} else {
		for i, w := range snap.Estate.All() {
			if w.Name == word {
				if index >= 0 {
					return decide.Placed{}, fmt.Sprintf("several workloads are called %s: ask by id, such as %s",
						word, w.ID)
				}
				index = int(i)
			}
		}
	}
	if index < 0 {
		return decide.Placed{}, "there is no workload " + word + ", and it is no address"
	}
	ep := snap.Estate.Endpoints(int32(index), at)[0]
	if !ep.Addr.IsValid() {
		return decide.Placed{}, word + " has no address now, so its traffic is unknown"
	}
	return snap.Compiled.At(ep.Addr, at), ""
}

func (s *Asking) why(ctx context.Context, in *struct {
	answers.Window
	Client  string `query:"client" required:"true" doc:"Address"`
	Server  string `query:"server" required:"true" doc:"Address"`
	Service string `query:"service" required:"true"`
	Against int    `query:"against" doc:"A revision of the policy to ask too"`
	At      string `query:"at" doc:"Instant at which the addresses are resolved, RFC 3339; by default now"`
}) (*server.Body[Why], error) {
	v, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	at := snap.Compiled.AsOf
	if in.At != "" {
		if at, err = estate.ParseInstant(in.At); err != nil {
			return nil, huma.Error422UnprocessableEntity("at: " + err.Error())
		}
	}
	client, srv, pt, err := answers.ReadFlow(in.Client, in.Server, in.Service)
	if err != nil {
		return nil, err
	}
	out := s.explain(ctx, v, snap, snap.Compiled.At(client, at), snap.Compiled.At(srv, at), pt)
	if in.Against != 0 {
		p, err := s.Models.RevisionPolicy(ctx, in.Against)
		if err != nil {
			return nil, err
		}
		then := *snap
		then.Policy, then.Head = p, model.Revision{No: in.Against}
		u, err := snap.Compiled.WithPolicyUntil(ctx, p, snap.Compiled.AsOf)
		if err != nil {
			return nil, err
		}
		then.Compiled = u.After
		before := s.explain(ctx, v, &then, then.Compiled.At(client, at), then.Compiled.At(srv, at), pt)
		out.Before = &before
	}
	return server.OK(out), nil
}

// explain walks the rules one by one and says why.
func (s *Asking) explain(ctx context.Context, v *reach.View, snap *model.Model, client, srv decide.Placed,
	pt service.Point) Why {
	walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
	t := walk.Trace(client.Endpoint, srv.Endpoint, pt)
	out := Why{
		Client: answers.NewEndpointOut(v, client, reach.Label{}), Server: answers.NewEndpointOut(v, srv, reach.Label{}),
		Service: pt.String(),
		Verdict: decide.VerdictOf(t.Rule).String(), Rule: s.ruleRefBy(ctx, snap, t.Rule), ClientIs: belongs(t.Client),
		ServerIs: belongs(t.Server),
		Steps:    []StepOut{}, Rules: len(snap.Policy.Rules), Hints: []tagHint{},
	}
	for _, st := range t.Steps {
		out.Steps = append(out.Steps, stepOut(st))
	}
	if t.Rule == nil && t.Closest != nil {
		c := stepOut(*t.Closest)
		out.Closest = &c
	}
	if t.Rule == nil {
		out.ClientIs, out.ServerIs = everyGroup(walk, snap, client), everyGroup(walk, snap, srv)
		out.Hints = tagHints(walk, snap, client, srv, pt)
	}
	if i, ok := v.Find(client.Endpoint, srv.Endpoint, pt); ok {
		c, all := v.At(i), v.RowsOf(i)
		out.Seen = &seenOut{c.Connections, c.Carried, c.Dropped, c.First.String(), c.Last.String(),
			v.Table.Bucket(int(all[len(all)-1])).Observer}
	}
	return out
}

// ruleRefBy is NewRuleRef with the author of the rule and the time of writing.
func (s *Asking) ruleRefBy(ctx context.Context, snap *model.Model, r *policy.Rule) *answers.RuleRef {
	out := answers.NewRuleRef(r)
	if out == nil || r.Line > len(snap.Head.Blame) {
		return out
	}
	if rev, err := s.Revision(ctx, snap.Head.Blame[r.Line-1]); err == nil && rev.No > 0 {
		out.Author, out.At = rev.Author, rev.At.UTC().Format("2006-01-02T15:04:05Z")
	}
	return out
}

func belongs(ms []decide.Membership) []Belongs {
	out := []Belongs{}
	for _, m := range ms {
		out = append(out, Belongs{m.Group, m.Truth.String(), m.Listed, answers.ReasonsOut(m.Reasons)})
	}
	return out
}

// everyGroup returns the groups that an endpoint is in.
func everyGroup(walk *decide.Walk, snap *model.Model, p decide.Placed) []Belongs {
	out := []Belongs{}
	for _, g := range answers.GroupsInOrder(snap.Policy) {
		if m := walk.Explain(g.Name, p.Endpoint, false); m.Truth == expr.Yes {
			out = append(out, belongs([]decide.Membership{m})...)
		}
	}
	return out
}

func stepOut(st decide.Step) StepOut {
	return StepOut{Rule: *answers.NewRuleRef(st.Rule), Matches: st.Matches, Failed: st.Failed,
		Because: belongs(st.Because)}
}

// tagHints returns the tags that the ends of a flow lack and that groups of the policy
// test, with the values that would let a rule decide the flow. Where no single value of
// any tag would, they have all values in use: several tags are missing.
func tagHints(walk *decide.Walk, snap *model.Model, client, srv decide.Placed, pt service.Point) []tagHint {
	settling, all := []tagHint{}, []tagHint{}
	for _, p := range []decide.Placed{client, srv} {
		for _, h := range lacking(walk, snap, p) {
			values := usedValues(snap.Estate, h.Key)
			h.Values = values[:min(mostValues, len(values))]
			all = append(all, h)
			h.Values = slices.DeleteFunc(values, func(value string) bool {
				return !settles(snap, p.Workload, h.Key, value, client, srv, pt)
			})
			h.Values = h.Values[:min(mostValues, len(h.Values))]
			if h.Settles = len(h.Values) > 0; h.Settles {
				settling = append(settling, h)
			}
		}
	}
	if len(settling) > 0 {
		return settling
	}
	return all
}

// mostValues is how many values of a tag a hint offers.
const mostValues = 12

// lacking returns the tags that a workload lacks and that groups of the policy test, without values.
func lacking(walk *decide.Walk, snap *model.Model, p decide.Placed) (out []tagHint) {
	if p.Workload == estate.Outside {
		return nil
	}
	w := snap.Estate.Workload(p.Workload)
	for _, g := range answers.GroupsInOrder(snap.Policy) {
		m := walk.Explain(g.Name, p.Endpoint, false)
		if m.Truth != expr.Undecided {
			continue
		}
		for _, key := range expr.MissingKeys(m.Reasons) {
			if !slices.ContainsFunc(out, func(h tagHint) bool { return h.Key == key }) {
				out = append(out, tagHint{Workload: w.ID, Name: w.Label(), Key: key, Group: g.Name})
			}
		}
	}
	return out
}

// settles reports whether a rule would decide a flow if a workload had a tag.
func settles(snap *model.Model, workload int32, key, value string, client, srv decide.Placed, pt service.Point) bool {
	w := *snap.Estate.Workload(workload)
	w.SetTag(estate.Tag{Key: key, Value: value, Source: estate.ByHand})
	e, _, _ := snap.Estate.With([]estate.Workload{w}, nil)
	return decide.NewWalk(e, snap.Policy, snap.Compiled.AsOf).Decide(client.Endpoint, srv.Endpoint, pt) != nil
}

// usedValues returns the values of a tag, most used first.
func usedValues(e *estate.Estate, key string) []string {
	counts := map[string]int{}
	for _, w := range e.All() {
		if t, ok := w.Tag(key); ok {
			counts[t.Value]++
		}
	}
	out := []string{}
	for v := range counts {
		if estate.UsualSpelling(v, counts) == "" {
			out = append(out, v)
		}
	}
	slices.SortFunc(out, func(a, b string) int {
		if counts[a] != counts[b] {
			return counts[b] - counts[a]
		}
		return strings.Compare(a, b)
	})
	return out[:min(mostTried, len(out))]
}

// mostTried bounds how many values of a tag are tried.
const mostTried = 50

// find returns what a text may mean: workloads, groups and rules.
func find(snap *model.Model, text string) []found {
	out := []found{}
	words := strings.Fields(strings.ToLower(text))
	if len(words) == 0 {
		return out
	}
	has := func(s string) bool {
		s = strings.ToLower(s)
		for _, w := range words {
			if !strings.Contains(s, w) {
				return false
			}
		}
		return true
	}
	const most = 6
	for _, g := range answers.GroupsInOrder(snap.Policy) {
		if len(out) < most && has(g.Name) {
			out = append(out, found{"group", g.Name, g.Body(), g.Name})
		}
	}
	n := 0
	for _, w := range snap.Estate.All() {
		if n < most && inventory.Mentions(w, words) {
			n++
			hint := ""
			if len(w.Leases) > 0 {
				hint = w.Leases[len(w.Leases)-1].Addr.String()
			}
			out = append(out, found{"workload", w.Label(), hint, w.ID})
		}
	}
	n = 0
	for _, r := range snap.Policy.Rules {
		if n < most && has(r.String()) {
			n++
			out = append(out, found{"rule", answers.NewRuleRef(r).Sentence, "in " + r.Layer.Name, fmt.Sprint(r.Line)})
		}
	}
	return out
}
