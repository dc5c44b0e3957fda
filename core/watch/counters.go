package watch

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
)

// Span is a stretch of time cut into bins of equal length.
type Span struct {
	From flow.Micros
	Bin  flow.Micros // length
	Bins int
}

// each cuts what is known of a conversation in an hour into the bins of a span: it is
// spread evenly from when it was first seen to when it was seen last. The shares of all
// bins, within the span and without, are the whole.
func (s Span) each(first, last flow.Micros, connections int64, f func(bin int, share int64)) {
	last = max(first, last)
	since, to := floorDiv(int64(first-s.From), int64(s.Bin)), floorDiv(int64(last-s.From), int64(s.Bin))
	for at := max(0, since); at <= min(to, int64(s.Bins)-1); at++ {
		k, span := at-since, to-since+1
		if share := connections*(k+1)/span - connections*k/span; share > 0 {
			f(int(at), share)
		}
	}
}

func floorDiv(a, b int64) int64 {
	if a < 0 {
		return -((-a + b - 1) / b)
	}
	return a / b
}

// Bins returns what became of the connections of each bin of a span.
func Bins(v *reach.View, s Span) []Hour {
	out := make([]Hour, s.Bins)
	for i := range v.Len() {
		v.EachPortion(i, func(p *reach.Portion) {
			s.each(p.First, p.Last, p.Connections, func(bin int, share int64) {
				if to := out[bin].of(p); to != nil {
					*to = flow.Sum(*to, share)
				}
			})
		})
	}
	return out
}

// counter is what became of the connections of a pair, or of those that a rule decides.
type counter struct {
	Who, What Side
	Rule      string // sentence; blank: no rule, where counters are by rule
	Line      int
	Release   int // by which it was judged; 0: by the draft
	Hour
	Carried []int64 // by bin
	Dropped []int64
}

// Counters returns those of a span by pair of who and what, or by rule: those of which most
// was dropped or leaked first, then the busiest.
func Counters(v *reach.View, s Span, byRule bool) []counter {
	type key struct {
		who, what Side
		rule      string
	}
	at := map[key]int{}
	var out []counter
	for i := range v.Len() {
		find := func(r *reach.Ruling) *counter {
			c := counter{Release: r.Release}
			if byRule {
				if r.Rule != nil {
					c.Rule, c.Line = r.Rule.Sentence(), r.Rule.Line
				}
			} else {
				a, b := v.Labels(i)
				c.Who, c.What = sideOf(a), sideOf(b)
			}
			k := key{c.Who, c.What, c.Rule}
			have, known := at[k]
			if !known {
				have = len(out)
				at[k] = have
				c.Carried, c.Dropped = make([]int64, s.Bins), make([]int64, s.Bins)
				out = append(out, c)
			}
			return &out[have]
		}
		v.EachPortion(i, func(p *reach.Portion) {
			var c *counter // only of a part that is in the span
			s.each(p.First, p.Last, p.Connections, func(bin int, share int64) {
				if c == nil {
					c = find(&p.Ruling)
				}
				to := c.of(p)
				if to == nil {
					return
				}
				*to = flow.Sum(*to, share)
				if p.Outcome == flow.Dropped {
					c.Dropped[bin] += share
				} else {
					c.Carried[bin] += share
				}
			})
		})
	}
	odd := func(c *counter) int64 { return flow.Sum(flow.Sum(c.Held, c.Leaks), c.Chokes) }
	slices.SortFunc(out, func(a, b counter) int {
		return cmp.Or(cmp.Compare(odd(&b), odd(&a)), cmp.Compare(flow.Sum(b.Permitted, b.Uncovered),
			flow.Sum(a.Permitted, a.Uncovered)),
			strings.Compare(a.Who.Text+a.What.Text+a.Rule, b.Who.Text+b.What.Text+b.Rule))
	})
	return out
}
