package reach

import (
	"cmp"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/service"
)

// flowGroup is conversations that are called alike at both ends, on one service,
// that one rule decides, and that were decided alike before.
type flowGroup struct {
	Client, Server         Label
	ClientPart, ServerPart Label // what FlowGroups' by calls the ends
	Point                  service.Point
	Was, Is                decide.Verdict // Was is in the view that this one is compared with
	Rule                   *policy.Rule   // that decides now; nil if none does
	Conversations          int
	Connections, Bytes     int64
	Carried, Accepted      int // conversations
	Last                   estate.Instant
	Example                int // a conversation of it
}

// FlowGroups gathers the conversations that a query selects and that are not
// permitted both before and now, busiest first. by is what parts are called by,
// see Query.By.
func (v *View) FlowGroups(q Query, by string) []flowGroup {
	names, parts := namer{v}.naming(""), namer{v}.naming(by)
	chosen, accepted := v.chosen(q), v.accepted(q)
	type key struct {
		client, server, clientPart, serverPart int32
		point                                  service.Point
		was                                    decide.Verdict
		rule                                   int32
	}
	index := map[key]int{}
	var out []flowGroup
	for i, r := range v.rules {
		is := v.verdict[r+1]
		was := is
		if v.Against != nil {
			was = v.Against.Verdict(i)
		}
		if was == decide.Permit && is == decide.Permit || chosen != nil && !chosen(i) {
			continue
		}
		a, b := v.cols.Client[i], v.cols.Server[i]
		k := key{names.of[a], names.of[b], parts.of[a], parts.of[b], v.cols.Point[i], was, r}
		n, ok := index[k]
		if !ok {
			n = len(out)
			index[k] = n
			s := flowGroup{Client: names.all[k.client], Server: names.all[k.server],
				ClientPart: parts.all[k.clientPart], ServerPart: parts.all[k.serverPart], Point: k.point, Was: was,
				Is: is, Example: i}
			if r >= 0 {
				s.Rule = v.Compiled.Policy.Rules[r]
			}
			out = append(out, s)
		}
		s := &out[n]
		s.Conversations++
		s.Connections = flow.Sum(s.Connections, v.cols.Connections[i])
		s.Bytes = flow.Sum(s.Bytes, v.bytes[i])
		if v.carried[i] > 0 {
			s.Carried++
		}
		if accepted != nil && accepted[i] {
			s.Accepted++
		}
		if s.Last.Before(v.last[i]) {
			s.Last = v.last[i]
		}
	}
	slices.SortFunc(out, func(a, b flowGroup) int {
		return cmp.Or(cmp.Compare(b.Conversations, a.Conversations), cmp.Compare(b.Connections, a.Connections),
			strings.Compare(a.Client.Key(), b.Client.Key()), strings.Compare(a.Server.Key(), b.Server.Key()),
			cmp.Compare(a.Point, b.Point), a.Example-b.Example)
	})
	return out
}

// ServiceText is a point with the usual name of the service.
func ServiceText(pt service.Point) string {
	if name := flow.ServiceName(pt); name != "" {
		return pt.String() + " " + name
	}
	return pt.String()
}

// EachPart calls f with the conversations of each part that has an end of one,
// by their verdicts now and in the view that this one is compared with.
func (v *View) EachPart(q Query, by string, f func(part Label, now, then Counts)) {
	parts, chosen := namer{v}.naming(by), v.chosen(q)
	now, then := make([]Counts, len(parts.all)), make([]Counts, len(parts.all))
	for i := range v.rules {
		if chosen != nil && !chosen(i) {
			continue
		}
		is := v.Verdict(i)
		was := is
		if v.Against != nil {
			was = v.Against.Verdict(i)
		}
		a, b := parts.of[v.cols.Client[i]], parts.of[v.cols.Server[i]]
		now[a][is]++
		then[a][was]++
		if a != b {
			now[b][is]++
			then[b][was]++
		}
	}
	for i, l := range parts.all {
		if now[i].Sum() > 0 {
			f(l, now[i], then[i])
		}
	}
}
