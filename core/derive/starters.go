package derive

// What nearly everybody wants to begin with: groups by the structural tags that
// there are, environments kept apart, and statements that must hold.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/syntax"
)

// Starter is a statement to begin with.
type Starter struct {
	ID      string   `json:"id" doc:"Names it in a request"`
	Kind    string   `json:"kind" enum:"environment,group,guardrail,assertion"`
	Words   string   `json:"words" doc:"What it is for"`
	Text    string   `json:"text" doc:"The statement"`
	Layer   string   `json:"layer,omitempty" doc:"Of a rule"`
	Members int      `json:"members" doc:"Of a group"`
	Needs   []string `json:"needs" doc:"Ids of the groups that it names"`
	// Doubt is why it should not be taken as it is; blank: nothing speaks against it.
	Doubt string `json:"doubt,omitempty" doc:"Why it should not be taken as it is"`
}

// The layers of a new policy, in their order.
var layers = []string{"guardrails", "separations", policy.Allowances, "closing"}

// Starters returns statements to begin a policy with that it does not have: a group
// for each environment, one for each application, tier and environment that have
// members, and what guards them. Groups that the policy has under another name are
// named as it names them; values that look misspelt get none.
//
// Workloads of the shared roles are left out of environments that are kept apart: what serves
// all of them would be cut off from the others.
func Starters(e *estate.Estate, p *policy.Policy, shared ...Role) []Starter {
	keys := structural(e)
	s := &starting{policy: p, keys: keys, taken: map[string]bool{}, bodies: map[string]string{}}
	for name, g := range p.Groups {
		s.taken[name], s.bodies[g.Body()] = true, name
	}
	counts, unclear := map[[3]string]int{}, map[[3]string]int{}
	environments := map[string]int{}
	spelled := map[string]string{} // values that differ in case only are one
	misspelt := map[[2]string]bool{}
	for _, m := range estate.Misspellings(e) {
		// In another case it is the same to an expression.
		misspelt[[2]string{m.Key, m.Value}] = expr.Fold(m.Value) != expr.Fold(m.Like)
	}
	for _, w := range e.All() {
		if !w.Retired.IsZero() {
			continue
		}
		s.members++
		var v [3]string
		for i, k := range keys {
			if t, ok := w.Tag(k); ok && k != "" && !misspelt[[2]string{k, t.Value}] {
				folded := expr.Fold(t.Value)
				if spelled[folded] == "" {
					spelled[folded] = t.Value
				}
				v[i] = spelled[folded]
			}
		}
		if v[2] != "" {
			environments[v[2]]++
		}
		if v[0] != "" && v[1] != "" && v[2] != "" {
			counts[v]++
		} else {
			unclear[v]++
		}
	}
	s.unclear = unclear
	byCount := func(a, b string) int { return cmp.Or(environments[b]-environments[a], strings.Compare(a, b)) }
	var envs []string
	for v := range environments {
		envs = append(envs, v)
	}
	slices.SortFunc(envs, byCount)
	for _, v := range envs {
		s.group("environment", [3]string{2: v}, environments[v])
	}
	var all [][3]string
	for v := range counts {
		all = append(all, v)
	}
	slices.SortFunc(all, func(a, b [3]string) int { return slices.Compare(a[:], b[:]) })
	for _, v := range all {
		s.group("group", v, counts[v])
	}
	s.guard(envs, s.apart(e, envs, shared))
	return s.out
}

// starting gathers starters.
type starting struct {
	policy *policy.Policy
	keys   [3]string
	taken  map[string]bool
	bodies map[string]string // names of groups, by what they say
	// unclear counts the workloads that lack a structural tag, by those that they have.
	unclear map[[3]string]int
	members int // workloads that are not retired
	out     []Starter
}

// enough is the share of the workloads that may belong to a group, as a divisor, that must
// be known to belong to it: a sixth.
const enough = 6

// doubt returns why a group of some tags is likely to miss most of its kind: most of the
// workloads that may belong to it lack one of the tags.
func (s *starting) doubt(tags [3]string, members int) string {
	maybe, lacks := 0, ""
	for has, n := range s.unclear {
		fits, missing := true, ""
		for i, v := range tags {
			if v != "" && has[i] != v {
				fits = fits && has[i] == ""
				missing = cmp.Or(missing, s.keys[i])
			}
		}
		if fits && missing != "" {
			maybe += n
			lacks = max(lacks, missing)
		}
	}
	if members*enough > members+maybe {
		return ""
	}
	return fmt.Sprintf("%d more may belong to it, but lack a tag such as %s", maybe, lacks)
}

// group offers a group of the tags that are not blank.
func (s *starting) group(kind string, tags [3]string, members int) {
	var names, tests []string
	for i, v := range tags {
		if v != "" {
			names = append(names, plain(v))
			tests = append(tests, syntax.Name(s.keys[i])+" is "+syntax.Name(v))
		}
	}
	body := strings.Join(tests, " and ")
	if s.bodies[body] != "" {
		return
	}
	name := strings.Join(names, "-")
	for i := 2; s.taken[name] || name == "" || syntax.IsKeyword(name); i++ {
		name = fmt.Sprintf("%s-%d", cmp.Or(strings.Join(names, "-"), kind), i)
	}
	s.taken[name], s.bodies[body] = true, name
	s.out = append(s.out, Starter{ID: "group " + name, Kind: kind, Members: members, Needs: []string{},
		Words: fmt.Sprintf("%s where %s", syntax.Name(name), body), Text: "group " + syntax.Name(name) + " = " +
			body, Doubt: s.doubt(tags, members)})
}

// apart offers, for each environment that has workloads of shared roles, a group without
// them, and returns by environment the name of the group to keep apart.
func (s *starting) apart(e *estate.Estate, envs []string, shared []Role) map[string]string {
	out := map[string]string{}
	for _, env := range envs {
		whole := s.bodies[syntax.Name(s.keys[2])+" is "+syntax.Name(env)]
		out[env] = whole
		own, serves := 0, false
		for i, w := range e.All() {
			if t, _ := w.Tag(s.keys[2]); !w.Retired.IsZero() || expr.Fold(t.Value) != expr.Fold(env) {
				continue
			}
			if slices.ContainsFunc(shared, func(r Role) bool { return has(e, i, r) }) {
				serves = true
			} else {
				own++
			}
		}
		if !serves || own == 0 {
			continue
		}
		body := "member of " + syntax.Name(whole) + noneOf(shared)
		if s.bodies[body] == "" {
			name := whole + "-own"
			for i := 2; s.taken[name]; i++ {
				name = fmt.Sprintf("%s-own-%d", whole, i)
			}
			s.taken[name], s.bodies[body] = true, name
			needs := []string{}
			if s.policy.Groups[whole] == nil {
				needs = append(needs, "group "+whole)
			}
			s.out = append(s.out, Starter{ID: "group " + name, Kind: "group", Members: own, Needs: needs,
				Words: fmt.Sprintf("%s without what serves every environment", whole),
				Text:  "group " + syntax.Name(name) + " = " + body})
		}
		out[env] = s.bodies[body]
	}
	return out
}

// inside is the group of all workloads, for statements about what reaches the estate.
const inside = "not outside"

// guard offers what keeps environments apart, and statements that must hold.
func (s *starting) guard(envs []string, apart map[string]string) {
	have := map[string]bool{}
	for _, item := range s.policy.Items {
		if item.Statement != nil {
			text, _, _ := strings.Cut(item.Statement.String(), ` "`)
			have[text] = true
		}
	}
	offer := func(kind, layer, words, text string, groups ...string) {
		if have[text] {
			return
		}
		needs := []string{}
		for _, g := range groups {
			if s.policy.Groups[g] == nil {
				needs = append(needs, "group "+g)
			}
		}
		s.out = append(s.out, Starter{ID: kind + " " + text, Kind: kind, Layer: layer, Words: words, Needs: needs,
			Text: text + " " + syntax.Quote(words)})
	}
	offer("guardrail", layers[0], "No telnet leaves the estate", "reject any -> outside on tcp/23")
	var names, written []string
	for _, v := range envs {
		names, written = append(names, apart[v]), append(written, syntax.Name(apart[v]))
	}
	if len(envs) > 1 {
		offer("guardrail", layers[1], "Environments are kept apart", "apart "+strings.Join(written, ", "), names...)
		for i := range envs[1:] {
			offer("assertion", "", fmt.Sprintf("Nothing of %s reaches %s", names[i+1], names[0]),
				"assert never "+written[i+1]+" -> "+written[0]+" on any", names[i+1], names[0])
		}
	}
	if s.bodies[inside] == "" {
		name := "inside"
		for i := 2; s.taken[name]; i++ {
			name = fmt.Sprintf("inside-%d", i)
		}
		s.bodies[inside] = name
		s.out = append(s.out, Starter{ID: "group " + name, Kind: "group", Members: s.members, Needs: []string{},
			Words: name + " where " + inside, Text: "group " + name + " = " + inside,
			Doubt: "the assertion about outside addresses adds it if it is chosen"})
	}
	offer("assertion", "", "No outside address reaches an administration service",
		"assert never outside -> "+syntax.Name(s.bodies[inside])+" on tcp/22, tcp/3389, tcp/5985", s.bodies[inside])
}

// Begin adds starters to a policy text: those that are named, with the groups that
// they need.
func Begin(text string, all []Starter, ids []string) (string, *policy.EditError) {
	chosen := map[string]bool{}
	for _, id := range ids {
		chosen[id] = true
	}
	for _, s := range slices.Backward(all) { // what is needed comes before what needs it
		if chosen[s.ID] {
			for _, need := range s.Needs {
				chosen[need] = true
			}
		}
	}
	p, _ := policy.Parse(text)
	var edits []policy.Edit
	for _, layer := range layers {
		if len(p.Layers) == 0 {
			edits = append(edits, policy.Edit{Op: policy.Add, Text: "layer " + layer})
		}
	}
	for _, s := range all {
		if chosen[s.ID] {
			layer := s.Layer
			if layer != "" && len(p.Layers) > 0 && !slices.ContainsFunc(p.Layers,
				func(l *policy.Layer) bool { return l.Name == layer }) {
				layer = p.Layers[0].Name
			}
			edits = append(edits, policy.Edit{Op: policy.Add, Text: s.Text, Layer: layer})
		}
	}
	return policy.ApplyAll(text, edits)
}
