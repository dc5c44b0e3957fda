package releasing

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/access"
	"lucidorchard/core/decide"
	"lucidorchard/core/plan"
	"lucidorchard/core/plural"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/core/service"
	"lucidorchard/core/whatif"
	"lucidorchard/model"
)

// conditions finds what has to be true before a wave goes on.
type conditions struct{ *Service }

func (a conditions) conditions(ctx context.Context, v *reach.View, m *model.Model, w *WaveState, points []PointState,
	r Release) ([]Condition, error) {
	proofs, err := a.proofs(m, r)
	if err != nil {
		return nil, err
	}
	var out []Condition
	add := func(key string, met, asked bool, format string, args ...any) {
		out = append(out, Condition{key, met, asked, fmt.Sprintf(format, args...)})
	}
	holding := 0
	for _, p := range points {
		if p.State == "holds" && p.Held != nil && p.Held.Runs().Mode(r.No) != rollout.Off {
			holding++
		}
	}
	verb := "have"
	if holding == 1 {
		verb = "has"
	}
	add("points", holding == len(points), true, "%d of its %s %s loaded release %d", holding,
		plural.Of(len(points), "point"), verb, r.No)
	if w.Minutes > 0 {
		observed, err := a.observedFor(ctx, points, r.No)
		if err != nil {
			return nil, err
		}
		add("minutes", observed >= w.Minutes, true, "observed for %s of %s", spell(observed), spell(w.Minutes))
	}
	holds := 0
	for _, x := range proofs.asserts {
		if x.Outcome == prove.Holds {
			holds++
		}
	}
	add("asserts", holds == len(proofs.asserts), w.Asserts, "%d of %s hold", holds,
		plural.Of(len(proofs.asserts), "assertion"))
	expected := 0
	for i := range proofs.probes {
		if proofs.probes[i].AsExpected() {
			expected++
		}
	}
	if len(proofs.probes) > 0 {
		add("probes", expected == len(proofs.probes), w.Probes, "%d of %s as expected", expected,
			plural.Of(len(proofs.probes), "probe"))
	}
	var guarded []int32
	for _, p := range points {
		guarded = append(guarded, p.guards...)
	}
	if err := a.wayIn(ctx, v, m, r, w, guarded, add); err != nil {
		return nil, err
	}
	if words, open := serverWays(proofs.compiled, points, guarded); words != "" {
		add("server", open, true, "%s", words)
	}
	asking, all, err := a.unsettled(ctx, v, m, r.No, points)
	if err != nil {
		return nil, err
	}
	words := ""
	switch {
	case all == 0:
		words = "no traffic of the window would be rejected"
	case asking == 0:
		words = plural.Of(all, "conversation") + " would be rejected, all rightly so"
	default:
		words = fmt.Sprintf("%s of the window would be rejected; %d still need a decision", plural.Of(all, "conversation"),
			asking)
	}
	add("settled", asking == 0, w.Settled, "%s", words)
	if renewals, err := a.renewals(ctx, v, m, r.No, points); err != nil {
		return nil, err
	} else if renewals > 0 {
		add("leases", false, true, "%s could not renew their addresses: the release rejects their DHCP traffic",
			plural.Of(renewals, "host"))
	}
	return out, nil
}

// wayIn adds the condition that somebody can still administer each guarded machine.
func (a conditions) wayIn(ctx context.Context, v *reach.View, m *model.Model, r Release, w *WaveState, guarded []int32,
	add func(key string, met, asked bool, format string, args ...any)) error {
	machines, err := orders(a).access(ctx, v, m, r.No, guarded)
	if err != nil {
		return err
	}
	count := map[access.Source]int{}
	for _, x := range machines {
		count[x.Source]++
	}
	if shut := access.Shut(machines); len(shut) > 0 {
		add("wayBack", false, true, "nobody could administer %d of %s: on %s %s", len(shut),
			plural.Of(len(machines), "machine"),
			m.Estate.Workload(shut[0].Workload).Label(), shut[0].Words())
		return nil
	}
	var by []string
	for _, x := range []struct {
		from  access.Source
		words string
	}{{access.Asserted, "by an assertion"}, {access.Seen, "by observed administration"},
		{access.Anybody, "by somebody; nothing more is known"}} {
		if count[x.from] > 0 {
			by = append(by, fmt.Sprintf("%d %s", count[x.from], x.words))
		}
	}
	add("wayBack", true, w.Administrable, "all of %s can still be administered (%s)", plural.Of(len(machines), "machine"),
		strings.Join(by, ", "))
	return nil
}

// renewals counts the hosts whose DHCP renewals a release would reject at their own
// points: their addresses would expire.
func (a conditions) renewals(ctx context.Context, v *reach.View, m *model.Model, release int,
	points []PointState) (n int, err error) {
	list, err := a.Rejections(ctx, v, m, release, slices.DeleteFunc(slices.Clone(points), func(p PointState) bool {
		return p.Kind != string(plan.Host)
	}))
	hosts := map[int32]bool{}
	for _, x := range list {
		if pt := x.Point; pt.Proto() == service.UDP && (pt.Port() == 67 || pt.Port() == 547) {
			hosts[x.Client] = true
		}
	}
	return len(hosts), err
}

// observedFor returns for how many minutes all points have had a release loaded.
func (a conditions) observedFor(ctx context.Context, points []PointState, release int) (minutes int, err error) {
	since := time.Time{}
	for _, p := range points {
		if p.Held == nil || p.Held.Runs().Mode(release) == rollout.Off {
			return 0, nil
		}
		at, err := a.Store.LoadedSince(ctx, p.Name, release)
		if err != nil {
			return 0, err
		}
		if at.IsZero() {
			return 0, nil
		}
		if at.After(since) {
			since = at
		}
	}
	return int(time.Since(since).Minutes()), nil
}

// serverWays reports whether a release leaves points their way to the server, as far as
// something that is guarded is at an end of it; blank: of none.
func serverWays(c *decide.Compiled, points []PointState, guarded []int32) (words string, open bool) {
	in := map[int32]bool{}
	for _, w := range guarded {
		in[w] = true
	}
	ways, shut := 0, []string{}
	for _, p := range points {
		if p.Held == nil || p.Held.Way == nil {
			continue
		}
		way := p.Held.Way
		from, to := c.At(way.From, c.AsOf), c.At(way.To.Addr(), c.AsOf)
		if !in[from.Workload] && !in[to.Workload] {
			continue
		}
		ways++
		if r := c.Decide(from, to, service.PointOf(service.TCP, uint32(way.To.Port()))); decide.VerdictOf(
			r) == decide.Reject {
			shut = append(shut, fmt.Sprintf("line %d rejects %s → %s on tcp/%d, by which %s asks it", r.Line, way.From,
				way.To.Addr(),
				way.To.Port(), p.Name))
		}
	}
	switch {
	case len(shut) > 0:
		return "the release blocks access to the server: " + shut[0], false
	case ways > 0:
		return "the server stays reachable for " + plural.Of(ways, "point"), true
	}
	return "", true
}

// spell formats minutes.
func spell(minutes int) string {
	switch {
	case minutes >= 2880:
		return plural.Of(minutes/1440, "day")
	case minutes >= 120:
		return plural.Of(minutes/60, "hour")
	}
	return plural.Of(minutes, "minute")
}

// proofs is what a release proves for a state of the estate.
type proofs struct {
	of       *decide.Compiled // the draft that it was found beside
	version  int64            // of the probes
	compiled *decide.Compiled
	asserts  []prove.Result
	probes   []model.AskedProbe
}

func (a *Service) proofs(m *model.Model, r Release) (*proofs, error) {
	a.proved.Lock()
	defer a.proved.Unlock()
	if p := a.proved.of[r.No]; p != nil && p.of == m.Compiled && p.version == m.Versions.Probes {
		return p, nil
	}
	c, err := a.teller.Compiled(rolloutState(m), r.No)
	if err != nil {
		return nil, err
	}
	p := &proofs{of: m.Compiled, version: m.Versions.Probes, compiled: c}
	if r.Revision == m.Head.No {
		p.asserts, p.probes = m.Asserts(), m.Probes()
	} else {
		p.asserts = prove.Assertions(c)
		p.probes = m.ProbesUnder(whatif.Count(c))
	}
	a.proved.of = map[int]*proofs{r.No: p}
	return p, nil
}

// unsettled counts the conversations that run today, and that a release rejects at some
// points; and those of them of which no probe says that it is right.
func (a conditions) unsettled(ctx context.Context, v *reach.View, m *model.Model, release int,
	points []PointState) (asking, all int,
	err error) {
	list, err := a.Rejections(ctx, v, m, release, points)
	for _, x := range list {
		if !x.Settled {
			asking++
		}
	}
	return asking, len(list), err
}
