package reach

// How much of each verdict there was over the window.

import (
	"runtime"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
)

// Measure is what a strip counts.
type Measure uint8

// bin is a stretch of the window with what was seen in it, by verdict.
type bin struct {
	Hour   flow.Hour
	Counts [3]int64
}

// Strip cuts the window into at most n stretches of whole hours and counts, by
// verdict, what was seen in each of the conversations that a query selects. A
// pair counts under the verdict that asks for most of what was active then.
func (v *View) Strip(q Query, n int, m Measure) []bin {
	q = q.whatever()
	hours := max(1, int(v.To-v.From))
	width := (hours + n - 1) / n
	s := strip{v: v, width: width, chosen: v.chosen(q), bins: make([]bin, (hours+width-1)/width)}
	for i := range s.bins {
		s.bins[i].Hour = v.From + flow.Hour(i*width)
	}
	switch m {
	case Conversations:
		s.conversations()
	case PairsOfEnds:
		s.pairs()
	case Bytes:
		s.bytes()
	}
	return s.bins
}

type strip struct {
	v      *View
	width  int
	chosen func(i int) bool
	bins   []bin
}

// conversations counts on all processors.
func (s *strip) conversations() {
	v := s.v
	found := make([][][3]int64, runtime.GOMAXPROCS(0))
	decide.Parallel(len(found), (v.Len()+stretch-1)/stretch, func(worker, part int) {
		if found[worker] == nil {
			found[worker] = make([][3]int64, len(s.bins))
		}
		bins := found[worker]
		for i := part * stretch; i < min((part+1)*stretch, v.Len()); i++ {
			if s.chosen != nil && !s.chosen(i) {
				continue
			}
			last, verdict := -1, v.Verdict(i)
			for _, h := range v.cols.When[v.cols.Starts[i]:v.cols.Starts[i+1]] {
				if k := int(h) / s.width; k != last {
					bins[k][verdict]++
					last = k
				}
			}
		}
	})
	for _, bins := range found {
		for k := range bins {
			for x := range 3 {
				s.bins[k].Counts[x] += bins[k][x]
			}
		}
	}
}

func (s *strip) pairs() {
	v := s.v
	worst := make([]int, len(s.bins)) // plus 1
	var active []int
	v.eachPair(func(conversations []int32) {
		for _, i := range conversations {
			if s.chosen != nil && !s.chosen(int(i)) {
				continue
			}
			u := urgency[v.Verdict(int(i))] + 1
			for _, h := range v.cols.When[v.cols.Starts[i]:v.cols.Starts[i+1]] {
				k := int(h) / s.width
				if worst[k] == 0 {
					active = append(active, k)
				}
				worst[k] = max(worst[k], u)
			}
		}
		for _, k := range active {
			s.bins[k].Counts[byUrgency[worst[k]-1]]++
			worst[k] = 0
		}
		active = active[:0]
	})
}

// bytes walks the rows of the table hour by hour, as they lie there.
func (s *strip) bytes() {
	v := s.v
	begins := v.begins()
	for _, ch := range v.Table.Chunks {
		counts := &s.bins[int(ch.Hour-v.From)/s.width].Counts
		for k, p := range ch.Pair {
			i := int(begins[p]) - 1
			if i+1 < len(v.pair) && v.pair[i+1] == p {
				i = v.conversationOf(i, p, ch.First[k])
			}
			if s.chosen == nil || s.chosen(i) {
				counts[v.Verdict(i)] = flow.Sum(counts[v.Verdict(i)], ch.Bytes[k])
			}
		}
	}
}

// begins returns for each pair of the dictionary one more than its first
// conversation; 0 is none.
func (w *Window) begins() []int32 {
	w.beginsOnce.Do(func() {
		w.beginning = make([]int32, len(w.whole.Dict.Pairs()))
		for i := len(w.pair) - 1; i >= 0; i-- {
			w.beginning[w.pair[i]] = int32(i) + 1
		}
	})
	return w.beginning
}

// conversationOf finds, of the conversations of a pair from first up, the one of
// those who held the addresses at a time.
func (v *View) conversationOf(first int, pair uint32, at flow.Micros) int {
	p := v.whole.Dict.Pairs()[pair]
	addrs, t := v.whole.Dict.Addresses(), at.Instant()
	client, server := v.Compiled.Estate.At(addrs[p.Client], t), v.Compiled.Estate.At(addrs[p.Server], t)
	for i := first; i < len(v.pair) && v.pair[i] == pair; i++ {
		if v.ends[v.cols.Client[i]].Endpoint == client && v.ends[v.cols.Server[i]].Endpoint == server {
			return i
		}
	}
	return first
}
