package plan

import (
	"encoding/binary"
	"fmt"
	"hash/fnv"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Planner makes the plans of many points for one policy and estate. What several
// points need is found once. It is not safe for use by several goroutines.
type Planner struct {
	c        *decide.Compiled
	line     []decide.Stretch
	byClass  map[int32][]int32 // class → places in line
	present  []int32           // classes that have addresses, rising
	byHolder map[int32][]int32 // workload → places in line
	sets     []Set
	peers    []peers           // by set: whom it holds
	known    map[string]int    // words and classes of peers → index of sets
	named    map[string]string // name → words and classes
	rules    map[sideOf][]Rule // of a guarded class
	holds    [2][][]int32      // by rule: classes that its left, and its right, side holds
	alike    map[alike]int     // → index of sets, or Anybody
	fixed    bool              // names hang on what sets hold: nothing can be moved
}

// peers says which classes a set holds: those of a rule's far side, that agree with a
// class that is guarded.
type peers struct {
	title   string // says what they are: the same for the same, whoever asks and when
	rule    int32
	of      sideOf
	paired  bool
	classes map[int32]bool
}

// alike is all that the peers of a rule hang on, seen from a class that is guarded.
type alike struct {
	rule, far int32
	bearing   string
}

type sideOf struct {
	class  int32
	server bool
}

// NewPlanner prepares for plans as of the instant of a compilation.
func NewPlanner(c *decide.Compiled) *Planner {
	p := &Planner{c: c, line: c.Stretches(c.AsOf), byClass: map[int32][]int32{}, byHolder: map[int32][]int32{},
		known: map[string]int{}, named: map[string]string{}, rules: map[sideOf][]Rule{},
		alike: map[alike]int{}}
	for i, s := range p.line {
		if p.byClass[s.Class] == nil {
			p.present = append(p.present, s.Class)
		}
		p.byClass[s.Class] = append(p.byClass[s.Class], int32(i))
		if s.Workload != estate.Outside {
			p.byHolder[s.Workload] = append(p.byHolder[s.Workload], int32(i))
		}
	}
	slices.Sort(p.present)
	for k := range p.holds {
		p.holds[k] = make([][]int32, len(c.Policy.Rules))
		for _, class := range p.present {
			c.RulesAt(class, k == 1, func(rule int32) { p.holds[k][rule] = append(p.holds[k][rule], class) })
		}
	}
	return p
}

// Plan makes the plan of a point that guards some workloads: their indexes. Those
// that hold no address have no part in it.
func (p *Planner) Plan(guards []int32, kind Kind, side Side) *Plan {
	out := &Plan{Kind: kind, Side: side, Sets: []Set{}, Classes: []Class{}}
	own := map[int]int{}           // set of the planner → of the plan
	byRules := map[[2]string]int{} // by what tells the server's and the client's apart
	order := slices.Clone(guards)
	slices.Sort(order)
	for _, w := range slices.Compact(order) {
		for _, at := range p.byHolder[w] {
			s := p.line[at]
			var server, client []Rule
			if side != Client {
				server = p.rulesOf(sideOf{s.Class, true})
			}
			if side != Server {
				client = p.rulesOf(sideOf{s.Class, false})
			}
			key := [2]string{fingerprint(server), fingerprint(client)}
			n, ok := byRules[key]
			if !ok {
				n = len(out.Classes)
				byRules[key] = n
				h := fnv.New64a()
				_, _ = fmt.Fprintf(h, "%d %d ", len(server), len(client))
				_, _ = h.Write([]byte(p.namedFingerprint(server) + p.namedFingerprint(client)))
				out.Classes = append(out.Classes, Class{Name: fmt.Sprintf("c%016x", h.Sum64()),
					Server: p.ownRules(server, own, out), Client: p.ownRules(client, own, out)})
			}
			c := &out.Classes[n]
			c.Addresses = append(c.Addresses, s.First)
			if id := p.c.Estate.Workload(w).ID; !slices.Contains(c.Workloads, id) {
				c.Workloads = append(c.Workloads, id)
			}
		}
	}
	for i := range out.Classes {
		slices.SortFunc(out.Classes[i].Addresses, netip.Addr.Compare)
		slices.Sort(out.Classes[i].Workloads)
	}
	return out
}

// ownRules gives rules with the sets of a plan, which gains those that it lacks.
func (p *Planner) ownRules(rules []Rule, own map[int]int, out *Plan) []Rule {
	mine := slices.Clone(rules)
	for i := range mine {
		if mine[i].Peers == Anybody {
			continue
		}
		n, ok := own[mine[i].Peers]
		if !ok {
			n = len(out.Sets)
			own[mine[i].Peers] = n
			out.Sets = append(out.Sets, p.sets[mine[i].Peers])
		}
		mine[i].Peers = n
	}
	if mine == nil {
		mine = []Rule{}
	}
	return mine
}

// fingerprint tells lists of rules apart.
func fingerprint(rules []Rule) string {
	b := make([]byte, 0, 8*len(rules))
	for _, r := range rules {
		b = binary.AppendVarint(binary.AppendVarint(b, int64(r.Line)), int64(r.Peers))
	}
	return string(b)
}

// namedFingerprint is one that is the same for another planner.
func (p *Planner) namedFingerprint(rules []Rule) string {
	var b []byte
	for i := range rules {
		r := &rules[i]
		name := ""
		if r.Peers != Anybody {
			name = p.sets[r.Peers].Name
		}
		b = r.append(append(b, r.Words...), name)
	}
	return string(b)
}

// rulesOf finds the rules for a guarded class on one side, in order, up to the one
// behind which nothing is left to decide.
func (p *Planner) rulesOf(of sideOf) []Rule {
	if have, ok := p.rules[of]; ok {
		return have
	}
	var out []Rule
	rest := service.All
	p.c.RulesAt(of.class, of.server, func(i int32) {
		points := p.c.RulePoints(i)
		if len(rest) == 0 || len(points.Intersect(rest)) == 0 {
			return
		}
		r := p.c.Policy.Rules[i]
		peers := p.peersOf(i, r, of)
		x := Rule{Line: r.Line, Verdict: Reject, Points: points, On: words(points), Peers: peers, Words: r.Sentence(),
			Log: r.Log}
		if r.Action == policy.Permit {
			x.Verdict = Permit
		}
		if r.Until != nil {
			x.Until = r.Until.End().Sec
		}
		out = append(out, x)
		if peers == Anybody && x.Until == 0 { // else one day, or for others, the rules behind it decide
			rest = rest.Minus(points)
		}
	})
	p.rules[of] = out
	return out
}

// peersOf gives the set of the peers of a rule, or Anybody. That there are none now is
// no reason to leave the rule out: one day there may be, without a release.
func (p *Planner) peersOf(i int32, r *policy.Rule, of sideOf) int {
	far := 1
	if of.server {
		far = 0
	}
	key := alike{i, int32(far), ""}
	paired := p.c.Paired(i)
	if paired {
		key.bearing = p.c.Bearing(i, of.class)
	}
	if n, known := p.alike[key]; known {
		return n
	}
	n := Anybody
	side := r.Right
	if of.server {
		side = r.Left
	}
	// That all addresses of today are in a group is not that the rule is for anybody.
	if paired || !side.Any {
		x := peers{rule: i, of: of, paired: paired, classes: map[int32]bool{}}
		var classes []int32
		for _, class := range p.holds[far][i] {
			if p.agrees(&x, class) {
				classes = append(classes, class)
			}
		}
		words, title := p.peerWords(r, of)
		n = p.set(classes, words, title, x)
	}
	p.alike[key] = n
	return n
}

// agrees reports whether a class on the far side of a rule is among its peers.
func (p *Planner) agrees(x *peers, class int32) bool {
	if !x.paired {
		return true
	}
	a, b := class, x.of.class
	if !x.of.server {
		a, b = b, a
	}
	return p.c.Reaches(x.rule, a, b)
}

// words says points; nothing for all of them.
func words(points service.Set) []string {
	out := []string{}
	if points.Equal(service.All) {
		return out
	}
	for _, r := range points {
		out = append(out, rangeWords(r)...)
	}
	return out
}

// rangeWords says a range, protocol by protocol.
func rangeWords(r service.Range) (out []string) {
	for proto := int(r.Lo.Proto()); proto <= int(r.Hi.Proto()); proto++ {
		whole := service.Whole(uint8(proto))
		part := service.Range{Lo: max(r.Lo, whole.Lo), Hi: min(r.Hi, whole.Hi)}
		if part.Lo <= part.Hi {
			out = append(out, part.String())
		}
	}
	return out
}

// set gives the index of the set of some classes' addresses.
func (p *Planner) set(classes []int32, words, title string, whom peers) int {
	key := keyOf(title, classes)
	if n, ok := p.known[key]; ok {
		return n
	}
	var places []int32
	for _, c := range classes {
		places = append(places, p.byClass[c]...)
	}
	slices.Sort(places)
	spans := make([]Span, len(places))
	for i, at := range places {
		spans[i] = Span{p.line[at].First, p.line[at].Last}
	}
	addresses := addressesOf(spans)
	name := slug(title)
	if p.named[name] != "" { // what it holds tells it apart, so that it does not hang on who asks first
		name = slug(title + " " + addresses.String())
		p.fixed = true
	}
	whom.title = title
	for _, c := range classes {
		whom.classes[c] = true
	}
	p.peers = append(p.peers, whom)
	p.named[name] = key
	n := len(p.sets)
	p.known[key] = n
	made := Set{Name: name, Words: words, Addresses: addresses}
	made.shared = sharedOf(addresses)
	p.sets = append(p.sets, made)
	return n
}

// keyOf tells sets apart: not by what they hold alone, as what is the same now may not be
// later. classes are rising.
func keyOf(title string, classes []int32) string {
	raw := append(make([]byte, 0, len(title)+4*len(classes)), title...)
	for _, c := range classes {
		raw = binary.LittleEndian.AppendUint32(raw, uint32(c))
	}
	return string(raw)
}

// slug makes a name of words that every kernel takes.
func slug(words string) string {
	h := fnv.New32a()
	_, _ = h.Write([]byte(words))
	short := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '_'
	}, words)
	if len(short) > 16 {
		short = short[:16]
	}
	return fmt.Sprintf("p_%s_%06x", strings.Trim(short, "_"), h.Sum32()&0xffffff)
}

// peerWords says which peers a rule speaks of, seen from a guarded class; the title is
// the same for those that are the same.
func (p *Planner) peerWords(r *policy.Rule, of sideOf) (words, title string) {
	var parts []string
	switch {
	case r.Action == policy.Apart:
		kept, bits := p.kept(r.Groups, of.class)
		parts, title = append(parts, kept), bits
	case of.server:
		parts = append(parts, r.Left.String())
	default:
		parts = append(parts, r.Right.String())
	}
	if r.Within != nil {
		if p.says(of.class, r.Within.Name) != expr.Yes {
			return "nobody", "nobody" // it is for those within alone
		}
		parts = append(parts, "within "+r.Within.Name)
	}
	if r.Area != nil && p.says(of.class, p.c.Policy.Areas[r.Area.Name].Group.Name) != expr.Yes {
		parts = append(parts, "area "+r.Area.Name)
	}
	w := p.someOf(of.class)
	for _, k := range r.Same {
		v, _ := k.Of(w)
		parts = append(parts, k.String()+" is "+expr.Fold(v))
	}
	for _, k := range r.Across {
		v, _ := k.Of(w)
		parts = append(parts, k.String()+" is not "+expr.Fold(v))
	}
	words = strings.Join(parts, ", ")
	return words, words + title
}

// says gives what a group says of a guarded class.
func (p *Planner) says(class int32, group string) expr.Truth {
	s := p.line[p.byClass[class][0]]
	return p.c.Group(group, p.c.At(s.First, p.c.AsOf))
}

// kept names the groups of a separation that are kept apart from a class: those that
// it is not in, or if it is in several of them, all. The title says of each whether it is
// in it.
func (p *Planner) kept(groups []policy.Ref, class int32) (words, title string) {
	var in, out []string
	title = " apart"
	for _, g := range groups {
		if p.says(class, g.Name) == expr.Yes {
			in = append(in, g.Name)
			title += " +" + g.Name
		} else {
			out = append(out, g.Name)
			title += " -" + g.Name
		}
	}
	switch {
	case len(in) == 0:
		return "nobody", title
	case len(in) > 1:
		out = append(out, in...)
	}
	return strings.Join(out, ", "), title
}

// someOf gives a workload of a class; guarded classes have one.
func (p *Planner) someOf(class int32) *estate.Workload {
	for _, at := range p.byClass[class] {
		if w := p.line[at].Workload; w != estate.Outside {
			return p.c.Estate.Workload(w)
		}
	}
	return &estate.Workload{}
}
