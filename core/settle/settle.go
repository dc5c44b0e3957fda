// Package settle turns conversations that somebody points at into rules that
// decide them, at several widths: just these workloads, their groups, wider.
//
// It must not know of screens; what the rules would do besides is for the caller
// to ask. Start reading at Rules.
package settle

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/core/syntax"
)

// Width is how much a rule speaks of beside what was pointed at.
type Width string

// The widths.
const (
	Exact  Width = "exact"
	Groups Width = "groups"
	Wider  Width = "wider"
)

// option is a rule that would decide the conversations.
type option struct {
	Width  Width
	Words  string   // of whom it speaks
	Lines  []string // the groups that it needs, and the rule; a statement each
	Before int      // the line that the rule must stand before; 0: it can stand last in the layer allowances
	// Instead is the rule that decides some of them now, and that the new one is
	// an exception to; nil where Before is 0.
	Instead *policy.Rule
}

// most is how many ends a rule names one by one.
const most = 40

// Rules returns rules that would give conversations of a view a verdict, permit or
// reject, the narrowest first. Those that come out alike are given once.
func Rules(v *reach.View, conversations []int, action policy.Action, reason string) []option {
	if len(conversations) == 0 {
		return nil
	}
	s := &scene{v: v, action: action, reason: reason}
	s.look(conversations)
	before, instead := s.place(conversations)
	var out []option
	for _, o := range []*option{s.exact(), s.groups(), s.wider()} {
		if o == nil || slices.ContainsFunc(out, func(have option) bool { return slices.Equal(have.Lines, o.Lines) }) {
			continue
		}
		o.Before, o.Instead = before, instead
		out = append(out, *o)
	}
	return out
}

// scene is what was pointed at.
type scene struct {
	v       *reach.View
	action  policy.Action
	reason  string
	on      string
	clients side
	servers side
	sameKey string // a key of which all clients and servers have one value; blank: none
}

// side is the clients, or the servers.
type side struct {
	ends   []decide.Placed // each once
	labels []reach.Label   // each once
	of     map[reach.Label][]decide.Placed
}

func (s *side) add(p decide.Placed, l reach.Label) {
	if s.of == nil {
		s.of = map[reach.Label][]decide.Placed{}
	}
	if s.of[l] == nil {
		s.labels = append(s.labels, l)
	}
	if !slices.ContainsFunc(s.of[l], func(have decide.Placed) bool { return have.Endpoint == p.Endpoint }) {
		s.of[l] = append(s.of[l], p)
		s.ends = append(s.ends, p)
	}
}

func (s *scene) look(conversations []int) {
	var points service.Set
	seen := map[service.Point]bool{}
	for _, i := range conversations {
		c := s.v.At(i)
		client, server := s.v.Labels(i)
		s.clients.add(c.Client, client)
		s.servers.add(c.Server, server)
		if !seen[c.Point] {
			seen[c.Point] = true
			points = points.Union(service.Set{{Lo: c.Point, Hi: c.Point}})
		}
	}
	for _, x := range []*side{&s.clients, &s.servers} {
		slices.SortFunc(x.ends, func(a, b decide.Placed) int {
			return cmp.Or(strings.Compare(s.v.Name(a), s.v.Name(b)), a.Addr.Compare(b.Addr))
		})
		slices.SortFunc(x.labels, func(a, b reach.Label) int { return strings.Compare(a.Key(), b.Key()) })
	}
	s.on = s.services(points)
	if keys := s.v.Structural; len(keys) > 2 && s.one(keys[2]) {
		s.sameKey = keys[2]
	}
}

// services calls points by a service of the policy that has just these, or by
// their specs.
func (s *scene) services(points service.Set) string {
	p := s.v.Compiled.Policy
	var names []string
	for name := range p.Services {
		if p.Points(policy.Services{Specs: []policy.Spec{{Service: name}}}).Equal(points) {
			names = append(names, name)
		}
	}
	if len(names) > 0 {
		slices.Sort(names)
		return syntax.Name(names[0])
	}
	var specs []string
	for _, r := range points {
		for pt := r.Lo; pt <= r.Hi; pt++ { // points that were seen: few
			if service.IsICMP(pt.Proto()) && pt.Port() == service.UnknownType {
				specs = append(specs, service.ProtoName(pt.Proto())) // only the whole protocol matches it
			} else {
				specs = append(specs, pt.String())
			}
		}
	}
	return strings.Join(slices.Compact(specs), ", ")
}

// one reports whether all ends are workloads with one value of a key.
func (s *scene) one(key string) bool {
	value := ""
	for _, p := range slices.Concat(s.clients.ends, s.servers.ends) {
		if p.Workload == estate.Outside {
			return false
		}
		t, ok := s.v.Compiled.Estate.Workload(p.Workload).Tag(key)
		if !ok || t.Value == "" || value != "" && expr.Fold(t.Value) != value {
			return false
		}
		value = expr.Fold(t.Value)
	}
	return true
}

func (s *scene) rule(left, right, clauses string) string {
	line := fmt.Sprintf("%s %s -> %s on %s%s", s.action, left, right, s.on, clauses)
	if s.reason != "" {
		line += " " + syntax.Quote(s.reason)
	}
	return line
}

// exact names every workload and address.
func (s *scene) exact() *option {
	if len(s.clients.ends) > most || len(s.servers.ends) > most {
		return nil
	}
	items := func(ends []decide.Placed) string {
		var out []string
		for _, p := range ends {
			text := p.Addr.String()
			if p.Workload != estate.Outside {
				text = "workload " + syntax.Name(s.v.Compiled.Estate.Workload(p.Workload).ID)
			}
			if !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
		return strings.Join(out, ", ")
	}
	return &option{Width: Exact, Words: fmt.Sprintf("%s to %s", s.counted(s.clients.ends), s.counted(s.servers.ends)),
		Lines: []string{s.rule(items(s.clients.ends), items(s.servers.ends), "")}}
}

func (s *scene) counted(ends []decide.Placed) string {
	if len(ends) == 1 {
		return s.v.Name(ends[0])
	}
	return fmt.Sprintf("%d workloads or addresses", len(ends))
}

// groups names the groups that the ledger calls the ends by; those that there
// are none of yet are made.
func (s *scene) groups() *option {
	var made []string
	left, words1 := s.items(&s.clients, &made)
	right, words2 := s.items(&s.servers, &made)
	return &option{Width: Groups, Words: fmt.Sprintf("all of %s to all of %s", words1, words2),
		Lines: append(made, s.rule(left, right, ""))}
}

// items names the labels of a side, and adds the groups that are missing.
func (s *scene) items(x *side, made *[]string) (list, words string) {
	var items, names []string
	for _, l := range x.labels {
		switch l.Kind {
		case "group":
			items, names = append(items, groupItem(l.Text)), append(names, l.Text)
		case "outside":
			items, names = append(items, l.Text), append(names, l.Text)
		case "workload":
			for _, p := range x.of[l] {
				id := s.v.Compiled.Estate.Workload(p.Workload).ID
				items, names = append(items, "workload "+syntax.Name(id)), append(names, s.v.Name(p))
			}
		default:
			name, line := s.group(l, x.of[l][0])
			if line != "" && !slices.Contains(*made, line) {
				*made = append(*made, line)
			}
			items, names = append(items, groupItem(name)), append(names, name)
		}
	}
	slices.Sort(items)
	return strings.Join(slices.Compact(items), ", "), joined(names)
}

// groupItem names a group in a list, also one that reads as an address.
func groupItem(name string) string { return policy.Operand{Name: name}.String() }

func joined(names []string) string {
	if len(names) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:2], ", "), len(names)-2)
	}
	return strings.Join(names, ", ")
}

// describe reports which workloads are called by the same tags as one.
func (s *scene) describe(l reach.Label, p decide.Placed) (name, body string) {
	w := s.v.Compiled.Estate.Workload(p.Workload)
	var tests []string
	for _, k := range s.v.Structural[:min(3, len(s.v.Structural))] {
		key := expr.Key{Name: k}
		if t, ok := w.Tag(k); ok && t.Value != "" {
			tests = append(tests, fmt.Sprintf("%s is %s", key, syntax.Name(expr.Fold(t.Value))))
		} else {
			tests = append(tests, fmt.Sprintf("lacks %s", key))
		}
	}
	return l.Text, strings.Join(tests, " and ")
}

// group returns a group for workloads that are called by their tags: its name, and
// the statement that makes it, blank if there is such a group.
func (s *scene) group(l reach.Label, p decide.Placed) (name, line string) {
	name, body := s.describe(l, p)
	for n := 2; ; n++ {
		have := s.v.Compiled.Policy.Groups[name]
		if have == nil {
			return name, fmt.Sprintf("group %s = %s", syntax.Name(name), body)
		}
		if have.Expr.String() == body && len(have.Include)+len(have.Exclude) == 0 {
			return name, ""
		}
		name = fmt.Sprintf("%s-%d", l.Text, n)
	}
}

// wider takes, for the clients, the smallest group that holds them all and more;
// without one, everything of the same environment, or everything.
func (s *scene) wider() *option {
	var made []string
	right, words := s.items(&s.servers, &made)
	if name := s.around(s.clients); name != "" {
		return &option{Width: Wider, Words: fmt.Sprintf("all of %s to all of %s", name, words),
			Lines: append(made, s.rule(groupItem(name), right, ""))}
	}
	if s.sameKey != "" {
		return &option{Width: Wider, Words: fmt.Sprintf("anything with the same %s to all of %s", s.sameKey, words),
			Lines: append(made, s.rule("any", right, " same "+expr.Key{Name: s.sameKey}.String()))}
	}
	return &option{Width: Wider, Words: "anything to all of " + words, Lines: append(made, s.rule("any", right, ""))}
}

// around returns the smallest group that holds all ends of a side, and more than
// the groups that they are called by.
func (s *scene) around(x side) string {
	c := s.v.Compiled
	sizes := c.GroupSizes()
	own := 0
	for i, g := range c.Policy.GroupOrder {
		for _, l := range x.labels {
			if l.Kind == "group" && l.Text == g.Name {
				own += sizes[i]
			}
		}
	}
	best, name := 0, ""
	for i, g := range c.Policy.GroupOrder {
		if sizes[i] <= max(own, len(x.ends)) || name != "" && sizes[i] >= best {
			continue
		}
		if !slices.ContainsFunc(x.ends, func(p decide.Placed) bool { return c.Group(g.Name, p) != expr.Yes }) {
			best, name = sizes[i], g.Name
		}
	}
	return name
}

// place finds where the rule must stand to decide the conversations: before the
// first rule that decides one of them now, where that stands before the end of
// the layer allowances.
func (s *scene) place(conversations []int) (before int, instead *policy.Rule) {
	end := 0
	for _, l := range s.v.Compiled.Policy.Layers {
		if l.Name == policy.Closing && end == 0 {
			end = l.Line // allowances would be added before it
		}
		if l.Name == policy.Allowances {
			end = l.Line
			for _, r := range l.Rules {
				end = r.Line + 1
			}
			break
		}
	}
	for _, i := range conversations {
		r := s.v.At(i).Rule
		if r != nil && (end == 0 || r.Line < end) && (instead == nil || r.Line < instead.Line) {
			instead = r
		}
	}
	if instead != nil {
		before = instead.Line
	}
	return before, instead
}

// Apply returns the text of a policy with an option's lines in their places.
func Apply(text string, lines []string, before int) (string, *policy.EditError) {
	if before == 0 {
		p, errs := policy.Parse(policy.InsertAllowances(text, lines))
		if len(errs) > 0 {
			return "", &policy.EditError{Message: "the policy would have an error: " + errs[0].Message, Errors: errs}
		}
		return p.Format(), nil
	}
	after, _, err := policy.Edit{Op: policy.Add, Text: strings.Join(lines, "\n"), Before: before}.Apply(text)
	return after, err
}

// Question says in the words of a probe of whom conversations are: the groups
// that the ledger calls their ends by, or what the workloads have in common.
func Question(v *reach.View, conversations []int) string {
	s := &scene{v: v}
	s.look(conversations)
	side := func(x *side) string {
		var items []string
		for _, l := range x.labels {
			switch l.Kind {
			case "group":
				items = append(items, groupItem(l.Text))
			case "outside":
				items = append(items, l.Text)
			case "workload":
				for _, p := range x.of[l] {
					items = append(items, "workload "+syntax.Name(v.Compiled.Estate.Workload(p.Workload).ID))
				}
			default:
				_, body := s.describe(l, x.of[l][0])
				items = append(items, "("+body+")")
			}
		}
		slices.Sort(items)
		return strings.Join(slices.Compact(items), ", ")
	}
	return side(&s.clients) + " -> " + side(&s.servers) + " " + s.on
}

// Many settles several rows, each the conversations of a view that it stands for,
// in one text: one after the other, each by the rule of the width, or by the
// narrowest that there is. A row that has the verdict by then adds none.
func Many(v *reach.View, text string, rows [][]int, action policy.Action, width Width) (after string,
	bad *policy.EditError) {
	want := decide.Permit
	if action == policy.Reject {
		want = decide.Reject
	}
	after = text
	for _, row := range rows {
		left := slices.DeleteFunc(slices.Clone(row), func(i int) bool { return v.Verdict(i) == want })
		options := Rules(v, left, action, "")
		if len(options) == 0 {
			continue // by what was added for another row, or by itself
		}
		o := options[0]
		for _, x := range options {
			if x.Width == width {
				o = x
			}
		}
		if after, bad = Apply(after, o.Lines, o.Before); bad != nil {
			return "", bad
		}
		p, _ := policy.Parse(after)
		v = v.With(v.Compiled.WithPolicy(p, v.Compiled.AsOf))
	}
	return after, nil
}
