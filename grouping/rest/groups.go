package rest

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
	"lucidorchard/grouping"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/server"
)

func (s *Groups) exportGroups(ctx context.Context, _ *struct{}) (*huma.StreamResponse, error) {
	all, err := s.listGroups(ctx, &struct{ server.All }{server.All{Limit: math.MaxInt32}})
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("groups.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"name", "definition", "note", "members", "of_these_without_address", "undecided",
			"used_by",
			"findings"})
		for _, g := range all.Body {
			var found []string
			for _, f := range g.Findings {
				found = append(found, f.Kind)
			}
			_ = w.Write([]string{g.Name, g.Body, g.Note, fmt.Sprint(g.In), fmt.Sprint(g.Unaddressed),
				fmt.Sprint(g.Undecided),
				fmt.Sprint(len(g.UsedBy)), strings.Join(found, "; ")})
		}
	}), nil
}

// GroupOut is a row in the list of groups.
type GroupOut struct {
	Name        string               `json:"name"`
	Line        int                  `json:"line"`
	Body        string               `json:"body" doc:"The expression with include and exclude"`
	Note        string               `json:"note,omitempty"`
	In          int                  `json:"in"`
	Unaddressed int                  `json:"unaddressed" doc:"Members without an address now"`
	Undecided   int                  `json:"undecided"`
	Prefixes    int                  `json:"prefixes" doc:"Prefixes that it names"`
	UsedBy      []use                `json:"usedBy"`
	Findings    []answers.FindingOut `json:"findings"`
}

// use is a statement that names a group.
type use struct {
	Line int    `json:"line"`
	Kind string `json:"kind" enum:"rule,group,area,assertion"`
	Text string `json:"text"`
}

// member is a workload with what a group says of it.
type member struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Why     string   `json:"why" doc:"What settled it"`
	Missing []string `json:"missing,omitempty" doc:"Keys that would settle it"`
	Change  string   `json:"change,omitempty" enum:"joins,leaves,undecided" doc:"Compared with the group in the draft"`
}

// GroupPreview is what an expression says of all workloads, and what saving it
// would do.
type GroupPreview struct {
	Errors       []answers.TextError        `json:"errors"`
	Canonical    string                     `json:"canonical"`
	Counts       memberCounts               `json:"counts"`
	Was          memberCounts               `json:"was" doc:"Of the group in the draft"`
	Unaddressed  int                        `json:"unaddressed" doc:"Members without an address now"`
	In           []member                   `json:"in" doc:"At most 200"`
	Undecided    []member                   `json:"undecided"`
	Out          []member                   `json:"out"`
	Consequences *consequences.Consequences `json:"consequences,omitempty"`
	Nameless     *nameless                  `json:"nameless,omitempty" doc:"Where the expression tests the field name, and workloads have none"`
	Shares       []sharedGroup              `json:"shares" doc:"Groups that share members"`
}

// memberCounts is how many workloads an expression holds for, leaves undecided,
// and does not hold for.
type memberCounts struct {
	In        int `json:"in"`
	Undecided int `json:"undecided"`
	Out       int `json:"out"`
}

func (c *memberCounts) add(t expr.Truth) {
	switch t {
	case expr.Yes:
		c.In++
	case expr.Undecided:
		c.Undecided++
	default:
		c.Out++
	}
}

// sharedGroup is another group with how many members are in both.
type sharedGroup struct {
	Group string `json:"group"`
	Both  int    `json:"both"`
}

// Groups answers about groups.
type Groups struct {
	*answers.Desk
	*answers.Editor
	*grouping.Service
}

func (s *Groups) Routes(r server.Routes) {
	server.Get(r, "list-groups", "/groups", "The groups with their members by number", s.listGroups)
	server.Post(r, "preview-group", "/groups/preview",
		"Who is in, out and undecided, and what a change of the expression would change", s.previewGroup,
		server.CanBeMissing)
	server.Get(r, "read-group-history", "/groups/history", "Who joined and left a group over the window, and why",
		s.groupHistory, server.CanBeMissing)
	server.Post(r, "rename-group", "/groups/rename", "Rename a group, with all that names it", s.renameGroup,
		server.MakesRevision,
		server.CanBeMissing)
	server.Post(r, "remove-group", "/groups/remove", "Remove a group, with all that needs it", s.removeGroup,
		server.MakesRevision,
		server.CanBeMissing)
	server.Get(r, "list-members", "/groups/members", "Who is in, out of, and undecided for a group",
		s.members,
		server.CanBeMissing)
	server.Get(r, "export-members", "/groups/members.csv", "The members of a group as CSV", s.exportMembers,
		server.CanBeMissing)
	server.Get(r, "export-groups", "/groups.csv", "The groups as CSV", s.exportGroups)
}

func (s *Groups) listGroups(ctx context.Context, in *struct{ server.All }) (*server.List[GroupOut], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	out := []GroupOut{}
	index := map[string]int{}
	for _, g := range answers.GroupsInOrder(snap.Policy) {
		index[g.Name] = len(out)
		out = append(out, GroupOut{Name: g.Name, Line: g.Line, Body: g.Body(), Note: g.Note,
			UsedBy: uses(snap, g.Name), Findings: answers.FindingsAt(snap, g.Line), Prefixes: prefixes(g)})
	}
	for i, n := range snap.Counts() {
		o := &out[index[snap.Policy.GroupOrder[i].Name]]
		o.In, o.Unaddressed, o.Undecided = n.In, n.Unaddressed, n.Undecided
	}
	return server.Cut(ctx, out, in.All), nil
}

func prefixes(g *policy.Group) int {
	n := 0
	g.Expr.Walk(func(e *expr.Expr) { n += len(e.Prefixes) })
	return n
}

// uses finds the statements that name a group.
func uses(snap *model.Model, name string) []use {
	out := []use{}
	for _, st := range snap.Users(name) {
		out = append(out, use{st.At(), policy.KindOf(st), st.String()})
	}
	return out
}

// membersShown is how many of a list a preview has.
const membersShown = 200

func (s *Groups) previewGroup(ctx context.Context, in *struct {
	answers.Window
	Body struct {
		Name string `json:"name" doc:"Of the group; empty for a new one"`
		Text string `json:"text" doc:"What stands after the =: an expression, include and exclude"`
	}
}) (*server.Body[GroupPreview], error) {
	before, snap, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	out := GroupPreview{Errors: []answers.TextError{}, In: []member{}, Undecided: []member{}, Out: []member{},
		Shares: []sharedGroup{}}
	name := in.Body.Name
	old := snap.Policy.Groups[name]
	if name == "" {
		name = "this group"
	}
	// Every line break is a blank to the reader, so that a place in the text is
	// a place on the one line that is stored.
	text := strings.NewReplacer("\r\n", "  ", "\n", " ").Replace(in.Body.Text)
	prefix := "group " + syntax.Quote(name) + " = "
	parsed, errs := policy.ParseLoose(prefix + text)
	for _, e := range errs {
		e.Col -= len([]rune(prefix))
	}
	if len(errs) > 0 {
		out.Errors = answers.TextErrors(errs)
		return server.OK(out), nil
	}
	group := parsed.Groups[name]
	out.Canonical = group.Body()
	out.Nameless = namelessIn(snap.Estate, group)
	edit := policy.Edit{Op: policy.Add, Text: group.String()}
	if old != nil {
		group.Note = old.Note
		edit = policy.Edit{Op: policy.Change, Line: old.Line, Text: group.String()}
	}
	// What is wrong with the group among the others, at its place in the text as
	// it was typed.
	lines := policy.Lines(snap.Head.Text)
	line := len(lines) + 1
	if old != nil {
		line = old.Line
		lines[line-1] = prefix + text
	} else {
		lines = append(lines, prefix+text)
	}
	_, errs = policy.Parse(strings.Join(lines, "\n"))
	for _, e := range errs {
		at := answers.TextError{Line: 1, Column: 1, Message: e.Message}
		if e.Line == line {
			at.Column = max(1, e.Col-len([]rune(prefix)))
		}
		out.Errors = append(out.Errors, at)
	}
	if len(errs) > 0 {
		return server.OK(out), nil
	}
	after, _, bad := edit.Apply(snap.Head.Text)
	if bad != nil {
		return nil, answers.Refusal(bad)
	}
	u, err := snap.After(ctx, after)
	var cost *decide.CostError
	if errors.As(err, &cost) {
		out.Errors = []answers.TextError{{Line: 1, Column: 1, Message: cost.Words}}
		return server.OK(out), nil
	}
	if err != nil {
		return nil, err
	}
	s.fillMembers(&out, snap, u.Update.After, name, old != nil)
	if old == nil || old.Body() != group.Body() {
		cons := consequences.ConsequencesOf(before, snap, u)
		out.Consequences = &cons
	}
	return server.OK(out), nil
}

// fillMembers sorts all workloads by what the group says of them.
func (s *Groups) fillMembers(out *GroupPreview, snap *model.Model, c *decide.Compiled, name string, existed bool) {
	walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
	before := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
	both := map[string]int{}
	for i, w := range c.Estate.All() {
		if !w.Retired.IsZero() {
			continue
		}
		ep := c.Estate.Endpoints(i, c.AsOf)[0]
		var truth, was expr.Truth
		if ep.Addr.IsValid() {
			placed := c.At(ep.Addr, c.AsOf)
			truth = c.Group(name, placed)
			was = snap.Compiled.Group(name, snap.Compiled.At(ep.Addr, c.AsOf))
			if truth == expr.Yes {
				c.EachGroup(placed, func(g *policy.Group, t expr.Truth) {
					if t == expr.Yes && g.Name != name {
						both[g.Name]++
					}
				})
			}
		} else {
			ep.Addr = netip.Addr{}
			truth = walk.Group(name, ep)
			was = truth
			if existed {
				was = before.Group(name, ep)
			}
			if truth == expr.Yes {
				out.Unaddressed++
				for _, g := range c.Policy.GroupOrder {
					if g.Name != name && walk.Group(g.Name, ep) == expr.Yes {
						both[g.Name]++
					}
				}
			}
		}
		list := &out.Out
		switch truth {
		case expr.Yes:
			list = &out.In
		case expr.Undecided:
			list = &out.Undecided
		}
		out.Counts.add(truth)
		m := member{ID: w.ID, Name: w.Label()}
		if existed {
			out.Was.add(was)
			if truth != was {
				m.Change = map[expr.Truth]string{expr.Yes: "joins", expr.Undecided: "undecided",
					expr.No: "leaves"}[truth]
			}
		}
		if len(*list) >= membersShown && m.Change == "" {
			continue
		}
		e := walk.Explain(name, ep, false)
		m.Why, m.Missing = whyMember(e), expr.MissingKeys(e.Reasons)
		if m.Change != "" {
			*list = slices.Insert(*list, 0, m)
		} else {
			*list = append(*list, m)
		}
	}
	for g, n := range both {
		out.Shares = append(out.Shares, sharedGroup{g, n})
	}
	slices.SortFunc(out.Shares, func(a, b sharedGroup) int {
		if a.Both != b.Both {
			return b.Both - a.Both
		}
		return strings.Compare(a.Group, b.Group)
	})
	out.Shares = out.Shares[:min(8, len(out.Shares))]
}

// MembersAsked says of which group, and what it says of them.
type MembersAsked struct {
	Name string `query:"name" required:"true"`
	As   string `query:"as" enum:"yes,undecided,no" default:"yes"`
	Text string `query:"q" doc:"Only those that words or an expression select"`
}

// MemberPage is a part of those of whom a group says one thing.
type MemberPage struct {
	Total   int      `json:"total"`
	Members []member `json:"members"`
}

// membersOf returns those of whom the draft's group says one thing, by name.
func membersOf(snap *model.Model, in MembersAsked) ([]int32, *decide.Walk, error) {
	if snap.Policy.Groups[in.Name] == nil {
		return nil, nil, huma.Error404NotFound("there is no group " + in.Name)
	}
	chosen, err := inventory.Select(snap, inventory.Filter{Text: in.Text})
	if err != nil {
		return nil, nil, err
	}
	walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
	want := map[string]expr.Truth{"yes": expr.Yes, "undecided": expr.Undecided, "no": expr.No}[in.As]
	chosen = slices.DeleteFunc(chosen, func(i int32) bool {
		ep := snap.Estate.Endpoints(i, snap.Compiled.AsOf)[0]
		if ep.Addr.IsValid() {
			return snap.Compiled.Group(in.Name, snap.Compiled.At(ep.Addr, snap.Compiled.AsOf)) != want
		}
		return walk.Group(in.Name, ep) != want
	})
	slices.SortStableFunc(chosen, func(a, b int32) int {
		return strings.Compare(snap.Estate.Workload(a).Label(), snap.Estate.Workload(b).Label())
	})
	return chosen, walk, nil
}

func (s *Groups) members(ctx context.Context, in *struct {
	MembersAsked
	server.Page
}) (*server.Body[MemberPage], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	all, walk, err := membersOf(snap, in.MembersAsked)
	if err != nil {
		return nil, err
	}
	out := MemberPage{Total: len(all), Members: []member{}}
	from, to := in.Cut(len(all))
	for _, i := range all[from:to] {
		w := snap.Estate.Workload(i)
		e := walk.Explain(in.Name, snap.Estate.Endpoints(i, snap.Compiled.AsOf)[0], false)
		out.Members = append(out.Members, member{ID: w.ID, Name: w.Label(), Why: whyMember(e),
			Missing: expr.MissingKeys(e.Reasons)})
	}
	return server.OK(out), nil
}

func (s *Groups) exportMembers(ctx context.Context, in *MembersAsked) (*huma.StreamResponse, error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	all, walk, err := membersOf(snap, *in)
	if err != nil {
		return nil, err
	}
	return server.StreamCSV("members.csv", func(w *ingest.CSV) {
		_ = w.Write([]string{"id", "name", "addresses", "why"})
		for _, i := range all {
			m := snap.Estate.Workload(i)
			var addrs []string
			for _, ep := range snap.Estate.Endpoints(i, snap.Compiled.AsOf) {
				if ep.Addr.IsValid() {
					addrs = append(addrs, ep.Addr.String())
				}
			}
			e := walk.Explain(in.Name, snap.Estate.Endpoints(i, snap.Compiled.AsOf)[0], false)
			_ = w.Write([]string{m.ID, m.Name, strings.Join(addrs, " "), whyMember(e)})
		}
	}), nil
}

// whyMember returns in few words what settled an answer.
func whyMember(m decide.Membership) string {
	if m.Listed != "" {
		return "listed after " + m.Listed
	}
	var parts []string
	for _, r := range m.Reasons {
		switch {
		case r.Missing:
			parts = append(parts, r.Key+" missing")
		case r.Key != "" && m.Truth == expr.No:
			parts = append(parts, r.Key+" is "+r.Value)
		case r.Key != "" && r.Tag != nil:
			parts = append(parts, r.Key+" by "+r.Tag.Source)
		case r.Group != "" && len(r.Kids) > 0:
			parts = append(parts, whyMember(decide.Membership{Truth: r.Truth, Reasons: r.Kids}))
		case r.Key == "":
			parts = append(parts, r.Text)
		}
	}
	if len(parts) > 0 && m.Truth == expr.Yes {
		for _, p := range parts {
			if strings.HasSuffix(p, "by hand") {
				return p
			}
		}
		_, source, ok := strings.Cut(parts[len(parts)-1], " by ")
		if ok {
			return source
		}
	}
	if len(parts) > 0 {
		return parts[0]
	}
	return ""
}
