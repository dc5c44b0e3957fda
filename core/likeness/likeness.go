// Package likeness suggests tags that workloads lack, from those that resemble
// them: in what they talk to and on what service, in the parts of their names, in
// their networks and in their other tags. How sure it has to be for that, it
// learns from the workloads whose tags are known: it would rather say nothing
// than something wrong.
//
// It must not know of policies, databases or screens. Start reading at Suggest.
package likeness

import (
	"cmp"
	"math"
	"slices"

	"lucidorchard/core/decide"
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
	Likeness   float64  // share of what tells values of the key apart that it has in common with Like, of what either has; 0 to 1
	Right      float64  // share of Tried for which the same judgement finds the tag that they have, 0 to 1
	Tried      int      // workloads that have the tag and that are judged at least as surely
	Like       []int32  // up to five that have the value, the most alike first
	Because    []string // what it shares with them, the most telling first
}

const (
	tolerated    = 0.02 // share of suggestions that may be wrong, beyond what is wrong among those judged most surely
	mostNoise    = 0.03 // share of known tags that may be wrong themselves
	fewest       = 10   // workloads that have a key, for it to be suggested
	calibrated   = 3000 // known ones are looked at to learn how sure is sure enough
	doubt        = 1    // workloads as usual are thought to be among those that have a feature
	smoothing    = 0.15 // how much a value that was never seen with a feature counts as if it had
	alikeAtLeast = 0.2  // likeness: those that lack a tag are not always like those that have it
	reasons      = 2    // different things that it shares with them: one may be chance
	telling      = 0.05 // weight of a feature below which it says nothing of a key
)

// Suggest looks at every workload that lacks one of the keys and is not retired.
// The suggestions are in the order of the workloads and then of the keys.
// progress, which may be nil, is told the share that is done and what was found
// of a key; it says stop by false, and then what is there so far is given.
func Suggest(e *estate.Estate, seen []Link, keys []string,
	progress func(done float64, found []Suggestion) (goOn bool)) []Suggestion {
	if progress == nil {
		progress = func(float64, []Suggestion) bool { return true }
	}
	f := newFeatures(e, seen, keys)
	var out []Suggestion
	for n, key := range keys {
		if !progress((1+float64(n))/float64(1+len(keys)), out) {
			break
		}
		k := f.weigh(key)
		sure := k.learn()
		if math.IsInf(sure.margin, 1) {
			continue
		}
		var lacking []int32
		for i, w := range e.All() {
			if k.value[i] < 0 && w.Retired.IsZero() && len(f.of[i]) > 0 {
				lacking = append(lacking, i)
			}
		}
		found := make([]*Suggestion, len(lacking))
		rooms := [2]*room{k.newRoom(), k.newRoom()}
		decide.Parallel(2, len(lacking), func(worker, n int) {
			if j := k.judge(rooms[worker], lacking[n]); j.value >= 0 && j.margin >= sure.margin {
				s := k.explained(rooms[worker], lacking[n], j)
				if s.Right, s.Tried = sure.right(j.margin); s.Likeness >= alikeAtLeast && len(s.Because) >= reasons {
					found[n] = &s
				}
			}
		})
		for _, s := range found {
			if s != nil {
				out = append(out, *s)
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int { return cmp.Compare(a.Workload, b.Workload) })
	return out
}

// weighed is the features as they tell the values of one key apart.
type weighed struct {
	*features
	key    string
	value  []int32 // by workload: index into values, or -1
	values []string
	known  []int32     // workloads that have the key
	all    []int32     // by value: workloads that have it
	counts [][]counted // by feature, where it tells something: how many of each value have it
	total  []int32     // by feature: how many of them in all
	weight []float64   // by feature
}

// counted is how many workloads of a value have a feature, and what the feature
// weighs if one of them is left out.
type counted struct {
	value, n int32
	without  float64
}

// weigh finds how much each feature tells of a key: the share of the key's
// entropy that knowing of the feature takes away.
func (f *features) weigh(key string) *weighed {
	k := &weighed{features: f, key: key, value: make([]int32, len(f.of)), weight: make([]float64, len(f.keys.all)),
		counts: make([][]counted, len(f.keys.all)), total: make([]int32, len(f.keys.all))}
	k.readValues()
	whole := 0.0
	for _, n := range k.all {
		p := float64(n) / float64(len(k.known))
		whole -= p * math.Log2(p)
	}
	if whole == 0 {
		return k
	}
	own := f.ownOf(key)
	n := make([]int32, len(k.values))
	var touched []int32
	for x := range f.keys.all {
		if f.keys.all[x].kind == ownTag && own[f.keys.all[x].tag] {
			continue
		}
		total := int32(0)
		for _, w := range f.has[x] {
			if v := k.value[w]; v >= 0 {
				if n[v] == 0 {
					touched = append(touched, v)
				}
				n[v]++
				total++
			}
		}
		if k.weight[x] = min(1, k.bits(n, touched, total, -1)/whole); total >= 2 && k.weight[x] >= telling {
			slices.Sort(touched)
			for _, v := range touched {
				k.counts[x] = append(k.counts[x], counted{v, n[v], min(1, k.bits(n, touched, total, v)/whole)})
			}
			k.total[x] = total
		} else {
			k.weight[x] = 0
		}
		for _, v := range touched {
			n[v] = 0
		}
		touched = touched[:0]
	}
	return k
}

// readValues numbers the values of the tag, each with the spelling that most use.
func (k *weighed) readValues() {
	index := map[string]int32{}
	spelt := map[[2]int32]int{}
	spellings := map[string]int32{}
	var texts []string
	for i := range k.value {
		k.value[i] = -1
	}
	for i, w := range k.e.All() {
		t, ok := w.Tag(k.key)
		if !ok {
			continue
		}
		folded := expr.Fold(t.Value)
		v, known := index[folded]
		if !known {
			v = int32(len(k.values))
			index[folded] = v
			k.values = append(k.values, t.Value)
			k.all = append(k.all, 0)
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
		k.known = append(k.known, i)
		k.all[v]++
	}
}

// bits returns how far the values of some workloads are from those of all: n of each value in
// touched, total in all; without one that has the value left, if that is not negative.
func (k *weighed) bits(n []int32, touched []int32, total, left int32) float64 {
	m := float64(total)
	if left >= 0 {
		m--
	}
	bits, rest := 0.0, 1.0
	for _, v := range touched {
		c, usual := float64(n[v]), float64(k.all[v])/float64(len(k.known))
		if v == left {
			c--
		}
		// Few workloads are little evidence.
		if p := (c + doubt*usual) / (m + doubt); p > 0 {
			bits += p * math.Log2(p/usual)
		}
		rest -= usual
	}
	if less := doubt / (m + doubt); rest > 1e-9 {
		bits += rest * less * math.Log2(less) // values that none of them has
	}
	return max(0, bits)
}

// sure says from which margin on judgements are right often enough.
type sure struct {
	margin float64
	above  []float64 // margins of those that were looked at, falling
	wrong  []int32   // so many of them were wrong up to there
}

// right returns how many of those that are judged at least as surely are right, as a share, and
// how many they are.
func (s *sure) right(margin float64) (share float64, of int) {
	n, _ := slices.BinarySearchFunc(s.above, margin, func(a, m float64) int { return cmp.Compare(m, a) })
	for n < len(s.above) && s.above[n] >= margin {
		n++
	}
	n = max(n, min(fewest, len(s.above))) // one or two say nothing of how often
	return 1 - float64(s.wrong[n-1])/float64(n), n
}

// learn judges workloads that have the key as if they had not.
func (k *weighed) learn() sure {
	out := sure{margin: math.Inf(1)}
	if len(k.known) < fewest {
		return out
	}
	step := 1 + (len(k.known)-1)/calibrated
	n := (len(k.known) + step - 1) / step
	type look struct {
		margin float64
		right  bool
	}
	looks := make([]look, n)
	rooms := [2]*room{k.newRoom(), k.newRoom()}
	decide.Parallel(2, n, func(worker, n int) {
		i := k.known[n*step]
		j := k.judge(rooms[worker], i)
		looks[n] = look{j.margin, j.value == k.value[i]}
	})
	slices.SortFunc(looks, func(a, b look) int {
		if a.right != b.right && a.margin == b.margin {
			if a.right {
				return 1 // the wrong ones first: none is cut from its like
			}
			return -1
		}
		return cmp.Compare(b.margin, a.margin)
	})
	wrong := int32(0)
	for _, l := range looks {
		if !l.right {
			wrong++
		}
		out.above, out.wrong = append(out.above, l.margin), append(out.wrong, wrong)
	}
	// Tags that are wrong themselves make even the surest judgement look wrong.
	noise := 0.0
	if surest := n / 4; surest >= 100 {
		noise = min(mostNoise, float64(out.wrong[surest-1])/float64(surest))
	}
	for i := n - 1; i >= 0; i-- {
		if out.above[i] <= 0 || i+1 < n && out.above[i] == out.above[i+1] {
			continue
		}
		if (float64(out.wrong[i])+1)/float64(i+3) <= noise+tolerated {
			out.margin = out.above[i]
			break
		}
	}
	if wrong == 0 { // few, but all as they are
		out.margin = min(out.margin, max(out.above[n/2], math.SmallestNonzeroFloat64))
	}
	return out
}

// explained returns a suggestion with those of the value that the workload resembles
// most, and what it shares with them.
func (k *weighed) explained(r *room, i int32, j judged) Suggestion {
	s := Suggestion{Workload: i, Key: k.key, Value: k.values[j.value]}
	var mine []int32 // what tells something, the most telling first
	for _, x := range k.of[i] {
		if k.counts[x] != nil {
			mine = append(mine, x)
		}
	}
	slices.SortFunc(mine, func(a, b int32) int {
		return cmp.Or(cmp.Compare(k.weight[b], k.weight[a]), int(a-b))
	})
	looked := 0
	for _, x := range mine {
		if looked > enoughLooked {
			break
		}
		for _, w := range k.has[x] {
			if k.value[w] == j.value {
				if r.shares[w] == 0 {
					r.near = append(r.near, w)
				}
				r.shares[w] += k.weight[x]
				looked++
			}
		}
	}
	slices.SortFunc(r.near, func(a, b int32) int { return cmp.Or(cmp.Compare(r.shares[b], r.shares[a]), int(a-b)) })
	for _, w := range r.near[:min(5, len(r.near))] {
		s.Like = append(s.Like, w)
		s.Likeness += k.like(i, w)
	}
	for _, w := range r.near {
		r.shares[w] = 0
	}
	r.near = r.near[:0]
	s.Likeness /= float64(max(1, len(s.Like)))
	said := map[int32]bool{} // groups: the same is not said twice
	for _, x := range mine {
		n := 0
		if said[k.group[x]] {
			continue
		}
		for _, w := range s.Like {
			if _, ok := slices.BinarySearch(k.of[w], x); ok {
				n++
			}
		}
		if 2*n > len(s.Like) && len(s.Because) < 4 {
			said[k.group[x]] = true
			s.Because = append(s.Because, k.words(x))
		}
	}
	return s
}

// like returns the share of what tells of the key that two workloads have in common, of
// what either has: one that does hardly anything is like nobody who does much.
func (k *weighed) like(a, b int32) float64 {
	x, y := k.of[a], k.of[b]
	both, either := 0.0, 0.0
	for len(x) > 0 || len(y) > 0 {
		switch {
		case len(y) == 0 || len(x) > 0 && x[0] < y[0]:
			either += k.weight[x[0]]
			x = x[1:]
		case len(x) == 0 || y[0] < x[0]:
			either += k.weight[y[0]]
			y = y[1:]
		default:
			both += k.weight[x[0]]
			either += k.weight[x[0]]
			x, y = x[1:], y[1:]
		}
	}
	return both / max(either, 1e-9)
}

// enoughLooked is how many memberships are looked at to find those that a workload
// resembles.
const enoughLooked = 20_000
