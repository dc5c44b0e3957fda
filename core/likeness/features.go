package likeness

// What can be said of a workload that may tell its tags.

import (
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"unicode"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
)

// Kinds of features.
const (
	ownTag    = iota // its own tag
	ownKind          // what kind of workload it is
	namePart         // a word of its name
	network          // a network that holds an address of it
	reaches          // it calls a service
	reached          // it is called on a service
	reachesBy        // it calls what has a tag, on a service
	reachedBy        // it is called by what has a tag, on a service
	knows            // it talks with what has a tag
	kin              // it talks with what has a tag, and is like itself in another
	mainly           // of whom it talks with, most have a tag that few others know
)

// feature is one of them. Of tag and word, that is set which the kind has.
type feature struct {
	kind  uint8
	tag   int32 // index into features.tags; -1: outside
	point service.Point
	word  int32 // index into features.texts
}

type tag struct{ key, value string }

// features is what can be said of each workload.
type features struct {
	e      *estate.Estate
	keys   numbered[feature]
	group  []int32   // by feature: those of one group say the same, more or less precisely
	of     [][]int32 // by workload: features, rising
	has    [][]int32 // by feature: workloads, rising
	tags   numbered[tag]
	texts  numbered[string]
	groups numbered[feature]
}

// numbered assigns numbers to things, in the order in which they come.
type numbered[K comparable] struct {
	all   []K
	index map[K]int32
}

// number returns the number of a thing, and whether it is a new one.
func (n *numbered[K]) number(k K) (at int32, isNew bool) {
	if at, ok := n.index[k]; ok {
		return at, false
	}
	if n.index == nil {
		n.index = map[K]int32{}
	}
	at = int32(len(n.all))
	n.index[k] = at
	n.all = append(n.all, k)
	return at, true
}

const nobody = -1

func newFeatures(e *estate.Estate, seen []Link, keys []string) *features {
	f := &features{e: e, of: make([][]int32, e.Bound())}
	own, structural := make([][]int32, e.Bound()), make([][]int32, e.Bound()) // tags
	for i, w := range e.All() {
		for _, t := range w.Tags {
			if t.Value != "" {
				n := f.tag(tag{t.Key, expr.Fold(t.Value)})
				own[i] = append(own[i], n)
				if slices.Contains(keys, t.Key) {
					structural[i] = append(structural[i], n)
				}
				f.add(i, feature{kind: ownTag, tag: n})
			}
		}
		if w.Kind != "" {
			f.add(i, feature{kind: ownKind, word: f.text(w.Kind)})
		}
		for _, p := range nameParts(w.Label()) {
			f.add(i, feature{kind: namePart, word: f.text(p)})
		}
		for _, l := range w.Leases {
			for _, bits := range networkBits(l.Addr) {
				if p, err := l.Addr.Prefix(bits); err == nil {
					f.add(i, feature{kind: network, word: f.text(p.String())})
				}
			}
		}
	}
	seenBy := gather(seen, own)
	for me := range seenBy.by {
		for _, h := range seenBy.by[me] {
			f.addSeen(int32(me), h, own, structural)
		}
	}
	f.addMainly(own, seenBy.peers, keys)
	for i := range f.of {
		slices.Sort(f.of[i])
		f.of[i] = slices.Clip(slices.Compact(f.of[i]))
		for _, x := range f.of[i] {
			f.has[x] = append(f.has[x], int32(i))
		}
	}
	return f
}

// addSeen adds what a workload does with some that have the same tags.
func (f *features) addSeen(me int32, h half, own, structural [][]int32) {
	plain, by := uint8(reached), uint8(reachedBy)
	if h.client {
		plain, by = reaches, reachesBy
	}
	f.add(me, feature{kind: plain, point: h.point})
	if h.like == estate.Outside {
		f.add(me, feature{kind: by, tag: nobody, point: h.point})
		return
	}
	for _, t := range own[h.like] {
		f.add(me, feature{kind: by, tag: t, point: h.point})
		f.add(me, feature{kind: knows, tag: t})
	}
	for _, a := range structural[me] {
		if !slices.Contains(structural[h.like], a) {
			continue
		}
		for _, t := range structural[h.like] {
			if t != a {
				f.add(me, feature{kind: kin, tag: t, word: f.text(f.tags.all[a].key)})
			}
		}
	}
}

// half is one side of links: that a workload calls, or is called by, some that
// have the same tags.
type half struct {
	like   int32 // one of them, or estate.Outside
	point  service.Point
	client bool
}

// gathered is links by workload, each thing once.
type gathered struct {
	by    [][]half
	peers [][]int32
}

func gather(seen []Link, own [][]int32) gathered {
	// Those that have the same tags are told apart by their number.
	sets := map[string]uint64{}
	number := make([]uint64, len(own))
	like := []int32{estate.Outside}
	for i, list := range own {
		key := fmt.Sprint(list)
		n, ok := sets[key]
		if !ok {
			n = uint64(len(like))
			sets[key] = n
			like = append(like, int32(i))
		}
		number[i] = n
	}
	starts := make([]int, len(own)+1)
	each := func(do func(me, peer int32, p service.Point, client uint64)) {
		for _, l := range seen {
			if l.Client == l.Server {
				continue
			}
			if l.Client != estate.Outside {
				do(l.Client, l.Server, l.Point, 1)
			}
			if l.Server != estate.Outside {
				do(l.Server, l.Client, l.Point, 0)
			}
		}
	}
	each(func(me, _ int32, _ service.Point, _ uint64) { starts[me+1]++ })
	for i := range own {
		starts[i+1] += starts[i]
	}
	keys, peers := make([]uint64, starts[len(own)]), make([]int32, starts[len(own)])
	at := slices.Clone(starts)
	each(func(me, peer int32, p service.Point, client uint64) {
		n := uint64(0)
		if peer != estate.Outside {
			n = number[peer]
		}
		keys[at[me]], peers[at[me]] = uint64(p)<<32|n<<1|client, peer
		at[me]++
	})
	out := gathered{make([][]half, len(own)), make([][]int32, len(own))}
	decide.Parallel(2, len(own), func(_, me int) {
		mine, others := keys[starts[me]:starts[me+1]], peers[starts[me]:starts[me+1]]
		slices.Sort(mine)
		for _, k := range slices.Compact(mine) {
			out.by[me] = append(out.by[me], half{like[k&(1<<32-1)>>1], service.Point(k >> 32), k&1 == 1})
		}
		slices.Sort(others)
		others = slices.Compact(others)
		for len(others) > 0 && others[0] == estate.Outside {
			others = others[1:]
		}
		out.peers[me] = others
	})
	return out
}

// addMainly adds for each workload with which value of a key most of those that it
// talks with stand out: the share of them that have it against how many workloads
// talk with such at all.
func (f *features) addMainly(own, peers [][]int32, keys []string) {
	for _, key := range keys {
		is := f.ownOf(key)
		counts := make([]map[int32]int, len(peers))
		knownBy := map[int32]int{}
		for i, list := range peers {
			counts[i] = map[int32]int{}
			for _, peer := range list {
				for _, t := range own[peer] {
					if is[t] {
						counts[i][t]++
					}
				}
			}
			for t := range counts[i] {
				knownBy[t]++
			}
		}
		for i, n := range counts {
			best, most := int32(nobody), 0.0
			for t, c := range n {
				if x := float64(c) / math.Sqrt(float64(knownBy[t])); x > most || x == most && t < best {
					best, most = t, x
				}
			}
			if best != nobody {
				f.add(int32(i), feature{kind: mainly, tag: best})
			}
		}
	}
}

func (f *features) tag(t tag) int32 {
	n, _ := f.tags.number(t)
	return n
}

func (f *features) text(s string) int32 {
	n, _ := f.texts.number(s)
	return n
}

// ownOf reports of each tag whether it is one of a key.
func (f *features) ownOf(key string) []bool {
	out := make([]bool, len(f.tags.all))
	for n, t := range f.tags.all {
		out[n] = t.key == key
	}
	return out
}

func (f *features) add(workload int32, key feature) {
	x, isNew := f.keys.number(key)
	if isNew {
		f.group = append(f.group, f.groupOf(key))
		f.has = append(f.has, nil)
	}
	if n := len(f.of[workload]); n >= compactFrom && n == cap(f.of[workload]) {
		slices.Sort(f.of[workload]) // the same is said again and again: keep it once
		f.of[workload] = slices.Compact(f.of[workload])
	}
	f.of[workload] = append(f.of[workload], x)
}

const compactFrom = 64

// groupOf numbers what a feature is one way of saying: that a machine calls a
// service says the more the better one knows whom, but it is one thing.
func (f *features) groupOf(key feature) int32 {
	g := key
	switch key.kind {
	case reaches, reachesBy:
		g = feature{kind: reaches, point: key.point}
	case reached, reachedBy:
		g = feature{kind: reached, point: key.point}
	case network:
		g = feature{kind: network}
	}
	n, _ := f.groups.number(g)
	return n
}

// networkBits returns the sizes of the networks that are looked at.
func networkBits(a netip.Addr) [3]int {
	if a.Is4() {
		return [3]int{16, 20, 24}
	}
	return [3]int{48, 56, 64}
}

// words says a feature.
func (f *features) words(x int32) string {
	k := f.keys.all[x]
	whom := func(verb string) string {
		if k.tag == nobody {
			return verb + " outside on " + k.point.String()
		}
		return verb + " " + f.tags.all[k.tag].key + " " + f.tags.all[k.tag].value + " on " + k.point.String()
	}
	switch k.kind {
	case ownTag:
		return f.tags.all[k.tag].key + " is " + f.tags.all[k.tag].value
	case ownKind:
		return "it is a " + f.texts.all[k.word]
	case namePart:
		return fmt.Sprintf("its name has “%s”", f.texts.all[k.word])
	case network:
		return "its address is in " + f.texts.all[k.word]
	case reaches:
		return "reaches " + k.point.String()
	case reached:
		return "is reached on " + k.point.String()
	case reachesBy:
		return whom("reaches")
	case reachedBy:
		return whom("is reached by")
	}
	if k.kind == kin {
		return "talks with " + f.tags.all[k.tag].key + " " + f.tags.all[k.tag].value + " of its own " +
			f.texts.all[k.word]
	}
	if k.kind == mainly {
		return "talks mainly with " + f.tags.all[k.tag].key + " " + f.tags.all[k.tag].value
	}
	return "talks with " + f.tags.all[k.tag].key + " " + f.tags.all[k.tag].value
}

// nameParts cuts a name into its words; the digits of a part are one #, so that
// machines of a row are alike.
func nameParts(name string) []string {
	var out []string
	for _, p := range strings.FieldsFunc(strings.ToLower(name),
		func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
		var b strings.Builder
		digit := false
		for _, r := range p {
			if unicode.IsDigit(r) {
				if !digit {
					b.WriteByte('#')
				}
				digit = true
				continue
			}
			digit = false
			b.WriteRune(r)
		}
		if s := b.String(); s != "#" && !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}
