package decide_test

import (
	"context"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// instants are all that sample.Instant draws, and one before.
func instants() []estate.Instant {
	var out []estate.Instant
	for h := range int64(11) {
		out = append(out, estate.Instant{Sec: 1_795_000_000 + (h-1)*3600})
	}
	return out
}

// However an estate and a policy came about by edits, the result is that of a
// fresh compile, and the update says what changed: exactly.
func TestUpdatesEqualAFreshCompile(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, p := sample.Estate(t), parse(t, sample.Policy(t))
		asOf := sample.Instant(t)
		c := decide.Compile(e, p, asOf)
		for range rapid.IntRange(1, 6).Draw(t, "edits") {
			asked(t, c)
			var u *decide.Update
			if rapid.Bool().Draw(t, "of the estate") {
				next, touched := sample.EditEstate(t, c.Estate)
				u = c.WithEstate(next, touched)
			} else {
				text := sample.EditPolicy(t, c.Policy.Format())
				if rapid.IntRange(0, 9).Draw(t, "later") == 0 {
					asOf = sample.Instant(t)
				}
				p := parse(t, text)
				l := &leaving{t.Context(), rapid.IntRange(0, 20).Draw(t, "looks")}
				if left, err := c.WithPolicyUntil(l, p, asOf); err != nil {
					require.ErrorIs(t, err, context.Canceled)
					require.Nil(t, left)
					same(t, c)
				}
				u = c.WithPolicy(p, asOf)
			}
			require.Same(t, c, u.Before)
			same(t, u.After)
			exact(t, u)
			if rapid.IntRange(0, 4).Draw(t, "given up") > 0 { // else the next edit is made on the one before
				c = u.After
			}
		}
	})
}

// asked asks a few questions, so that there are tables to take over.
func asked(t *rapid.T, c *decide.Compiled) {
	for _, a := range sample.Addresses[:rapid.IntRange(0, len(sample.Addresses)).Draw(t, "asked")] {
		for _, b := range sample.Addresses {
			c.Rule(c.At(a, c.AsOf), c.At(b, c.AsOf), sample.Points[0])
		}
	}
}

// same compares with a fresh compile of the workloads that there are.
func same(t *rapid.T, c *decide.Compiled) {
	var ws []estate.Workload
	for _, w := range c.Estate.All() {
		ws = append(ws, *w)
	}
	e, conflicts := estate.New(ws)
	require.Empty(t, conflicts)
	fresh := decide.Compile(e, c.Policy, c.AsOf)
	id := func(e *estate.Estate, p decide.Placed) string {
		if p.Workload == estate.Outside {
			return ""
		}
		return e.Workload(p.Workload).ID
	}
	at := rapid.SampledFrom(instants()).Draw(t, "at")
	points := rapid.SliceOfN(rapid.SampledFrom(sample.Points), 4, 4).Draw(t, "points")
	for _, a := range sample.Addresses {
		ca, fa := c.At(a, at), fresh.At(a, at)
		require.Equal(t, id(e, fa), id(c.Estate, ca))
		for _, g := range c.Policy.GroupOrder {
			require.Equal(t, fresh.Group(g.Name, fa), c.Group(g.Name, ca), "%s in %s", a, g.Name)
		}
		for _, b := range sample.Addresses {
			cb, fb := c.At(b, at), fresh.At(b, at)
			for _, pt := range points {
				require.Equal(t, fresh.Rule(fa, fb, pt), c.Rule(ca, cb, pt), "%s -> %s %s at %s", a, b, pt, at)
			}
		}
	}
	require.False(t, c.Worn())
}

// exact checks that what an update says to have changed is what has, and all.
func exact(t *rapid.T, u *decide.Update) {
	changes := map[[2]int32]decide.PairChange{}
	for _, p := range u.Pairs() {
		require.NotEmpty(t, p.Rule)
		require.Equal(t, p.Verdict, p.Verdict.Intersect(p.Rule))
		changes[[2]int32{p.Client, p.Server}] = p
	}
	for i, now := range u.Rules {
		if now >= 0 {
			require.Equal(t, bare(u.Before.Policy.Rules[i]), bare(u.After.Policy.Rules[now]))
		}
	}
	points := rapid.SliceOfN(rapid.SampledFrom(sample.Points), 4, 4).Draw(t, "points")
	for _, at := range rapid.SliceOfN(rapid.SampledFrom(instants()), 3, 3).Draw(t, "instants") {
		moved := map[netip.Addr]bool{}
		for _, m := range u.Moved {
			if at.Before(m.From) || !at.Before(m.Until) {
				continue
			}
			for _, a := range sample.Addresses {
				if m.Where.Contains(a) && (!m.Outside || u.After.Region(a) == m.Where &&
					u.After.At(a, at).Workload == estate.Outside) {
					moved[a] = true
				}
			}
		}
		for _, a := range sample.Addresses {
			was, is := u.Before.At(a, at), u.After.At(a, at)
			require.Equal(t, !alike(u, was, is), moved[a], "%s at %s: %+v, then %+v in %s; moved %+v", a, at, was, is,
				u.After.Region(a), u.Moved)
		}
		for _, a := range sample.Addresses {
			for _, b := range sample.Addresses {
				if moved[a] || moved[b] {
					continue
				}
				ca, cb := u.Before.At(a, at), u.Before.At(b, at)
				p := changes[[2]int32{ca.Class, cb.Class}]
				for _, pt := range points {
					was, is := u.Before.Decide(ca, cb, pt), u.After.Decide(u.After.At(a, at), u.After.At(b, at), pt)
					require.Equal(t, decide.VerdictOf(was) != decide.VerdictOf(is), p.Verdict.Contains(pt),
						"%s -> %s %s", a, b, pt)
					if !p.Rule.Contains(pt) && was != nil {
						require.Equal(t, bare(was), bare(is))
					}
				}
			}
		}
	}
}

func bare(r *policy.Rule) string {
	b := *r
	b.Note = ""
	return b.String()
}

func alike(u *decide.Update, was, is decide.Placed) bool {
	if was.Workload != is.Workload || was.Class != is.Class {
		return false
	}
	names := map[string]bool{}
	for _, c := range []*decide.Compiled{u.Before, u.After} {
		for _, g := range c.Policy.GroupOrder {
			names[g.Name] = true
		}
	}
	for n := range names {
		if u.Before.Group(n, was) != u.After.Group(n, is) {
			return false
		}
	}
	return true
}

// An edit of one rule says which pairs of classes it changes, and no others.
func TestOneRuleChangesOnlyItsPairs(t *testing.T) {
	e, text := sample.Large(500, 40, 60)
	c := decide.Compile(e, parse(t, text), estate.Instant{})
	point := service.PointOf(service.TCP, 1)
	u := c.WithPolicy(parse(t, text+"permit app1-entry -> app2-store on tcp/1\n"), estate.Instant{})
	require.Empty(t, u.Moved)
	want := map[[2]int32]bool{}
	for i := range 500 {
		for j := range 500 {
			a, b := c.At(sample.LargeAddr(i), c.AsOf), c.At(sample.LargeAddr(j), c.AsOf)
			if c.Group("app1-entry", a) == expr.Yes && c.Group("app2-store", b) == expr.Yes &&
				c.Decide(a, b, point) == nil {
				want[[2]int32{a.Class, b.Class}] = true
			}
		}
	}
	require.NotEmpty(t, want)
	require.Len(t, u.Pairs(), len(want))
	for _, p := range u.Pairs() {
		require.True(t, want[[2]int32{p.Client, p.Server}])
		require.Equal(t, service.Set{{Lo: point, Hi: point}}, p.Verdict)
	}
}

// A tag changes the class of its workload alone.
func TestOneTagMovesOneWorkload(t *testing.T) {
	e, text := sample.Large(500, 40, 60)
	c := decide.Compile(e, parse(t, text), estate.Instant{})
	w := *e.Workload(7)
	w.SetTag(estate.Tag{Key: "env", Value: "elsewhere"})
	next, touched, _ := e.With([]estate.Workload{w}, nil)
	u := c.WithEstate(next, touched)
	require.Len(t, u.Moved, 1)
	require.Equal(t, w.Leases[0].Addr, u.Moved[0].Where.Addr())
	require.Equal(t, expr.No, u.After.Group("live", u.Moved[0].After))
	require.Empty(t, u.Pairs())
}

// leaving is a context that ends when it has been looked at a number of times.
type leaving struct {
	context.Context
	looks int
}

func (l *leaving) Err() error {
	if l.looks--; l.looks < 0 {
		return context.Canceled
	}
	return nil
}
