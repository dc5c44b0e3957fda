package whatif

import (
	"runtime"
	"slices"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// Census is the endpoints that exist at the instant of a compiled policy, by
// what the policy can tell apart. It is not changed, and safe for concurrent
// use.
type Census struct {
	compiled *decide.Compiled
	held     []End // in the order of addresses
	outside  []End // one for each part of the outside
	buckets  []bucket

	byWorkload func() map[int32][]End
	named      func() map[string][]int32 // workloads by name
	lacks      sync.Map                  // signature and workload → keys
}

// bucket is endpoints of one class of which the groups say the same.
type bucket struct{ ends []End }

// Count takes the census.
func Count(c *decide.Compiled) *Census {
	out := &Census{compiled: c}
	index := map[uint64]int{}
	add := func(e End) {
		k := uint64(uint32(e.Class))<<32 | uint64(uint32(e.Signature()))
		i, ok := index[k]
		if !ok {
			i = len(out.buckets)
			index[k] = i
			out.buckets = append(out.buckets, bucket{})
		}
		out.buckets[i].ends = append(out.buckets[i].ends, e)
	}
	var held []estate.Endpoint
	c.Estate.Held(c.AsOf, func(ep estate.Endpoint) { held = append(held, ep) })
	out.held = make([]End, len(held))
	const stretch = 1 << 13
	decide.Parallel(runtime.GOMAXPROCS(0), (len(held)+stretch-1)/stretch, func(_, part int) {
		for i := part * stretch; i < min((part+1)*stretch, len(held)); i++ {
			out.held[i].Placed = c.At(held[i].Addr, c.AsOf)
		}
	})
	for _, e := range out.held {
		add(e)
	}
	for _, p := range c.Outside(c.AsOf) {
		e := End{Placed: p, Prefix: c.Region(p.Addr)}
		out.outside = append(out.outside, e)
		add(e)
	}
	out.byWorkload = sync.OnceValue(func() map[int32][]End {
		m := make(map[int32][]End, c.Estate.Len())
		for _, e := range out.held {
			m[e.Workload] = append(m[e.Workload], e)
		}
		return m
	})
	out.named = sync.OnceValue(func() map[string][]int32 {
		m := make(map[string][]int32, c.Estate.Len())
		for i, w := range c.Estate.All() {
			if w.Name != "" {
				m[w.Name] = append(m[w.Name], i)
			}
		}
		return m
	})
	return out
}

// Compiled returns what the census was taken of.
func (c *Census) Compiled() *decide.Compiled { return c.compiled }

// Lacks returns the keys that a workload lacks and that groups wait for which
// cannot tell whether it is a member, in the order of the policy.
func (c *Census) Lacks(e End) []string {
	if e.Workload == estate.Outside {
		return nil
	}
	k := [2]int32{e.Signature(), e.Workload}
	if have, ok := c.lacks.Load(k); ok {
		return have.([]string)
	}
	var out []string
	w := c.compiled.Estate.Workload(e.Workload)
	c.compiled.EachGroup(e.Placed, func(g *policyGroup, t expr.Truth) {
		if t != expr.Undecided {
			return
		}
		g.Expr.Walk(func(x *expr.Expr) {
			if !x.IsTest() || x.Op == expr.Has || x.Op == expr.Lacks {
				return
			}
			if v, ok := x.Key.Of(w); ok && v != "" {
				return
			}
			if key := x.Key.Text(); !slices.Contains(out, key) {
				out = append(out, key)
			}
		})
	})
	c.lacks.Store(k, out)
	return out
}
