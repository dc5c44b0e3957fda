package derive

import (
	"net/netip"
	"sync/atomic"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/service"
)

// Seen is a conversation of a derivation's input, with all that is needed to decide
// it again under a later draft.
type Seen struct {
	Client, Server netip.Addr
	Point          service.Point
	At             estate.Instant // an instant at which both ends held their addresses
	Dropped        bool           // the network dropped all its connections: nothing was proposed for it
	Aside          int            // 1 + the index of its reason in Result.Aside; 0: not set aside
}

// Open reports for each conversation whether a draft leaves it to derivation: no rule
// decides it, or only one of the closing layer. closing is the number of the latter.
func Open(c *decide.Compiled, seen []Seen) (open []bool, closing int) {
	out := make([]bool, len(seen))
	var closed atomic.Int64
	const part = 10_000
	decide.Parallel(2, (len(seen)+part-1)/part, func(_, p int) {
		for i := p * part; i < min(len(seen), (p+1)*part); i++ {
			s := &seen[i]
			client, server := c.At(s.Client, s.At), c.At(s.Server, s.At)
			if out[i] = LeftOpen(c, client, server, s.Point); out[i] && c.Decide(client, server, s.Point) != nil {
				closed.Add(1)
			}
		}
	})
	return out, int(closed.Load())
}

// LeftOpen reports whether a draft leaves a conversation to derivation.
func LeftOpen(c *decide.Compiled, client, server decide.Placed, pt service.Point) bool {
	r := c.Decide(client, server, pt)
	return r == nil || r.InClosing()
}

// Parts counts the conversations of a derivation, each in exactly one part. Their
// sum, without Closing, is the number of conversations of which Open asks.
type Parts struct {
	Decided    int `json:"decided" doc:"A rule of the draft decides them by now"`
	ToJudge    int `json:"toJudge" doc:"Behind a proposal that is still to be judged"`
	Refused    int `json:"refused" doc:"Behind refused proposals only"`
	Aside      int `json:"aside" doc:"Set aside, each for a reason"`
	Dropped    int `json:"dropped" doc:"The network only dropped them: nothing is proposed for them"`
	Unproposed int `json:"unproposed" doc:"Proposed at another balance only"`
	Closing    int `json:"closing" doc:"Of all but the decided ones, how many the closing layer decides; the others are uncovered"`
}

// Count counts conversations by part. toJudge and refused are the evidence of
// proposals, as indexes into seen; open is what Open returned.
func Count(seen []Seen, open []bool, toJudge, refused [][]int) Parts {
	const asked, no = 1, 2
	behind := make([]uint8, len(seen))
	for _, of := range refused {
		for _, i := range of {
			behind[i] = no
		}
	}
	for _, of := range toJudge {
		for _, i := range of {
			behind[i] = asked
		}
	}
	var p Parts
	for i := range seen {
		switch {
		case !open[i]:
			p.Decided++
		case seen[i].Dropped:
			p.Dropped++
		case behind[i] == asked:
			p.ToJudge++
		case behind[i] == no:
			p.Refused++
		case seen[i].Aside > 0:
			p.Aside++
		default:
			p.Unproposed++
		}
	}
	return p
}

// Still counts those of some conversations that are open.
func Still(open []bool, of []int) int {
	n := 0
	for _, i := range of {
		if open[i] {
			n++
		}
	}
	return n
}
