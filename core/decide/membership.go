package decide

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"sync"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// says numbers what the groups of a policy say of endpoints: the signatures.
// Endpoints that no test of a group can tell apart are evaluated once. All
// compilations with the same groups share it.
type membership struct {
	order []*policy.Group
	index map[string]int32
	named map[string]int32 // ids that groups include or exclude, from 1
	keys  []*keyIndex
	keyAt map[expr.Key]int // where a key stands in keys

	mu      sync.Mutex
	truths  grow[[]expr.Truth]
	byTruth map[string]int32
	byTests map[string]int32
}

// keyIndex sorts the values of one key by what the tests on the key say of them.
type keyIndex struct {
	equal   map[string][]int32 // folded value → tests that are equalities with it
	others  []*expr.Expr
	tests   int
	classes map[string]int32 // answers of all tests → class of values, from 1
	values  map[string]int32 // value → class; missing is 0
}

func newMembership(p *policy.Policy) *membership {
	s := &membership{order: p.GroupOrder, index: make(map[string]int32, len(p.GroupOrder)), named: map[string]int32{},
		byTruth: map[string]int32{}, byTests: map[string]int32{}}
	for i, g := range p.GroupOrder {
		s.index[g.Name] = int32(i)
	}
	s.keyAt = map[expr.Key]int{}
	for _, g := range p.GroupOrder {
		for _, id := range slices.Concat(g.Include, g.Exclude) {
			if s.named[id] == 0 {
				s.named[id] = int32(len(s.named) + 1)
			}
		}
		g.Expr.Walk(func(e *expr.Expr) {
			if !e.IsTest() {
				return
			}
			i, ok := s.keyAt[e.Key]
			if !ok {
				i = len(s.keys)
				s.keyAt[e.Key] = i
				s.keys = append(s.keys, &keyIndex{equal: map[string][]int32{}, classes: map[string]int32{},
					values: map[string]int32{}})
			}
			s.keys[i].add(e)
		})
	}
	return s
}

func (k *keyIndex) add(e *expr.Expr) {
	switch e.Op {
	case expr.Has, expr.Lacks: // missing has a class of its own
	case expr.Is, expr.IsNot, expr.In, expr.NotIn:
		for _, v := range e.Folded() {
			k.equal[v] = append(k.equal[v], int32(k.tests))
		}
		k.tests++
	default:
		k.others = append(k.others, e)
	}
}

// class returns the class of a value that is not missing.
func (k *keyIndex) class(value string) int32 {
	if c, ok := k.values[value]; ok {
		return c
	}
	var answers []byte
	for _, t := range k.equal[expr.Fold(value)] {
		answers = binary.LittleEndian.AppendUint32(answers, uint32(t))
	}
	answers = append(answers, 0xff, 0xff, 0xff, 0xff)
	for _, e := range k.others {
		if e.Test(value) {
			answers = append(answers, 1)
		} else {
			answers = append(answers, 0)
		}
	}
	c, ok := k.classes[string(answers)]
	if !ok {
		c = int32(len(k.classes) + 1)
		k.classes[string(answers)] = c
	}
	k.values[value] = c
	return c
}

// sign returns the signature of an endpoint in the region with a number. known
// has, for each group, its index in truths, or -1 for a group to evaluate; nil:
// all are.
func (s *membership) sign(e *estate.Estate, ep estate.Endpoint, region int32, known []int32,
	truths []expr.Truth) int32 {
	subject := Subject(e, ep)
	s.mu.Lock()
	defer s.mu.Unlock()
	var room [256]byte
	tests := s.tests(room[:0], subject, region)
	if sig, ok := s.byTests[string(tests)]; ok {
		return sig
	}
	sig := s.intern(s.evaluate(subject, known, truths))
	s.byTests[string(tests)] = sig
	return sig
}

// tests adds what all tests of groups say of a subject in a region: who has the same is in
// the same groups.
func (s *membership) tests(tests []byte, subject expr.Subject, region int32) []byte {
	tests = binary.LittleEndian.AppendUint32(tests, uint32(region))
	w := subject.Workload
	if w == nil {
		return tests
	}
	tests = binary.LittleEndian.AppendUint32(tests, uint32(s.named[w.ID]))
	for i := range expr.Fields {
		tests = s.tested(tests, w, expr.Key{Field: true, Name: expr.Fields[i]})
	}
	for i := range w.Tags { // in the order of their keys
		tests = s.tested(tests, w, expr.Key{Name: w.Tags[i].Key})
	}
	return tests
}

// tested adds what the tests of a key say of a workload that has it.
func (s *membership) tested(tests []byte, w *estate.Workload, key expr.Key) []byte {
	i, ok := s.keyAt[key]
	if !ok {
		return tests
	}
	v, has := key.Of(w)
	if !has {
		return tests
	}
	tests = binary.LittleEndian.AppendUint32(tests, uint32(i))
	return binary.LittleEndian.AppendUint32(tests, uint32(s.keys[i].class(v)))
}

// evaluate asks every group of which nothing is known.
func (s *membership) evaluate(subject expr.Subject, known []int32, before []expr.Truth) []expr.Truth {
	truths := make([]expr.Truth, len(s.order))
	member := func(name string) expr.Truth {
		if j, ok := s.index[name]; ok {
			return truths[j]
		}
		return expr.No
	}
	for i, g := range s.order {
		if known != nil && known[i] >= 0 {
			truths[i] = before[known[i]]
		} else {
			truths[i] = groupSays(g, subject, member)
		}
	}
	return truths
}

// resigner returns signatures to endpoints that had one under other groups: only
// groups that are new or say something else are asked, and once for all of whom
// the tests say the same. region gives the number of an address's region.
func (s *membership) resigner(e *estate.Estate, old *membership, known []int32,
	region func(netip.Addr) int32) func(ep estate.Endpoint,
	before int32) int32 {
	var ask []int32
	for i := range s.order {
		if known[i] < 0 {
			ask = append(ask, int32(i))
		}
	}
	truths := make([]expr.Truth, len(s.order))
	member := func(name string) expr.Truth {
		if j, ok := s.index[name]; ok {
			return truths[j]
		}
		return expr.No
	}
	var tests []byte
	return func(ep estate.Endpoint, before int32) int32 {
		subject := Subject(e, ep)
		s.mu.Lock()
		defer s.mu.Unlock()
		tests = s.tests(tests[:0], subject, region(ep.Addr))
		if sig, ok := s.byTests[string(tests)]; ok {
			return sig
		}
		was := old.truths.all()[before]
		for i := range truths {
			if known[i] >= 0 {
				truths[i] = was[known[i]]
			}
		}
		for _, i := range ask { // each stands behind those that it names
			truths[i] = groupSays(s.order[i], subject, member)
		}
		sig := s.intern(slices.Clone(truths))
		s.byTests[string(tests)] = sig
		return sig
	}
}

func (s *membership) intern(truths []expr.Truth) int32 {
	key := make([]byte, len(truths))
	for i, t := range truths {
		key[i] = byte(t)
	}
	sig, ok := s.byTruth[string(key)]
	if !ok {
		sig = s.truths.add(truths)
		s.byTruth[string(key)] = sig
	}
	return sig
}

// carryAll knows all groups but those that read one of the keys, themselves or through a
// group that they name.
func (s *membership) carryAll(keys []expr.Key) []int32 {
	out := make([]int32, len(s.order))
	for i, g := range s.order { // each stands after those that it names
		out[i] = int32(i)
		g.Expr.Walk(func(e *expr.Expr) {
			switch {
			case e.Op == expr.MemberOf:
				if j, ok := s.index[e.Group]; ok && out[j] < 0 {
					out[i] = -1
				}
			case e.IsTest() && slices.Contains(keys, e.Key):
				out[i] = -1
			}
		})
	}
	return out
}

// carryFrom returns where what each group says stands in the truths of an earlier
// version: -1 for a group that is new, says something else, or names one that does.
func (s *membership) carryFrom(old *membership) []int32 {
	out := make([]int32, len(s.order))
	for i, g := range s.order {
		out[i] = -1
		if j, ok := old.index[g.Name]; ok && old.order[j].Body() == g.Body() {
			out[i] = j
			g.Expr.Walk(func(e *expr.Expr) {
				if e.Op != expr.MemberOf {
					return
				}
				k, now := s.index[e.Group]
				_, before := old.index[e.Group]
				if now != before || now && out[k] < 0 {
					out[i] = -1
				}
			})
		}
	}
	return out
}

// same reports whether the groups are those of another version, in order.
func (s *membership) same(p *policy.Policy) bool {
	return slices.EqualFunc(s.order, p.GroupOrder, func(a, b *policy.Group) bool {
		return a == b ||
			a.Name == b.Name && a.Body() == b.Body()
	})
}
