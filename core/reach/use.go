package reach

import (
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// Use is what was seen of something in the window.
type Use struct {
	Conversations int
	Pairs         int // of a client and a server
	Connections   int64
	Last          estate.Instant // of the newest conversation
	Spark         [sparkBins]int // connections over the window
}

// GroupUse gives what members of a group were seen to reach, and what was seen to
// reach them. What goes on between members counts under both.
func (v *View) GroupUse(name string) (reaches, reached Use) {
	u := v.cache.uses.get(name, func() [2]Use {
		in := make([]bool, len(v.places))
		for i, p := range v.places {
			in[i] = v.Compiled.Group(name, p) == expr.Yes
		}
		var out [2]Use
		v.eachPair(func(conversations []int32) {
			first := conversations[0]
			for side, end := range [2]int32{v.cols.Client[first], v.cols.Server[first]} {
				if !in[end] {
					continue
				}
				u := &out[side]
				u.Pairs++
				for _, i := range conversations {
					u.Conversations++
					u.Connections += v.cols.Connections[i]
					if u.Last.Before(v.last[i]) || u.Conversations == 1 {
						u.Last = v.last[i]
					}
					v.Spread(int(i), u.Spark[:])
				}
			}
		})
		return out
	})
	return u[0], u[1]
}
