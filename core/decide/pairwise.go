package decide

import (
	"encoding/binary"

	"lucidorchard/core/service"
)

// Matching is the rules that match for a pair of classes, in deciding order, as
// indexes into Policy.Rules: all of them, also those behind one on any.
type Matching []int32

// EachMatching calls f once for each different list of matching rules that
// some pair of populated classes has, with one such pair of endpoints.
func (c *Compiled) EachMatching(people [][]Placed, f func(m Matching, client, server Placed)) {
	seen := map[string]bool{}
	var name []byte
	var which Matching
	for a := range people {
		for b := range people {
			client, server, ok := TwoApart(people[a], people[b])
			if !ok {
				continue
			}
			name, which = name[:0], which[:0]
			ca, cb := &c.classes[a], &c.classes[b]
			eachBoth(ca.client, cb.server, func(r int32) bool {
				if c.rules[r].agrees(ca, cb) {
					which = append(which, r)
					name = binary.LittleEndian.AppendUint32(name, uint32(r))
				}
				return true
			})
			if len(which) == 0 || seen[string(name)] {
				continue
			}
			seen[string(name)] = true
			f(which, client, server)
		}
	}
}

// TwoApart picks a client and a server that are not the same workload, from
// the endpoints of two classes.
func TwoApart(clients, servers []Placed) (client, server Placed, ok bool) {
	for _, a := range clients {
		for _, b := range servers {
			if a.Workload != b.Workload || a.Workload < 0 {
				return a, b, true
			}
		}
	}
	return client, server, false
}

// RulePoints gives the points of a rule, by its index.
func (c *Compiled) RulePoints(rule int32) service.Set { return c.rules[rule].points }

// OnLeft reports whether the left side of a rule, by its index, holds a class.
func (c *Compiled) OnLeft(rule, class int32) bool { return c.classes[class].client.has(rule) }
