package decide

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// grow is a list that only grows: what was read of it once stays, so that
// readers need no lock. Adding needs the lock of the owner.
type grow[T any] struct{ p atomic.Pointer[[]T] }

func (g *grow[T]) all() []T {
	if p := g.p.Load(); p != nil {
		return *p
	}
	return nil
}

// add returns the place of the first value added.
func (g *grow[T]) add(x ...T) int32 {
	all := g.all()
	next := append(all, x...)
	g.p.Store(&next)
	return int32(len(all))
}

// interner numbers what classes are made of, and the classes. All compilations that
// were updated one from the other share it, so that a class has the same number
// before and after: endpoints with one number are alike for rules.
type interner struct {
	mu         sync.Mutex
	atoms      grow[policy.Operand]
	atomIndex  map[policy.Operand]int32
	valueKeys  grow[expr.Key] // keys of same and across
	valueIDs   []map[string]int32
	classes    grow[*class]
	classIndex map[string]int32
	prefixes   map[netip.Prefix]int32
}

// class is a set of endpoints that no rule can tell apart.
type class struct {
	atoms  bitset  // which operands hold its endpoints
	values []int32 // by value key: 0 is none; what is behind the end is none too
}

func (c *class) value(key int) int32 {
	if key < len(c.values) {
		return c.values[key]
	}
	return 0
}

func newInterner() *interner {
	return &interner{atomIndex: map[policy.Operand]int32{}, classIndex: map[string]int32{},
		prefixes: map[netip.Prefix]int32{}}
}

// prefix numbers a prefix.
func (b *interner) prefix(p netip.Prefix) int32 {
	b.mu.Lock()
	defer b.mu.Unlock()
	i, ok := b.prefixes[p]
	if !ok {
		i = int32(len(b.prefixes))
		b.prefixes[p] = i
	}
	return i
}

func (b *interner) atom(o policy.Operand) int32 {
	o.Pos.Line, o.Pos.Col = 0, 0
	b.mu.Lock()
	defer b.mu.Unlock()
	i, ok := b.atomIndex[o]
	if !ok {
		i = b.atoms.add(o)
		b.atomIndex[o] = i
	}
	return i
}

func (b *interner) valueKey(k expr.Key) int {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, have := range b.valueKeys.all() {
		if have == k {
			return i
		}
	}
	b.valueIDs = append(b.valueIDs, map[string]int32{})
	return int(b.valueKeys.add(k))
}

// values numbers what a workload has for the keys in use.
func (b *interner) values(w *estate.Workload, keys []int) []int32 {
	if w == nil || len(keys) == 0 {
		return nil
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	all := b.valueKeys.all()
	out := make([]int32, 0, len(all))
	for _, i := range keys {
		v, ok := all[i].Of(w)
		if !ok {
			continue
		}
		v = expr.Fold(v)
		id, known := b.valueIDs[i][v]
		if !known {
			id = int32(len(b.valueIDs[i]) + 1)
			b.valueIDs[i][v] = id
		}
		for len(out) <= i {
			out = append(out, 0)
		}
		out[i] = id
	}
	return out
}

// class numbers a class by what it is made of.
func (b *interner) class(atoms bitset, values []int32) int32 {
	for len(atoms) > 0 && atoms[len(atoms)-1] == 0 {
		atoms = atoms[:len(atoms)-1]
	}
	key := make([]byte, 0, 4+8*len(atoms)+4*len(values))
	key = binary.LittleEndian.AppendUint32(key, uint32(len(atoms)))
	for _, w := range atoms {
		key = binary.LittleEndian.AppendUint64(key, w)
	}
	for _, v := range values {
		key = binary.LittleEndian.AppendUint32(key, uint32(v))
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	c, ok := b.classIndex[string(key)]
	if !ok {
		c = b.classes.add(&class{slices.Clone(atoms), slices.Clone(values)})
		b.classIndex[string(key)] = c
	}
	return c
}
