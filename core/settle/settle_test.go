package settle_test

import (
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
	"lucidorchard/core/settle"
)

func view(t require.TestingT, e *estate.Estate, text string, at estate.Instant, buckets []flow.Bucket) *reach.View {
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	return reach.New(decide.Compile(e, p, at), buckets, buckets[0].Hour, buckets[len(buckets)-1].Hour+1)
}

// drawn is an estate with traffic, a policy, and what is to be done about a part of
// the traffic.
type drawn struct {
	estate  *estate.Estate
	at      estate.Instant
	buckets []flow.Bucket
	text    string
	action  policy.Action
	want    decide.Verdict
}

func draw(t *rapid.T) drawn {
	d := drawn{estate: sample.Estate(t), at: sample.Instant(t), action: policy.Permit, want: decide.Permit}
	var b flow.Buckets
	for range rapid.IntRange(1, 30).Draw(t, "records") {
		when := sample.Instant(t)
		b.Add(flow.Record{Start: when, End: when, Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
			Server: rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
			Point:  rapid.SampledFrom(sample.Points).Draw(t, "point"), Connections: 1})
	}
	d.buckets, d.text = b.All(), sample.Policy(t)
	if rapid.Bool().Draw(t, "reject") {
		d.action, d.want = policy.Reject, decide.Reject
	}
	return d
}

func (d *drawn) view(t require.TestingT, text string) *reach.View {
	return view(t, d.estate, text, d.at, d.buckets)
}

// Every rule that is offered, in the place that is offered, gives all of the
// conversations the verdict that was asked for; and a narrower one changes no
// conversation that a wider one does not.
func TestRulesDoWhatWasAskedFor(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		text, v, action, want := d.text, d.view(t, d.text), d.action, d.want
		// A row of the ledger, or what is below it.
		rows := v.Served(reach.Query{})
		row := rows[rapid.IntRange(0, len(rows)-1).Draw(t, "row")]
		var chosen []int
		for _, i := range v.Select(reach.Query{Near: row.Key(), Point: &row.Point}) {
			if v.Verdict(i) != want {
				chosen = append(chosen, i)
			}
		}
		options := settle.Rules(v, chosen, action, "somebody said so")
		require.Equal(t, len(chosen) == 0, len(options) == 0)
		for _, o := range options {
			after, bad := settle.Apply(text, o.Lines, o.Before)
			require.Nil(t, bad, "%v\n%s", o, text)
			now := d.view(t, after)
			for _, i := range chosen {
				require.Equal(t, want, now.Verdict(i), "%v\n%s", o, after)
			}
			require.Equal(t, o.Before != 0, o.Instead != nil)
			if o.Width != settle.Exact {
				continue
			}
			for i := range now.Len() {
				was, is := v.At(i), now.At(i)
				if was.Verdict == is.Verdict {
					continue
				}
				near := func(p decide.Placed, of func(reach.Conversation) decide.Placed) bool {
					return slices.ContainsFunc(chosen, func(k int) bool {
						q := of(v.At(k))
						return p.Workload == q.Workload && p.Workload != estate.Outside || p.Addr == q.Addr
					})
				}
				require.True(t, near(is.Client, func(c reach.Conversation) decide.Placed { return c.Client }),
					"%v changes %v", o, is)
				require.True(t, near(is.Server, func(c reach.Conversation) decide.Placed { return c.Server }),
					"%v changes %v", o, is)
			}
		}
	})
}

func on(id, addr, app, tier string) estate.Workload {
	w := estate.Workload{ID: id, Name: id,
		Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}}
	for k, v := range map[string]string{"app": app, "tier": tier, "env": "live"} {
		w.SetTag(estate.Tag{Key: k, Value: v})
	}
	return w
}

func TestThreeWidths(t *testing.T) {
	e, conflicts := estate.New([]estate.Workload{
		on("bkg-entry-01", "10.1.0.1", "booking", "entry"), on("bkg-entry-02", "10.1.0.2", "booking", "entry"),
		on("bkg-logic-01", "10.1.2.1", "booking", "logic"),
		on("fares-store-01", "10.1.1.1", "fares", "store"), on("fares-store-02", "10.1.1.2", "fares", "store"),
		on("tides-entry-01", "10.1.3.1", "tides", "entry"), on("tides-logic-01", "10.1.3.2", "tides", "logic"),
	})
	require.Empty(t, conflicts)
	var b flow.Buckets
	see := func(client, server string, port uint32) {
		now := estate.Instant{Sec: 1_795_000_000}
		b.Add(flow.Record{Start: now, End: now, Client: netip.MustParseAddr(client),
			Server: netip.MustParseAddr(server), Point: service.PointOf(service.TCP, port), Connections: 1})
	}
	see("10.1.0.1", "10.1.1.1", 5432)
	see("10.40.0.7", "10.1.1.1", 8443)
	at := estate.Instant{Sec: 1_795_000_000}
	text := "group live = env is live\ngroup booking = app is booking\ngroup booking-entry = app is booking and " +
		"tier is entry and env is live\nservice postgres = tcp/5432\n" +
		"layer separations\nreject booking -> workload fares-store-01 on postgres \"Not from there\"\nlayer " +
		"allowances\nlayer closing\nreject any -> live on any\n"
	v := view(t, e, text, at, b.All())
	i, ok := v.Find(e.At(netip.MustParseAddr("10.1.0.1"), at), e.At(netip.MustParseAddr("10.1.1.1"), at),
		service.PointOf(service.TCP, 5432))
	require.True(t, ok)
	options := settle.Rules(v, []int{i}, policy.Permit, "the fares team asked")
	require.Len(t, options, 3)
	for k, want := range [][]string{
		{`permit workload bkg-entry-01 -> workload fares-store-01 on postgres "the fares team asked"`},
		{"group fares-store-live = app is fares and tier is store and env is live",
			`permit booking-entry -> fares-store-live on postgres "the fares team asked"`},
		{"group fares-store-live = app is fares and tier is store and env is live",
			`permit booking -> fares-store-live on postgres "the fares team asked"`},
	} {
		require.Equal(t, want, options[k].Lines)
		require.Equal(t, 6, options[k].Before, "it is an exception to the rule that rejects it")
		require.Equal(t, "Not from there", options[k].Instead.Note)
	}
	require.Equal(t, []settle.Width{settle.Exact, settle.Groups, settle.Wider},
		[]settle.Width{options[0].Width, options[1].Width, options[2].Width})

	// What only the closing layer rejects goes to the allowances.
	i, ok = v.Find(e.At(netip.MustParseAddr("10.40.0.7"), at), e.At(netip.MustParseAddr("10.1.1.1"), at),
		service.PointOf(service.TCP, 8443))
	require.True(t, ok)
	options = settle.Rules(v, []int{i}, policy.Permit, "")
	require.Zero(t, options[0].Before)
	require.Equal(t, []string{"permit 10.40.0.7 -> workload fares-store-01 on tcp/8443"}, options[0].Lines)
	require.Equal(t, "permit 10.40.0.0/24 -> fares-store-live on tcp/8443", options[1].Lines[1])
	require.Equal(t, "permit any -> fares-store-live on tcp/8443", options[2].Lines[1])
}

// Rows that are settled together all get the verdict, in one text.
func TestManyRowsAreSettledTogether(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := draw(t)
		text, v, action, want := d.text, d.view(t, d.text), d.action, d.want
		served := v.Served(reach.Query{})
		var rows [][]int
		for range rapid.IntRange(1, 4).Draw(t, "rows") {
			row := served[rapid.IntRange(0, len(served)-1).Draw(t, "row")]
			rows = append(rows, v.Select(reach.Query{Near: row.Key(), Point: &row.Point}))
		}
		width := rapid.SampledFrom([]settle.Width{settle.Exact, settle.Groups, settle.Wider}).Draw(t, "width")
		after, bad := settle.Many(v, text, rows, action, width)
		require.Nil(t, bad)
		now := d.view(t, after)
		for _, row := range rows {
			for _, i := range row {
				require.Equal(t, want, now.Verdict(i), "%s\n%s", text, after)
			}
		}
		require.Equal(t, after == text, !slices.ContainsFunc(slices.Concat(rows...),
			func(i int) bool { return v.Verdict(i) != want }))
	})
}
