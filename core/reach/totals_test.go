package reach_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// Totals, pairs and strips are what one gets by going through the conversations,
// and through their buckets, one by one: of all, of a part of the estate, and of
// what still asks for a decision.
func TestTotalsAreTheSumOfTheConversations(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		text := sample.Policy(t) + "\ngroup teams = app is booking or app is fares\narea east = teams owner crew"
		c := compile(t, e, text, sample.Instant(t))
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		v := reach.New(c, all, from, to)
		before := reach.New(compile(t, e, sample.Policy(t), sample.Instant(t)), all, from, to)
		v = v.Compared(before)
		walk := decide.NewWalk(e, c.Policy, c.AsOf)

		var q reach.Query
		part := rapid.SampledFrom([]string{"", "app:booking", "area:east", "owner:crew", "area:nowhere"}).Draw(t,
			"part")
		inPart := func(p decide.Placed) bool {
			switch {
			case part == "":
				return true
			case part == "area:east" || part == "owner:crew":
				return walk.Group("teams", p.Endpoint) == expr.Yes
			case part == "area:nowhere" || p.Workload == estate.Outside:
				return false
			}
			app, _ := e.Workload(p.Workload).Tag("app")
			return strings.EqualFold(app.Value, "booking")
		}
		if part != "" {
			p, ok := reach.ReadPart(part)
			require.True(t, ok)
			require.Equal(t, part, p.String())
			q.Part = &p
		}
		accepted := func(conv *reach.Conversation) bool { return false }
		if rapid.Bool().Draw(t, "some is accepted") {
			to443 := service.Set{{Lo: service.PointOf(service.TCP, 443), Hi: service.PointOf(service.TCP, 999)}}
			fromTeams := func(p decide.Placed) bool { return walk.Group("teams", p.Endpoint) == expr.Yes }
			inside := func(p decide.Placed) bool { return p.Workload != estate.Outside }
			q.Acceptance = &reach.Acceptance{Key: "1",
				List: []reach.Accepted{{Client: fromTeams, Server: inside, Points: to443},
					{Client: inside, Server: fromTeams, Points: to443}}}
			accepted = func(conv *reach.Conversation) bool {
				return conv.Verdict == decide.Reject && to443.Contains(conv.Point) &&
					(fromTeams(conv.Client) && inside(conv.Server) || inside(conv.Client) && fromTeams(conv.Server))
			}
		}

		q.Count, _ = expr.ParseText("tier is store")
		var want reach.Totals
		want.ByRule = make([]int, len(c.Policy.Rules))
		lines := map[*policy.Rule]int{}
		for i, r := range c.Policy.Rules {
			lines[r] = i
		}
		pairs := map[[2]estate.Endpoint]int{}
		rank := [3]int{decide.Permit: 1, decide.Reject: 2, decide.Uncovered: 3}
		asking := 0
		type point struct {
			hour flow.Hour
			pair [2]estate.Endpoint
		}
		var strip, bytes = map[flow.Hour][3]int64{}, map[flow.Hour][3]int64{}
		pairStrip := map[point]int{}
		for i := range v.Len() {
			conv := v.At(i)
			if !inPart(conv.Client) && !inPart(conv.Server) {
				continue
			}
			k := [2]estate.Endpoint{conv.Client.Endpoint, conv.Server.Endpoint}
			pairs[k] = max(pairs[k], rank[conv.Verdict])
			want.Conversations[conv.Verdict]++
			want.Connections[conv.Verdict] += conv.Connections
			want.Bytes[conv.Verdict] += conv.Bytes
			want.Difference[before.At(i).Verdict][conv.Verdict]++
			if conv.Rule != nil {
				want.ByRule[lines[conv.Rule]]++
			}
			if conv.Carried > 0 {
				want.Outcomes[conv.Verdict][flow.Carried]++
			}
			if conv.Dropped > 0 {
				want.Outcomes[conv.Verdict][flow.Dropped]++
			}
			if conv.Carried == 0 && conv.Dropped == 0 {
				want.Outcomes[conv.Verdict][flow.Unknown]++
			}
			if conv.Verdict == decide.Uncovered && conv.Server.Workload != estate.Outside {
				if tier, _ := e.Workload(conv.Server.Workload).Tag("tier"); tier.Value == "store" {
					want.Counted++
				}
			}
			if accepted(&conv) {
				want.Accepted++
			} else {
				asking++
				if conv.WouldLeak() {
					want.Asking++
				}
			}
			hours := map[flow.Hour]bool{}
			for _, row := range v.RowsOf(i) {
				b := v.Table.Bucket(int(row))
				n := bytes[b.Hour]
				n[conv.Verdict] += b.Bytes
				bytes[b.Hour] = n
				pairStrip[point{b.Hour, k}] = max(pairStrip[point{b.Hour, k}], rank[conv.Verdict])
				if !hours[b.Hour] {
					hours[b.Hour] = true
					n := strip[b.Hour]
					n[conv.Verdict]++
					strip[b.Hour] = n
				}
			}
		}
		want.Leaks, want.Chokes = want.Outcomes[decide.Reject][flow.Carried],
			want.Outcomes[decide.Permit][flow.Dropped]
		decided := q
		decided.Verdicts[decide.Reject], decided.Leaks = true, true
		require.Equal(t, want, v.Totals(decided), "the verdicts that are asked for do not matter")

		var wantPairs reach.Counts
		verdict := [4]decide.Verdict{1: decide.Permit, 2: decide.Reject, 3: decide.Uncovered}
		for _, r := range pairs {
			wantPairs[verdict[r]]++
		}
		require.Equal(t, wantPairs, v.Pairs(q))
		pairHours := map[flow.Hour][3]int64{}
		for k, r := range pairStrip {
			n := pairHours[k.hour]
			n[verdict[r]]++
			pairHours[k.hour] = n
		}
		for m, want := range map[reach.Measure]map[flow.Hour][3]int64{reach.Conversations: strip,
			reach.PairsOfEnds: pairHours, reach.Bytes: bytes} {
			bins := v.Strip(q, int(to-from), m)
			require.Len(t, bins, int(to-from))
			for _, b := range bins {
				require.Equal(t, want[b.Hour], b.Counts, "measure %d", m)
			}
		}
		q.Asking = true
		require.Len(t, v.Select(q), asking)
		sum := 0
		for _, row := range v.Served(q) {
			sum += row.Conversations
		}
		require.Equal(t, asking, sum)
	})
}

// What is said of a rule and of a group is what one finds by going through the
// conversations.
func TestUseOfRulesAndGroups(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		text := sample.Policy(t) + "\ngroup teams = app is booking or app is fares"
		v := reach.New(compile(t, e, text, sample.Instant(t)), all, all[0].Hour, all[len(all)-1].Hour+1)
		walk := decide.NewWalk(e, v.Compiled.Policy, v.Compiled.AsOf)
		type pair struct{ client, server estate.Endpoint }
		rulePairs := map[*policy.Rule]map[pair]int{}
		ends := map[*policy.Rule]map[estate.Endpoint]bool{}
		var want [2]reach.Use
		groupPairs := [2]map[pair]bool{{}, {}}
		for i := range v.Len() {
			c := v.At(i)
			k := pair{c.Client.Endpoint, c.Server.Endpoint}
			if c.Rule != nil {
				if rulePairs[c.Rule] == nil {
					rulePairs[c.Rule], ends[c.Rule] = map[pair]int{}, map[estate.Endpoint]bool{}
				}
				rulePairs[c.Rule][k]++
				ends[c.Rule][c.Client.Endpoint] = true
			}
			for side, p := range [2]decide.Placed{c.Client, c.Server} {
				if walk.Group("teams", p.Endpoint) != expr.Yes {
					continue
				}
				groupPairs[side][k] = true
				want[side].Conversations++
				want[side].Connections += c.Connections
				if want[side].Conversations == 1 || want[side].Last.Before(c.Last) {
					want[side].Last = c.Last
				}
				v.Spread(i, want[side].Spark[:])
			}
		}
		for i, found := range v.Evidence() {
			r := v.Compiled.Policy.Rules[i]
			n := 0
			for _, c := range rulePairs[r] {
				n += c
			}
			require.Equal(t, []int{n, len(rulePairs[r]), len(ends[r])},
				[]int{found.Conversations, found.Pairs, len(found.Clients)})
		}
		want[0].Pairs, want[1].Pairs = len(groupPairs[0]), len(groupPairs[1])
		for i, g := range v.Compiled.Policy.GroupOrder {
			if g.Name == "teams" {
				require.Equal(t, reach.GroupUse{Reaches: want[0], Reached: want[1]}, v.GroupUses()[i])
			}
		}
	})
}

// A conversation is found by its ends, also where an address changed hands.
func TestConversationsAreFound(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		v := reach.New(compile(t, e, sample.Policy(t), sample.Instant(t)), all, all[0].Hour, all[len(all)-1].Hour+1)
		for i := range v.Len() {
			conv := v.At(i)
			got, ok := v.Find(conv.Client.Endpoint, conv.Server.Endpoint, conv.Point)
			require.True(t, ok)
			require.Equal(t, i, got)
			require.Contains(t, v.Between(conv.Client.Addr, conv.Server.Addr, conv.Point), i)
			_, ok = v.Find(conv.Client.Endpoint, conv.Server.Endpoint, service.PointOf(service.TCP, 12345))
			require.False(t, ok)
		}
	})
}

func TestSidesAreCalledByArea(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		text := "group b = app is booking\ngroup f = tier is entry\narea east = b owner crew\narea west = f"
		v := reach.New(compile(t, e, text, sample.Instant(t)), all, all[0].Hour, all[len(all)-1].Hour+1)
		walk := decide.NewWalk(e, v.Compiled.Policy, v.Compiled.AsOf)
		name := func(p decide.Placed, owner bool) string {
			switch {
			case p.Workload == estate.Outside:
				return "outside"
			case walk.Group("b", p.Endpoint) == expr.Yes && owner:
				return "crew"
			case walk.Group("b", p.Endpoint) == expr.Yes:
				return "east"
			case walk.Group("f", p.Endpoint) == expr.Yes && !owner:
				return "west"
			case owner:
				return "nobody's"
			}
			return "in no area"
		}
		for by, owner := range map[string]bool{reach.ByArea: false, reach.ByOwner: true} {
			want, got := map[string]int{}, map[string]int{}
			for i := range v.Len() {
				want[name(v.At(i).Server, owner)]++
			}
			for _, row := range v.Served(reach.Query{By: by}) {
				got[row.Text] += row.Conversations
			}
			require.Equal(t, want, got)
		}
	})
}

// Every conversation that is not permitted both before and now stands in one
// group, with those that are called alike and decided alike.
func TestFlowGroupsHaveEveryConversationOnce(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, all := sample.Estate(t), buckets(t)
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		v := reach.New(compile(t, e, sample.Policy(t), sample.Instant(t)), all, from, to)
		before := reach.New(compile(t, e, sample.Policy(t), sample.Instant(t)), all, from, to)
		v = v.Compared(before)
		type key struct {
			client, server string
			point          service.Point
			was, is        decide.Verdict
			rule           *policy.Rule
		}
		want, connections := map[key]int{}, map[key]int64{}
		for i := range v.Len() {
			c := v.At(i)
			client, server := v.Labels(i)
			k := key{client.Key(), server.Key(), c.Point, before.Verdict(i), c.Verdict, c.Rule}
			if k.was != decide.Permit || k.is != decide.Permit {
				want[k]++
				connections[k] += c.Connections
			}
		}
		got, carried := map[key]int{}, map[key]int64{}
		for _, s := range v.FlowGroups(reach.Query{}, "app") {
			k := key{s.Client.Key(), s.Server.Key(), s.Point, s.Was, s.Is, s.Rule}
			got[k] += s.Conversations
			carried[k] += s.Connections
			example := v.At(s.Example)
			require.Equal(t, []any{s.Point, s.Is, s.Rule}, []any{example.Point, example.Verdict, example.Rule})
		}
		require.Equal(t, want, got)
		require.Equal(t, connections, carried)
	})
}
