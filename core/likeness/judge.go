package likeness

import (
	"cmp"
	"math"
	"slices"
)

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

// weightFor returns what a feature weighs for a workload with a value; one that has
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
	others := float64(len(k.known))
	if self >= 0 {
		others--
	}
	k.collect(r, i, self)
	sum := 0.0 // of weights
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
		agree := k.agreement(r, self, best.value)
		best.margin *= agree / sum * agree / sum
	}
	return best
}

// collect puts what says something of a workload in the room: of what says the same, that
// counts which says most.
func (k *weighed) collect(r *room, i, self int32) {
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
}

// agreement returns the weight with which what was collected speaks for a value.
func (k *weighed) agreement(r *room, self, value int32) (agree float64) {
	for _, u := range r.used {
		total := float64(k.total[u.x])
		if self >= 0 {
			total--
		}
		if at, ok := slices.BinarySearchFunc(k.counts[u.x], value, byValue); ok {
			n := float64(k.counts[u.x][at].n)
			if value == self {
				n--
			}
			agree += u.weight * n / total
		}
	}
	return agree
}
