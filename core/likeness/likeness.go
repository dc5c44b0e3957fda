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
	Right      float64  // of workloads that are judged as surely and whose tag is known: how many it would be right for
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
				if s.Right = sure.right(j.margin); s.Likeness >= alikeAtLeast && len(s.Because) >= reasons {
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
	index := map[string]int32{}
	spelt := map[[2]int32]int{}
	spellings := map[string]int32{}
	var texts []string
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
		// How far the values of those that have it are from those of all, in bits.
		weight := func(left int32) float64 { // without one that has a value
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
			return min(1, max(0, bits/whole))
		}
		if k.weight[x] = weight(-1); total >= 2 && k.weight[x] >= telling {
			slices.Sort(touched)
			for _, v := range touched {
				k.counts[x] = append(k.counts[x], counted{v, n[v], weight(v)})
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

// room is what judging needs, kept from one workload to the next.
type room struct {
	score   []float64 // by value
	touched []int32
	shares  []float64 // by workload
	near    []int32
	used    []use
	at      []int32 // by group: one more than its index into used
}

// use is a feature with its weight.
type use struct {
	x      int32
	weight float64
}

func (k *weighed) newRoom() *room {
	return &room{score: make([]float64, len(k.values)), shares: make([]float64, len(k.of)),
		at: make([]int32, len(k.groups.all))}
}

// judged is what speaks most for a value: by how much more than for any other.
type judged struct {
	value  int32 // -1: none
	margin float64
}

// weightFor gives what a feature weighs for a workload with a value; one that has
// the key (value is not -1) does not count.
func (k *weighed) weightFor(x, value int32) float64 {
	if k.counts[x] == nil || value < 0 {
		return k.weight[x]
	}
	at, _ := slices.BinarySearchFunc(k.counts[x], value, byValue)
	return k.counts[x][at].without
}

func byValue(c counted, value int32) int { return cmp.Compare(c.value, value) }

// judge weighs for each value how much likelier what a workload has is among those
// that have the value than among all. A workload that has the key is judged as if
// it were not there.
func (k *weighed) judge(r *room, i int32) judged {
	self := k.value[i]
	sum := 0.0 // of weights
	others := float64(len(k.known))
	if self >= 0 {
		others--
	}
	// Of what says the same, that counts which says most.
	r.used = r.used[:0]
	for _, x := range k.of[i] {
		w := k.weightFor(x, self)
		if w < telling {
			continue
		}
		g := k.group[x]
		if at := r.at[g]; at > 0 {
			if u := &r.used[at-1]; w > u.weight {
				*u = use{x, w}
			}
			continue
		}
		r.used = append(r.used, use{x, w})
		r.at[g] = int32(len(r.used))
	}
	for _, u := range r.used {
		r.at[k.group[u.x]] = 0
		total := float64(k.total[u.x])
		if self >= 0 {
			total--
		}
		sum += u.weight
		usual := smoothing * total / others
		for _, c := range k.counts[u.x] {
			n := float64(c.n)
			if c.value == self {
				n--
			}
			if n <= 0 {
				continue
			}
			if r.score[c.value] == 0 {
				r.touched = append(r.touched, c.value)
			}
			r.score[c.value] += u.weight * math.Log((n+usual)/usual)
		}
	}
	best, second := judged{value: -1, margin: math.Inf(-1)}, math.Inf(-1)
	for _, v := range r.touched {
		n := float64(k.all[v])
		if v == self {
			n--
		}
		score := r.score[v] - sum*math.Log(n+smoothing) + math.Log(n+smoothing)
		r.score[v] = 0
		if score > best.margin || score == best.margin && v < best.value {
			best, second = judged{v, score}, best.margin
		} else {
			second = max(second, score)
		}
	}
	r.touched = r.touched[:0]
	if best.value < 0 {
		return best
	}
	// Values that nothing at all speaks for.
	none := -sum*math.Log(1+smoothing) + math.Log(1+smoothing)
	best.margin = best.margin - max(second, none)
	if best.margin > 0 {
		// What contradicts itself is less sure.
		agree := 0.0
		for _, u := range r.used {
			total := float64(k.total[u.x])
			if self >= 0 {
				total--
			}
			if at, ok := slices.BinarySearchFunc(k.counts[u.x], best.value, byValue); ok {
				n := float64(k.counts[u.x][at].n)
				if best.value == self {
					n--
				}
				agree += u.weight * n / total
			}
		}
		best.margin *= agree / sum * agree / sum
	}
	return best
}

// sure says from which margin on judgements are right often enough.
type sure struct {
	margin float64
	above  []float64 // margins of those that were looked at, falling
	wrong  []int32   // so many of them were wrong up to there
}

// right gives how many of those that are judged at least as surely are right.
func (s *sure) right(margin float64) float64 {
	n, _ := slices.BinarySearchFunc(s.above, margin, func(a, m float64) int { return cmp.Compare(m, a) })
	for n < len(s.above) && s.above[n] >= margin {
		n++
	}
	n = max(n, min(fewest, len(s.above))) // one or two say nothing of how often
	return 1 - float64(s.wrong[n-1])/float64(n)
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

// explained gives a suggestion with those of the value that the workload resembles
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

// like gives the share of what tells of the key that two workloads have in common, of
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
