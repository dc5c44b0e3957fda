package derive

import (
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
)

// Gather adds flow records to conversations: one for each client endpoint,
// server endpoint and service, in the order in which they appear.
type Gather struct {
	Conversations []Conversation
	index         map[gatherKey]int
}

type gatherKey struct {
	client, server estate.Endpoint
	point          uint32
}

// Observed makes a conversation of one flow record. A record that was not
// dropped counts as one connection at least.
func Observed(c *decide.Compiled, r flow.Record) Conversation {
	v := Conversation{Client: c.At(r.Client, r.Start), Server: c.At(r.Server, r.Start), Point: r.Point,
		First: r.Start, Last: r.End, Bytes: r.Bytes}
	v.Days.Add(r.Start)
	if n := max(1, r.Connections); r.Outcome == flow.Dropped {
		v.Dropped = n
	} else {
		v.Connections = n
	}
	return v
}

// Add adds one observation to its conversation.
func (g *Gather) Add(c Conversation) {
	if g.index == nil {
		g.index = map[gatherKey]int{}
	}
	k := gatherKey{c.Client.Endpoint, c.Server.Endpoint, uint32(c.Point)}
	i, ok := g.index[k]
	if !ok {
		g.index[k] = len(g.Conversations)
		g.Conversations = append(g.Conversations, c)
		return
	}
	have := &g.Conversations[i]
	have.Connections = flow.Sum(have.Connections, c.Connections)
	have.Dropped = flow.Sum(have.Dropped, c.Dropped)
	have.Bytes = flow.Sum(have.Bytes, c.Bytes)
	have.Days |= c.Days
	if c.First.Before(have.First) {
		have.First = c.First
	}
	if have.Last.Before(c.Last) {
		have.Last = c.Last
	}
}
