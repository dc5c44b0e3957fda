// Package likeness suggests tags that workloads lack, from those that resemble
// them: in what they talk to and on what service, and in the parts of their
// names. It would rather say nothing than something wrong.
//
// It must not know of policies, databases or screens. Start reading at Suggest.
package likeness

import (
	"cmp"
	"math"
	"slices"
	"strings"
	"unicode"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/service"
)

// Link is that one workload was seen to reach another on a service; an end is an
// index into the estate, or estate.Outside.
type Link struct {
	Client, Server int32
	Point          service.Point
}

// Suggestion is a tag that a workload lacks, with what speaks for it.
type Suggestion struct {
	Workload   int32
	Key, Value string
	Likeness   float64  // of those that it resembles, weighed by what tells values of the key apart; 0 to 1
	Agree      float64  // share of those that it resembles most that have the value; weighed
	Like       []int32  // up to five that have the value, the most alike first
	Because    []string // what it shares with them, the most telling first
}

const (
	neighbours   = 12   // so many decide
	enough       = 3    // so many have to have the value
	agreeAtLeast = 0.9  // share of the neighbours' weight
	likeAtLeast  = 0.55 // likeness of the best
	candidates   = 400  // are compared with a workload
	postings     = 3000 // features of more workloads find no candidates
)

// Suggest looks at every workload that lacks one of the keys and is not retired.
// The suggestions are in the order of the workloads and then of the keys.
func Suggest(e *estate.Estate, seen []Link, keys []string) []Suggestion {
	f := newFeatures(e, seen)
	var out []Suggestion
	for _, key := range keys {
		k := f.weigh(key)
		for i, w := range e.All() {
			if _, has := w.Tag(key); has || !w.Retired.IsZero() || len(f.of[i]) == 0 {
				continue
			}
			if s, ok := k.suggest(i); ok {
				out = append(out, s)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int { return cmp.Compare(a.Workload, b.Workload) })
	return out
}

// features is what can be said of each workload without its own tags.
type features struct {
	e     *estate.Estate
	words []string  // by feature
	of    [][]int32 // by workload: features, rising
	has   [][]int32 // by feature: workloads, rising
	index map[string]int32
}

func newFeatures(e *estate.Estate, seen []Link) *features {
	f := &features{e: e, of: make([][]int32, e.Bound()), index: map[string]int32{}}
	for i, w := range e.All() {
		for _, p := range nameParts(w.Label()) {
			f.add(i, "its name has “"+p+"”")
		}
	}
	side := func(me, peer int32, plain, how, point string) {
		f.add(me, plain+" "+point)
		if peer == estate.Outside {
			f.add(me, how+" outside on "+point)
			return
		}
		if me == peer {
			return
		}
		for _, t := range f.e.Workload(peer).Tags {
			if t.Value != "" {
				f.add(me, how+" "+t.Key+" "+expr.Fold(t.Value)+" on "+point)
			}
		}
	}
	for _, l := range seen {
		point := l.Point.String()
		if l.Client != estate.Outside {
			side(l.Client, l.Server, "reaches", "reaches", point)
		}
		if l.Server != estate.Outside {
			side(l.Server, l.Client, "is reached on", "is reached by", point)
		}
	}
	for i := range f.of {
		slices.Sort(f.of[i])
		f.of[i] = slices.Compact(f.of[i])
		for _, x := range f.of[i] {
			f.has[x] = append(f.has[x], int32(i))
		}
	}
	return f
}

func (f *features) add(workload int32, word string) {
	x, ok := f.index[word]
	if !ok {
		x = int32(len(f.words))
		f.index[word] = x
		f.words = append(f.words, word)
		f.has = append(f.has, nil)
	}
	f.of[workload] = append(f.of[workload], x)
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
		if s := b.String(); !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// weighed is the features as they tell the values of one key apart.
type weighed struct {
	*features
	key    string
	value  []int32 // by workload: index into values, or -1
	values []string
	weight []float64 // by feature
	total  []float64 // by workload: weight of all its features
}

// weigh finds how much each feature tells of a key: the share of the key's
// entropy that knowing of the feature takes away.
func (f *features) weigh(key string) *weighed {
	k := &weighed{features: f, key: key, value: make([]int32, len(f.of)), weight: make([]float64, len(f.words)),
		total: make([]float64, len(f.of))}
	index := map[string]int32{}
	spelt := map[[2]int32]int{}
	spellings := map[string]int32{}
	var texts []string
	var all []int
	for i := range k.value {
		k.value[i] = -1
	}
	for i, w := range f.e.All() {
		t, ok := w.Tag(key)
		if !ok {
			continue
		}
		folded := expr.Fold(t.Value)
		v, known := index[folded]
		if !known {
			v = int32(len(k.values))
			index[folded] = v
			k.values = append(k.values, t.Value)
			all = append(all, 0)
		}
		s, known := spellings[t.Value]
		if !known {
			s = int32(len(texts))
			spellings[t.Value] = s
			texts = append(texts, t.Value)
		}
		if spelt[[2]int32{v, s}]++; spelt[[2]int32{v, s}] > spelt[[2]int32{v, spellings[k.values[v]]}] {
			k.values[v] = t.Value // as most write it
		}
		k.value[i] = v
		all[v]++
	}
	whole := entropy(all)
	counts := make([]int, len(all))
	for x := range f.words {
		clear(counts)
		n := 0
		for _, w := range f.has[x] {
			if v := k.value[w]; v >= 0 {
				counts[v]++
				n++
			}
		}
		if n >= 2 && whole > 0 {
			// Few workloads are little evidence.
			k.weight[x] = max(0, 1-entropy(counts)/whole) * float64(n) / float64(n+1)
			k.weight[x] *= k.weight[x]
		}
	}
	for i, xs := range f.of {
		for _, x := range xs {
			k.total[i] += k.weight[x]
		}
	}
	return k
}

func entropy(counts []int) float64 {
	n := 0
	for _, c := range counts {
		n += c
	}
	h := 0.0
	for _, c := range counts {
		if c > 0 {
			p := float64(c) / float64(n)
			h -= p * math.Log2(p)
		}
	}
	return h
}

// suggest finds what those that a workload resembles most have.
func (k *weighed) suggest(i int32) (Suggestion, bool) {
	s := Suggestion{Workload: i, Key: k.key}
	if k.total[i] == 0 {
		return s, false
	}
	// Candidates share a telling feature; the rarest first.
	byRarity := slices.Clone(k.of[i])
	slices.SortFunc(byRarity, func(a, b int32) int { return cmp.Or(len(k.has[a])-len(k.has[b]), int(a-b)) })
	shared := map[int32]bool{}
	for _, x := range byRarity {
		if k.weight[x] < 0.05 || len(k.has[x]) > postings {
			continue
		}
		for _, w := range k.has[x] {
			if w != i && k.value[w] >= 0 {
				shared[w] = true
			}
		}
		if len(shared) >= candidates {
			break
		}
	}
	type near struct {
		workload int32
		like     float64
	}
	var found []near
	for w := range shared {
		if like := k.like(i, w); like > 0 {
			found = append(found, near{w, like})
		}
	}
	slices.SortFunc(found, func(a, b near) int {
		return cmp.Or(cmp.Compare(b.like, a.like),
			int(a.workload-b.workload))
	})
	found = found[:min(neighbours, len(found))]
	votes := map[int32]float64{}
	sum := 0.0
	for _, n := range found {
		votes[k.value[n.workload]] += n.like
		sum += n.like
	}
	best := int32(-1)
	for v, x := range votes {
		if best < 0 || x > votes[best] || x == votes[best] && v < best {
			best = v
		}
	}
	if best < 0 {
		return s, false
	}
	s.Value, s.Agree = k.values[best], votes[best]/sum
	for _, n := range found {
		if k.value[n.workload] == best {
			if len(s.Like) < 5 {
				s.Like = append(s.Like, n.workload)
				s.Likeness += n.like
			}
		}
	}
	s.Likeness /= float64(len(s.Like))
	if s.Agree < agreeAtLeast || s.Likeness < likeAtLeast || len(s.Like) < enough {
		return s, false
	}
	s.Because = k.because(i, s.Like)
	return s, true
}

// like gives the share of what tells of the key that two workloads have in
// common, of what either has.
func (k *weighed) like(a, b int32) float64 {
	x, y := k.of[a], k.of[b]
	both := 0.0
	for len(x) > 0 && len(y) > 0 {
		switch {
		case x[0] < y[0]:
			x = x[1:]
		case x[0] > y[0]:
			y = y[1:]
		default:
			both += k.weight[x[0]]
			x, y = x[1:], y[1:]
		}
	}
	return both / (k.total[a] + k.total[b] - both)
}

// because gives the most telling features that a workload shares with most of
// those that it resembles.
func (k *weighed) because(i int32, like []int32) []string {
	type part struct {
		x int32
		w float64
	}
	var parts []part
	for _, x := range k.of[i] {
		n := 0
		for _, w := range like {
			if _, ok := slices.BinarySearch(k.of[w], x); ok {
				n++
			}
		}
		if 2*n > len(like) && k.weight[x] > 0 {
			parts = append(parts, part{x, k.weight[x]})
		}
	}
	slices.SortFunc(parts, func(a, b part) int {
		return cmp.Or(cmp.Compare(b.w, a.w), strings.Compare(k.words[a.x], k.words[b.x]))
	})
	var out []string
	for _, p := range parts[:min(4, len(parts))] {
		out = append(out, k.words[p.x])
	}
	return out
}
