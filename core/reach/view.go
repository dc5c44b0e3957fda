// Package reach answers "who reaches this?": it resolves the conversations of
// a window against an estate, gives each the verdict of a policy, and gathers
// them in the rows of the reach ledger.
//
// It must not know of databases or screens. Start reading at New.
package reach

import (
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// Conversation is what was seen in the window between two endpoints on one
// service.
type Conversation struct {
	Client, Server decide.Placed
	Point          service.Point
	Buckets        []int32 // indexes into View.Buckets
	Connections    int64
	Bytes          int64
	Carried        int64 // connections of each outcome; the rest is unknown
	Dropped        int64
	First, Last    estate.Instant
	Rule           *policy.Rule // that decides; nil if none does
	Verdict        decide.Verdict
}

// Leak reports whether the policy rejects what the network carried.
func (c *Conversation) Leak() bool { return c.Verdict == decide.Reject && c.Carried > 0 }

// Choke reports whether the policy permits what the network dropped.
func (c *Conversation) Choke() bool { return c.Verdict == decide.Permit && c.Dropped > 0 }

// View is the conversations of a window under one policy.
type View struct {
	Compiled      *decide.Compiled
	Buckets       []flow.Bucket // of the window
	From, To      flow.Hour     // half open
	Conversations []Conversation
	labels        *labeler
}

type convKey struct {
	client, server estate.Endpoint
	point          service.Point
}

// New resolves the buckets whose hour is in [from, to). The conversations are
// in the order in which they were first seen.
func New(c *decide.Compiled, buckets []flow.Bucket, from, to flow.Hour) *View {
	v := &View{Compiled: c, From: from, To: to, labels: newLabeler(c)}
	index := map[convKey]int{}
	for _, b := range buckets {
		if b.Hour < from || b.Hour >= to {
			continue
		}
		v.Buckets = append(v.Buckets, b)
		client, server := c.At(b.Client, b.First), c.At(b.Server, b.First)
		k := convKey{client.Endpoint, server.Endpoint, b.Point}
		i, ok := index[k]
		if !ok {
			i = len(v.Conversations)
			index[k] = i
			v.labels.of(client) // found now, so that a finished view is only read
			v.labels.of(server)
			rule := c.Decide(client, server, b.Point)
			v.Conversations = append(v.Conversations, Conversation{
				Client: client, Server: server, Point: b.Point, First: b.First, Last: b.Last, Rule: rule, Verdict: decide.VerdictOf(rule),
			})
		}
		v.Conversations[i].add(&b, int32(len(v.Buckets)-1))
	}
	return v
}

func (c *Conversation) add(b *flow.Bucket, i int32) {
	c.Buckets = append(c.Buckets, i)
	c.Connections += b.Connections
	c.Bytes += b.Bytes
	switch b.Outcome {
	case flow.Carried:
		c.Carried += b.Connections
	case flow.Dropped:
		c.Dropped += b.Connections
	}
	if b.First.Before(c.First) {
		c.First = b.First
	}
	if c.Last.Before(b.Last) {
		c.Last = b.Last
	}
}

// Counts has a number for each verdict.
type Counts [3]int

// Totals sums up a view.
type Totals struct {
	Conversations Counts
	Connections   [3]int64
	Bytes         [3]int64
	Outcomes      [3][3]int // conversations by verdict, then by unknown, carried, dropped
	ByRule        map[*policy.Rule]int
	Leaks, Chokes int
}

// Totals counts the conversations. One that was both carried and dropped
// counts under both outcomes.
func (v *View) Totals() Totals {
	t := Totals{ByRule: map[*policy.Rule]int{}}
	for i := range v.Conversations {
		c := &v.Conversations[i]
		t.Conversations[c.Verdict]++
		t.Connections[c.Verdict] += c.Connections
		t.Bytes[c.Verdict] += c.Bytes
		switch {
		case c.Carried == 0 && c.Dropped == 0:
			t.Outcomes[c.Verdict][flow.Unknown]++
		default:
			if c.Carried > 0 {
				t.Outcomes[c.Verdict][flow.Carried]++
			}
			if c.Dropped > 0 {
				t.Outcomes[c.Verdict][flow.Dropped]++
			}
		}
		if c.Rule != nil {
			t.ByRule[c.Rule]++
		}
		if c.Leak() {
			t.Leaks++
		}
		if c.Choke() {
			t.Chokes++
		}
	}
	return t
}

// Bin is a stretch of the window with the conversations that were active in it.
type Bin struct {
	Hour   flow.Hour
	Counts Counts
}

// Strip cuts the window into at most n stretches of whole hours and counts
// the conversations that were active in each, by verdict.
func (v *View) Strip(n int) []Bin {
	hours := max(1, int(v.To-v.From))
	width := (hours + n - 1) / n
	bins := make([]Bin, (hours+width-1)/width)
	for i := range bins {
		bins[i].Hour = v.From + flow.Hour(i*width)
	}
	for i := range v.Conversations {
		c := &v.Conversations[i]
		last := -1
		for _, b := range c.Buckets {
			if k := int(v.Buckets[b].Hour-v.From) / width; k != last {
				bins[k].Counts[c.Verdict]++
				last = k
			}
		}
	}
	return bins
}

// Change is a conversation that another policy, or other tags, decide
// differently.
type Change struct {
	*Conversation
	After     decide.Verdict
	AfterRule *policy.Rule // that decides then; nil if none does
}

// Changes gives the conversations whose verdict would differ. c is compiled
// against an estate with the same leases.
func (v *View) Changes(c *decide.Compiled) []Change {
	var out []Change
	for i := range v.Conversations {
		have := &v.Conversations[i]
		rule := c.Decide(c.At(have.Client.Addr, have.First), c.At(have.Server.Addr, have.First), have.Point)
		if after := decide.VerdictOf(rule); after != have.Verdict {
			out = append(out, Change{have, after, rule})
		}
	}
	return out
}
