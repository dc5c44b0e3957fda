package rest_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers"
	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	draftingrest "lucidorchard/drafting/rest"
	"lucidorchard/server"
	trafficrest "lucidorchard/traffic/rest"
	"lucidorchard/traffic/rows"
)

func TestProposalsAreTakenAndRefused(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive?balance=0.5", nil, &job))
	require.Equal(t, "done", c.Job(&job).State)
	var ps draftingrest.Proposals
	c.Get("/api/v1/proposals", &ps)
	require.False(t, ps.Stale)
	n := len(assemblytest.OpenProposals(ps))
	require.Greater(t, n, 4)
	require.NotEmpty(t, ps.Derived.Aside)
	covered, aside := 0, 0
	for _, p := range assemblytest.OpenProposals(ps) {
		covered += p.Conversations
		require.NotEmpty(t, p.Callers)
		require.Contains(t, p.Choices[p.Own].Text, p.Key)
	}
	for _, a := range ps.Derived.Aside {
		aside += a.Conversations
	}
	require.Equal(t, ps.Derived.Considered, covered+aside, "what is looked at is proposed or set aside")

	// Taking does what it says, is one step, and leaves the list.
	var before, after checkingrest.CheckOut
	c.Get("/api/v1/check", &before)
	first, second := assemblytest.OpenProposals(ps)[0], assemblytest.OpenProposals(ps)[1]
	var taken answers.EditOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/proposals/judge?dryRun=true",
		assemblytest.Judgements(1, assemblytest.Taking(first)), &taken))
	require.Equal(t, "Take the proposal “"+first.Key+"”", taken.Words)
	would := taken.Consequences.Changed
	require.Equal(t, 201, c.Judge(&taken, assemblytest.Taking(first)))
	require.Equal(t, "Take the proposal “"+first.Key+"”", taken.Words)
	c.Get("/api/v1/check", &after)
	require.Equal(t, would, before.Counts.Uncovered-after.Counts.Uncovered)
	require.GreaterOrEqual(t, would, first.Conversations)
	require.Regexp(t, regexp.QuoteMeta(first.Key)+` "[0-9,]+ of [0-9,]+ pairs? seen, \d+ days?"`, c.Text())
	c.Get("/api/v1/proposals", &ps)
	require.True(t, ps.Stale)
	require.Len(t, assemblytest.OpenProposals(ps), n-1)

	// Taking two that share a group defines it once, and refusing is undone with it.
	third := assemblytest.OpenProposals(ps)[2]
	require.Equal(t, 201, c.Judge(&taken, assemblytest.Taking(second), assemblytest.Taking(third),
		draftingrest.Judgement{Proposal: assemblytest.OpenProposals(ps)[3].ID, Do: "refuse", Reason: "no"}))
	require.Equal(t, "Take 2 proposals, refuse the proposal “"+assemblytest.OpenProposals(ps)[3].Key+"”", taken.Words)
	refusals := func() int {
		c.Get("/api/v1/proposals", &ps)
		return len(ps.Refused)
	}
	require.Equal(t, 1, refusals())
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Zero(t, refusals())
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Equal(t, assemblytest.Draft, c.Text())

	require.Equal(t, 200, c.Judge(&taken, draftingrest.Judgement{Proposal: second.ID, Do: "refuse", Reason: "not ours"}))
	ps = draftingrest.Proposals{}
	c.Get("/api/v1/proposals", &ps)
	require.Equal(t, "not ours", assemblytest.OpenProposals(ps)[1].Refused.Reason)
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive", nil, &job))
	c.Job(&job)
	c.Get("/api/v1/proposals", &ps)
	require.Equal(t, "not ours", assemblytest.OpenProposals(ps)[1].Refused.Reason, "refused stays refused")
	require.Equal(t, 200, c.Judge(&taken, draftingrest.Judgement{Proposal: assemblytest.OpenProposals(ps)[1].ID,
		Do: "again"}))
	ps = draftingrest.Proposals{}
	c.Get("/api/v1/proposals", &ps)
	require.Nil(t, assemblytest.OpenProposals(ps)[1].Refused)
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	c.Get("/api/v1/proposals", &ps)
	require.NotNil(t, assemblytest.OpenProposals(ps)[1].Refused, "refused again")

	// Narrowing leaves the rest judged, and both are undone as one.
	ps = draftingrest.Proposals{}
	c.Get("/api/v1/proposals", &ps)
	i := slices.IndexFunc(assemblytest.OpenProposals(ps), func(p draftingrest.ProposalOut) bool {
		return p.Own > 0 &&
			p.Refused == nil
	})
	require.NotEqual(t, -1, i)
	narrowed, narrow := assemblytest.OpenProposals(ps)[i], assemblytest.OpenProposals(ps)[i].Own-1
	require.Equal(t, 201, c.Judge(&taken, draftingrest.Judgement{Proposal: narrowed.ID, Do: "take", Choice: &narrow}))
	require.Contains(t, c.Text(), narrowed.Choices[narrow].Sentence)
	require.Equal(t, 2, refusals())
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Equal(t, assemblytest.Draft, c.Text())
	require.Equal(t, 1, refusals())

	var p assemblytest.Problem
	require.Equal(t, 404, c.Judge(&p, draftingrest.Judgement{Proposal: 1 << 40, Do: "take"}))
	far := 99
	require.Equal(t, 422, c.Judge(&p, draftingrest.Judgement{Proposal: narrowed.ID, Do: "take", Choice: &far}))
	require.Equal(t, 422, c.Judge(&p, draftingrest.Judgement{Proposal: narrowed.ID, Do: "bless"}))
	// A group that means something else by now is no longer what was judged.
	var head draftingrest.PolicyOut
	c.Get("/api/v1/policy", &head)
	i = slices.IndexFunc(assemblytest.OpenProposals(ps),
		func(p draftingrest.ProposalOut) bool { return len(p.Groups) > 0 })
	require.NotEqual(t, -1, i)
	name := strings.Fields(assemblytest.OpenProposals(ps)[i].Groups[0])[1]
	_, _, status := c.Edit(head.Revision, "add", map[string]any{"text": "group " + name + " = app is another"})
	require.Equal(t, 201, status)
	require.Equal(t, 409, c.Judge(&p, assemblytest.Taking(assemblytest.OpenProposals(ps)[i])))
	require.Contains(t, p.Now, "app is another")
	require.Contains(t, p.Was, "group "+name+" = ")
}

// The conversations of a derivation are counted again after every edit: with what was
// taken, refused or undone, the meter adds up to what Check says is uncovered, the list is
// as long as the summary says, and nothing is proposed that the draft decides by now.
func TestWhatADerivationLeavesOpenIsOneNumber(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	closing := strings.Replace(assemblytest.Draft, "layer closing\n", "layer closing\nreject any -> any on udp\n", 1)
	require.Equal(t, 201, c.Replace(1, closing))
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive?balance=0.3", nil, &job))
	require.Equal(t, "done", c.Job(&job).State)
	rng := rand.New(rand.NewPCG(4, 2))
	agree := func(did string) (toJudge []draftingrest.ProposalOut) {
		t.Helper()
		var ps draftingrest.Proposals
		var check checkingrest.CheckOut
		var sum checkingrest.Summary
		c.Get("/api/v1/proposals", &ps)
		c.Get("/api/v1/check", &check)
		c.Get("/api/v1/summary", &sum)
		for _, at := range ps.Derived.Path {
			p := at.Parts
			left := p.ToJudge + p.Refused + p.Aside + p.Dropped + p.Unproposed
			require.Equal(t, check.Counts.Uncovered, left-p.Closing, "%s, at %v", did, at.Balance)
			require.Equal(t, ps.Derived.Considered+ps.Derived.Dropped, left+p.Decided, did)
		}
		for _, p := range ps.Derived.Proposals {
			var would answers.ConversationPage
			c.Get(fmt.Sprintf("/api/v1/proposals/%d/evidence?limit=1", p.ID), &would)
			require.Positive(t, p.Open, "%s: %s", did, p.Key)
			require.LessOrEqual(t, p.Open, would.Total, "%s: %s", did, p.Key)
			require.Equal(t, p.Open, p.Choices[p.Own].Open)
			if p.Refused == nil || p.Again {
				toJudge = append(toJudge, p)
			}
		}
		shown := 0
		for _, p := range append(assemblytest.OpenProposals(ps), barred(ps)...) {
			if p.Refused == nil || p.Again {
				shown++
			}
		}
		require.Equal(t, shown, sum.Proposals, did)
		return toJudge
	}
	all := agree("derived")
	var begun draftingrest.Proposals
	c.Get("/api/v1/proposals", &begun)
	require.Positive(t, begun.Derived.Path[0].Parts.Closing)
	for range 14 {
		p := all[rng.IntN(len(all))]
		choice := rng.IntN(len(p.Choices))
		var did string
		switch k := rng.IntN(5); {
		case k == 0:
			did = "refused " + p.Key
			require.Equal(t, 200, c.Judge(nil, draftingrest.Judgement{Proposal: p.ID, Do: "refuse"}))
		case k == 1:
			did = "undone"
			c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil)
		case k == 2:
			var head draftingrest.PolicyOut
			c.Get("/api/v1/policy", &head)
			did = "rejected " + strings.Join(p.Rule.On, ", ")
			_, _, status := c.Edit(head.Revision, "add", map[string]any{"text": "reject any -> any on " +
				strings.Join(p.Rule.On, ", ") + " \"no\""})
			require.Contains(t, []int{201, 422}, status, did) // 422: the draft has this rule already
		case !p.Barred || choice < p.Own:
			did = "took " + p.Choices[choice].Sentence
			require.Contains(t, []int{201, 409}, c.Judge(nil, draftingrest.Judgement{Proposal: p.ID, Do: "take",
				Choice: &choice}), did)
		}
		if all = agree(did); len(all) == 0 {
			break
		}
	}
}

// barred returns the proposals that can only be narrowed.
func barred(ps draftingrest.Proposals) (out []draftingrest.ProposalOut) {
	for _, p := range ps.Derived.Proposals {
		if p.Barred {
			out = append(out, p)
		}
	}
	return out
}

func TestWhatIsSetAsideIsSettledTogether(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive?balance=0.5", nil, &job))
	require.Equal(t, "done", c.Job(&job).State)
	var ps draftingrest.Proposals
	c.Get("/api/v1/proposals", &ps)
	asked := 0
	for _, a := range ps.Derived.Aside {
		var list answers.ConversationPage
		c.Get("/api/v1/conversations?limit=1&verdict=uncovered&aside="+url.QueryEscape(a.Reason), &list)
		require.Equal(t, a.Conversations, list.Total, a.Reason)
		asked += a.Conversations
	}
	var all trafficrest.LedgerPage
	c.Get("/api/v1/ledger?verdict=uncovered&aside=all&limit=500", &all)
	sum := 0
	rows := []map[string]any{}
	for _, r := range all.Rows {
		sum += r.Counts.Uncovered
		rows = append(rows, map[string]any{"near": r.Key, "service": r.Service})
	}
	require.Equal(t, asked, sum)
	require.Greater(t, len(rows), 1)

	// As one rule: it rejects all of them.
	var one checkingrest.SettleOut
	c.Get("/api/v1/settle?as=reject&verdict=uncovered&aside=all", &one)
	require.Equal(t, asked, one.Conversations)
	for _, o := range one.Options {
		gained := 0
		for _, x := range o.Consequences.Conversations {
			if x.After == "reject" {
				gained += x.Count
			}
		}
		require.GreaterOrEqual(t, gained, asked, o.Lines)
	}

	// Or each row by its own: then none is left to settle.
	require.Equal(t, 201, c.Call("POST", "/api/v1/settle/rows?verdict=uncovered&aside=all",
		map[string]any{"revision": 1, "as": "reject", "width": "exact", "rows": rows}, nil))
	c.Get("/api/v1/ledger?verdict=uncovered&aside=all", &all)
	require.Zero(t, all.Total)
}

// Proposals of one shape are taken as one rule; what it stands for leaves the list,
// and comes back when the rule goes.
func TestProposalsOfOneShapeAreTakenAsOne(t *testing.T) {
	c := assemblytest.Serve(t)
	c.Begin()
	var ws []estate.Workload
	var seen []flow.Record
	for a, name := range []string{"mill", "press", "loom"} {
		addr := func(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 200, byte(a), byte(i)}) }
		for i, tier := range []string{"entry", "entry", "store", "store"} {
			w := estate.Workload{ID: fmt.Sprint(name, i),
				Leases: []estate.Lease{{Addr: addr(i), From: estate.Beginning, Until: estate.End}}}
			for key, value := range map[string]string{"app": name, "tier": tier, "env": "bench"} {
				w.SetTag(estate.Tag{Key: key, Value: value})
			}
			ws = append(ws, w)
		}
		for k := range 8 {
			at := estate.InstantOf(time.Date(2026, 11, 21+k%2, 5, k, 0, 0, time.UTC))
			seen = append(seen, flow.Record{Client: addr(k & 1), Server: addr(2 + k>>1&1), Start: at, End: at,
				Point: service.PointOf(service.TCP, 6000), Connections: 30, Bytes: 1 << 20})
		}
	}
	require.NoError(t, c.DB.ImportWorkloads(t.Context(), "mills", []string{"app", "env", "tier"}, ws))
	_, err := c.DB.AddBatch(t.Context(), rows.BatchOf("mills", flow.Stating(seen), nil))
	require.NoError(t, err)
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/derive?balance=0.5", nil, &job))
	require.Equal(t, "done", c.Job(&job).State)
	var ps draftingrest.Proposals
	c.Get("/api/v1/proposals", &ps)
	shapes := map[string][]draftingrest.Judgement{}
	for _, p := range assemblytest.OpenProposals(ps) {
		if p.Shape != "" {
			shapes[p.Shape] = append(shapes[p.Shape], assemblytest.Taking(p))
		}
	}
	var most []draftingrest.Judgement
	for _, list := range shapes {
		if len(list) > len(most) {
			most = list
		}
	}
	require.Greater(t, len(most), 1)
	before := c.Text()
	body := assemblytest.Judgements(1, most...)
	body["together"] = true
	var would, taken answers.EditOut
	require.Equal(t, 200, c.Call("POST", "/api/v1/proposals/judge?dryRun=true", body, &would))
	require.Contains(t, would.Words, "same app")
	require.Equal(t, 201, c.Call("POST", "/api/v1/proposals/judge", body, &taken))
	require.Equal(t, would.Words, taken.Words)
	require.Equal(t, 1, strings.Count(c.Text(), "same app")-strings.Count(before, "same app"))
	open := func() (n int) {
		var now draftingrest.Proposals
		c.Get("/api/v1/proposals", &now)
		for _, p := range assemblytest.OpenProposals(now) {
			if p.Refused == nil {
				n++
			}
		}
		return n
	}
	left := open()
	require.Equal(t, 200, c.Call("POST", "/api/v1/policy/undo", map[string]any{}, nil))
	require.Equal(t, before, c.Text())
	require.Equal(t, left+len(most), open())

	body["judgements"] = []draftingrest.Judgement{most[0]}
	require.Equal(t, 422, c.Call("POST", "/api/v1/proposals/judge", body, nil))
	require.Equal(t, before, c.Text())
}
