package derive

// What a side of a rule can be called by: sets of workloads.

import (
	"cmp"
	"hash/maphash"
	"math"
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// setMaker makes the sets of workloads that rules can name.
type setMaker struct{ *deriver }

// set is workloads that a rule can speak of as one: those with some tags, a group
// of the policy, or everybody.
type set struct {
	tests   []test // in the order of the keys; none: everybody, or a group
	group   string // of the policy
	members []int32
	words   float64 // what it costs to say it, in bits
	roles   []roleCount
	bits    []uint64 // the members, where there are many
	apps    int      // applications of its members
	largest float64  // share of the members that its largest role has
	unit    bool     // it may stand on the side of a rule that the other side is found for
	mask    uint8    // of which of application, tier and environment its tests are, if of nothing else
}

// roleCount is how many members of a set have one application, tier and
// environment.
type roleCount struct {
	role int32
	n    int32
}

// test is that a tag, or a field, has a value, folded.
type test struct {
	key   expr.Key
	value string
}

func (s *set) everybody() bool { return s.group == "" && len(s.tests) == 0 }

// key distinguishes sets, and orders them.
func (s *set) key() string {
	if s.group != "" {
		return "group " + s.group
	}
	var b strings.Builder
	for _, t := range s.tests {
		b.WriteString(t.key.String() + "\x00" + t.value + "\x00")
	}
	return b.String()
}

// The price of words, in bits. A tag that says where a workload belongs is cheap,
// one that happens to agree is not.
const (
	wordsRule     = 5.0
	wordsGroup    = 2.5
	wordsAll      = 2.0
	wordsSingle   = 8.0
	wordsOutside  = 3.0
	wordsPrefix   = 7.0
	wordsMore     = 3.0 // for one more item on a side
	wordsByChance = 9.0 // for a tag that is not structural
)

// By which of application (1), tier (2) and environment (4) are said. All three are
// a little cheaper than two: where they mean the same, they are safer.
var wordsOfMask = [8]float64{0, 4, 4, 5.5, 3.5, 5.5, 6, 5.4}

// structural finds the keys that stand for application, tier and environment:
// of the usual words, the one that most workloads have.
func structural(e *estate.Estate) [3]string {
	words := [3][]string{{"app", "application", "system"}, {"tier", "role"}, {"env", "environment", "stage"}}
	count := map[string]int{}
	for _, w := range e.All() {
		for _, t := range w.Tags {
			if t.Value != "" {
				count[t.Key]++
			}
		}
	}
	var out [3]string
	for i, ws := range words {
		out[i] = slices.MaxFunc(ws, func(a, b string) int {
			return cmp.Or(count[a]-count[b], slices.Index(ws, b)-slices.Index(ws, a))
		})
	}
	return out
}

// usual has the value that a tag is most likely meant to have, folded: values
// that look misspelt count as what they look like.
type usual map[[2]string]string

func usualValues(e *estate.Estate) usual {
	out := usual{}
	for _, m := range estate.Misspellings(e) {
		out[[2]string{m.Key, expr.Fold(m.Value)}] = expr.Fold(m.Like)
	}
	return out
}

func (u usual) of(key, value string) string {
	v := expr.Fold(strings.TrimSpace(value))
	if like, ok := u[[2]string{key, v}]; ok {
		return like
	}
	return v
}

// extraKeys are the tags, beside the structural ones, and the fields that may
// separate who talks from who does not: those that several workloads share.
func (d setMaker) extraKeys() []expr.Key {
	const most = 8
	have := map[expr.Key]map[string]int{}
	count := func(k expr.Key, v string) {
		if v = expr.Fold(strings.TrimSpace(v)); v == "" {
			return
		}
		if have[k] == nil {
			have[k] = map[string]int{}
		}
		have[k][v]++
	}
	for _, w := range d.c.Estate.All() {
		for _, t := range w.Tags {
			if !slices.Contains(d.keys[:], t.Key) {
				count(expr.Key{Name: t.Key}, t.Value)
			}
		}
		count(expr.Key{Field: true, Name: "kind"}, w.Kind)
	}
	type use struct {
		key    expr.Key
		on     int
		values int
	}
	var out []use
	for k, values := range have {
		on, shared := 0, 0
		for _, n := range values {
			on += n
			if n >= 2 {
				shared++
			}
		}
		if shared >= 2 && on*2 >= d.c.Estate.Len() && len(values)*3 <= on && len(values) <= 40 {
			out = append(out, use{k, on, len(values)})
		}
	}
	slices.SortFunc(out, func(a, b use) int {
		return cmp.Or(a.values-b.values, b.on-a.on, strings.Compare(a.key.Name, b.key.Name))
	})
	var keys []expr.Key
	for _, u := range out[:min(most, len(out))] {
		keys = append(keys, u.key)
		d.valuesOf[u.key] = u.values
	}
	return keys
}

// tagOf returns the value of a workload for a key, folded; structural ones as they
// are meant.
func (d setMaker) tagOf(w int32, k expr.Key) string {
	for i, key := range d.keys {
		if !k.Field && k.Name == key {
			return d.meant[w][i]
		}
	}
	x := d.c.Estate.Workload(w)
	if k.Field {
		return expr.Fold(x.Kind)
	}
	t, _ := x.Tag(k.Name)
	return expr.Fold(strings.TrimSpace(t.Value))
}

// numberRoles numbers the combinations of application, tier and environment that
// workloads are meant to have, as far as is known by now: of each workload, and
// what each number is.
func (d setMaker) numberRoles() (of []int32, tags [][3]string) {
	numbers := map[[3]string]int32{}
	of = make([]int32, d.workloads)
	for w := range d.c.Estate.All() {
		n, ok := numbers[d.meant[w]]
		if !ok {
			n = int32(len(tags))
			numbers[d.meant[w]] = n
			tags = append(tags, d.meant[w])
		}
		of[w] = n
	}
	return of, tags
}

// finalRoles numbers the roles, once what workloads lack is found.
func (d setMaker) finalRoles() {
	d.roleOf, d.roleTags = d.numberRoles()
	d.roleSize = make([]int, len(d.roleTags))
	for w := range d.c.Estate.All() {
		d.roleSize[d.roleOf[w]]++
	}
}

// tests returns what a machine is meant to have of application (1), tier (2) and
// environment (4); false if it lacks one of them.
func (d setMaker) tests(m int32, mask uint8) ([]test, bool) {
	var out []test
	for i, key := range d.keys {
		if mask&(1<<i) == 0 {
			continue
		}
		if d.meant[m][i] == "" {
			return nil, false
		}
		out = append(out, test{expr.Key{Name: key}, d.meant[m][i]})
	}
	return out, true
}

// makeSets finds all sets with members, each once: of several with the same
// members, the one that is said in fewest words.
func (d setMaker) makeSets() {
	byKey := map[string]*set{}
	var order []*set
	add := func(s set, w int32) {
		k := s.key()
		have := byKey[k]
		if have == nil {
			have = &s
			byKey[k] = have
			order = append(order, have)
		}
		have.members = append(have.members, w)
	}
	extras := d.extraKeys()
	for w := range d.c.Estate.All() {
		if !d.present[w] {
			continue
		}
		add(set{words: wordsAll}, w)
		for mask := uint8(1); mask < 8; mask++ {
			if tests, ok := d.tests(w, mask); ok {
				add(set{tests: tests, words: wordsOfMask[mask], unit: mask != 4 && mask != 5, mask: mask}, w)
			}
		}
		for _, k := range extras {
			v := d.tagOf(w, k)
			if v == "" {
				continue
			}
			price := wordsByChance + math.Log2(float64(d.valuesOf[k]))
			for _, mask := range [3]uint8{0, 1, 7} {
				if tests, ok := d.tests(w, mask); ok {
					add(set{tests: append(tests, test{k, v}), words: price + wordsOfMask[mask]}, w)
				}
			}
		}
		for _, g := range d.groupsOf(w) {
			add(set{group: g.group, words: wordsGroup, unit: true}, w)
		}
	}
	order = slices.DeleteFunc(order, d.hollow)
	seed := maphash.MakeSeed()
	byMembers := map[uint64]*set{}
	for _, s := range order {
		k := hashOf(seed, s.members)
		have := byMembers[k]
		if have == nil {
			byMembers[k] = s
			continue
		}
		unit, mask := have.unit || s.unit, have.mask
		if s.words < have.words {
			byMembers[k], mask = s, max(mask, s.mask)
			have = s
		}
		have.unit, have.mask = unit, max(mask, s.mask)
	}
	for _, s := range order {
		if byMembers[hashOf(seed, s.members)] == s {
			d.sets = append(d.sets, s)
		}
	}
	for _, s := range d.sets {
		d.countRoles(s)
		if len(s.members) > 4 {
			s.bits = make([]uint64, len(d.meant)/64+1)
			for _, m := range s.members {
				s.bits[m>>6] |= 1 << (m & 63)
			}
		}
	}
	d.setsOf = make([][]int32, d.c.Estate.Bound())
	for id, s := range d.sets {
		for _, m := range s.members {
			d.setsOf[m] = append(d.setsOf[m], int32(id))
		}
	}
}

// hollow reports whether a set says more than its members show: a tier, or an
// environment, of one application only; everybody, where there are hardly any
// applications. What comes later may be something else.
func (d setMaker) hollow(s *set) bool {
	if s.group != "" || s.mask&1 != 0 || s.mask == 0 && !s.everybody() {
		return false
	}
	apps := map[string]bool{}
	for _, m := range s.members {
		apps[d.meant[m][0]] = true
	}
	delete(apps, "")
	if s.everybody() {
		return len(apps) < 3
	}
	return len(apps) < 2
}

// countRoles notes which roles a set has members of.
func (d setMaker) countRoles(s *set) {
	at := map[int32]int{}
	for _, m := range s.members {
		r := d.roleOf[m]
		k, ok := at[r]
		if !ok {
			k = len(s.roles)
			at[r] = k
			s.roles = append(s.roles, roleCount{role: r})
		}
		s.roles[k].n++
	}
	apps := map[string]bool{}
	for _, r := range s.roles {
		apps[d.roleTags[r.role][0]] = true
	}
	s.apps = len(apps)
	for _, r := range s.roles {
		s.largest = max(s.largest, float64(r.n)/float64(len(s.members)))
	}
}

func hashOf(seed maphash.Seed, members []int32) uint64 {
	var h maphash.Hash
	h.SetSeed(seed)
	for _, m := range members {
		maphash.WriteComparable(&h, m)
	}
	return h.Sum64()
}

// groupsOf returns the groups of the policy that a workload is in and that do not
// select by address, as sets.
func (d setMaker) groupsOf(w int32) []*set {
	if d.groups == nil {
		d.makeGroups()
	}
	return d.groups[w]
}

// makeGroups asks the policy's groups of each workload once: at the first address
// that it holds.
func (d setMaker) makeGroups() {
	byName := map[string]*set{}
	d.groups = make([][]*set, d.workloads)
	for w, x := range d.c.Estate.All() {
		k := slices.IndexFunc(x.Leases, func(l estate.Lease) bool { return !l.Empty() })
		if k < 0 {
			continue
		}
		d.c.EachGroup(d.c.At(x.Leases[k].Addr, x.Leases[k].From), func(g *policy.Group, t expr.Truth) {
			if t != expr.Yes || namesAddresses(g.Expr) {
				return
			}
			s := byName[g.Name]
			if s == nil {
				s = &set{group: g.Name, words: wordsGroup}
				byName[g.Name] = s
			}
			s.members = append(s.members, w)
			d.groups[w] = append(d.groups[w], s)
		})
	}
}

// namesAddresses reports whether an expression selects by address.
func namesAddresses(e *expr.Expr) bool {
	found := false
	if e != nil {
		e.Walk(func(k *expr.Expr) { found = found || k.Op == expr.AddressIn })
	}
	return found
}

// has reports whether a workload is in a set.
func (s *set) has(w int32) bool {
	if s.everybody() {
		return true
	}
	if s.bits != nil {
		return int(w>>6) < len(s.bits) && s.bits[w>>6]&(1<<(w&63)) != 0
	}
	_, found := slices.BinarySearch(s.members, w)
	return found
}
