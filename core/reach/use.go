package reach

import (
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
)

// Use is what was seen of something in the window.
type Use struct {
	Conversations int
	Pairs         int // of a client and a server
	Connections   int64
	Last          estate.Instant // of the newest conversation
	Spark         [sparkBins]int // connections over the window
}

func (u *Use) add(pair *Use) {
	if u.Last.Before(pair.Last) || u.Conversations == 0 {
		u.Last = pair.Last
	}
	u.Conversations += pair.Conversations
	u.Pairs++
	u.Connections = flow.Sum(u.Connections, pair.Connections)
	for b, n := range pair.Spark {
		u.Spark[b] += n
	}
}

// GroupUse is what members of a group were seen to reach, and what was seen to
// reach them. What goes on between members counts under both.
type GroupUse struct{ Reaches, Reached Use }

// GroupUses returns the use of every group, in the order of the policy's GroupOrder.
// It must not be changed.
func (v *View) GroupUses() []GroupUse {
	return v.cache.uses.get("", func() []GroupUse {
		groups := map[int32][]int32{} // by signature: those that say yes
		for _, p := range v.places {
			if _, known := groups[p.Signature()]; known {
				continue
			}
			in := []int32{}
			for g, t := range v.Compiled.Truths(p) {
				if t == expr.Yes {
					in = append(in, int32(g))
				}
			}
			groups[p.Signature()] = in
		}
		of := make([][]int32, len(v.places)) // by end
		for i, p := range v.places {
			of[i] = groups[p.Signature()]
		}
		out := make([]GroupUse, len(v.Compiled.Policy.GroupOrder))
		var pair Use
		v.eachPair(func(conversations []int32) {
			a, b := v.cols.Client[conversations[0]], v.cols.Server[conversations[0]]
			if len(of[a])+len(of[b]) == 0 {
				return
			}
			pair = Use{Conversations: len(conversations), Last: v.last[conversations[0]]}
			for _, i := range conversations {
				pair.Connections = flow.Sum(pair.Connections, v.cols.Connections[i])
				if pair.Last.Before(v.last[i]) {
					pair.Last = v.last[i]
				}
				v.Spread(int(i), pair.Spark[:])
			}
			for _, g := range of[a] {
				out[g].Reaches.add(&pair)
			}
			for _, g := range of[b] {
				out[g].Reached.add(&pair)
			}
		})
		return out
	})
}

// RuleUses returns the use of each rule by its index.
func (v *View) RuleUses() []Use {
	out := make([]Use, len(v.Compiled.Policy.Rules))
	aggregator{v}.seen("").each(func(_ int32, c *aggregate) {
		if c.rule < 0 {
			return
		}
		u := &out[c.rule]
		if last := c.last.Instant(); u.Last.Before(last) || u.Conversations == 0 {
			u.Last = last
		}
		u.Conversations += int(c.conversations)
		u.Connections = flow.Sum(u.Connections, c.connections)
		for b, n := range c.spark {
			u.Spark[b] += int(n)
		}
	})
	for i, e := range v.Evidence() {
		out[i].Pairs = e.Pairs
	}
	return out
}
