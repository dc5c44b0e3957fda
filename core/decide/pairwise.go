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
	seen, classes := map[string]bool{}, c.interner.classes.all()
	var name []byte
	var which Matching
	for a := range people {
		for b := range people {
			client, server, ok := TwoApart(people[a], people[b])
			if !ok {
				continue
			}
			name, which = name[:0], which[:0]
			eachBoth(c.rules.row(int32(a)).client, c.rules.row(int32(b)).server, func(r int32) bool {
				if c.rules.rules[r].agrees(classes[a], classes[b]) {
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
func (c *Compiled) RulePoints(rule int32) service.Set { return c.rules.rules[rule].points }

// Opens gives how many ordered pairs of addresses a rule, by its index, matches
// on some service, given how many addresses each class has. Of an address with
// itself it counts nothing.
func (c *Compiled) Opens(rule int32, held []int) int {
	m, classes := &c.rules.rules[rule], c.interner.classes.all()
	var servers []int32
	for s := range held {
		if held[s] > 0 && c.rules.row(int32(s)).server.has(rule) {
			servers = append(servers, int32(s))
		}
	}
	n := 0
	for a := range held {
		if held[a] == 0 || !c.rules.row(int32(a)).client.has(rule) {
			continue
		}
		for _, b := range servers {
			if !m.agrees(classes[a], classes[b]) {
				continue
			}
			n += held[a] * held[b]
			if int32(a) == b {
				n -= held[a]
			}
		}
	}
	return n
}

// RulesOf gives the rules that can match an endpoint as client, and as server,
// with some other endpoint that exists: as indexes into Policy.Rules. people is
// what Population gives.
func (c *Compiled) RulesOf(p Placed, people [][]Placed) (asClient, asServer []int32) {
	classes := c.interner.classes.all()
	me := classes[p.Class]
	mine := []Placed{p}
	for i := range c.rules.rules {
		r := int32(i)
		m := &c.rules.rules[r]
		client, server := c.rules.row(p.Class).client.has(r), c.rules.row(p.Class).server.has(r)
		foundClient, foundServer := false, false
		for k := range people {
			if len(people[k]) == 0 {
				continue
			}
			other := c.rules.row(int32(k))
			if client && !foundClient && other.server.has(r) && m.agrees(me, classes[k]) {
				_, _, foundClient = TwoApart(mine, people[k])
			}
			if server && !foundServer && other.client.has(r) && m.agrees(classes[k], me) {
				_, _, foundServer = TwoApart(people[k], mine)
			}
			if foundClient == client && foundServer == server {
				break
			}
		}
		if foundClient {
			asClient = append(asClient, r)
		}
		if foundServer {
			asServer = append(asServer, r)
		}
	}
	return asClient, asServer
}

// OnRight reports whether the endpoints of a class are on the right side of a
// rule, by its index.
func (c *Compiled) OnRight(rule, class int32) bool { return c.rules.row(class).server.has(rule) }

// OnLeft reports whether the left side of a rule, by its index, holds a class.
func (c *Compiled) OnLeft(rule, class int32) bool { return c.rules.row(class).client.has(rule) }
