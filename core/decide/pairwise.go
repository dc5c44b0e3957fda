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

// RulePoints returns the points of a rule, by its index.
func (c *Compiled) RulePoints(rule int32) service.Set { return c.rules.rules[rule].points }

// Sides returns how many of what each class has can match a rule, by its index, as
// client and as server, whatever the other side is.
func (c *Compiled) Sides(rule int32, held []int) (clients, servers int) {
	for class, n := range held {
		if n == 0 {
			continue
		}
		row := c.rules.row(int32(class))
		if row.client.has(rule) {
			clients += n
		}
		if row.server.has(rule) {
			servers += n
		}
	}
	return clients, servers
}

// RulesOf returns the rules that can match an endpoint as client, and as server,
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
