package releasing

import (
	"context"

	// How a release goes on from wave to wave: what has to be true first, who holds it,
	// and which workloads are left out.
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/access"
	"lucidorchard/core/decide"
	"lucidorchard/core/plan"
	"lucidorchard/core/plural"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/core/service"
	"lucidorchard/core/whatif"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// roller takes the steps of a roll-out that need nobody.
type roller struct{ *Service }

// conditions finds what has to be true before a wave goes on.
type conditions struct{ *Service }

// Wave is a step of a roll-out: what has to be true before its points enforce.
type Wave struct {
	No       int    `db:"no" json:"no"`
	Title    string `db:"title" json:"title"`
	Minutes  int    `db:"minutes" json:"minutes" doc:"How long it observes at least"`
	Asserts  bool   `db:"asserts" json:"asserts" doc:"Assertions have to hold"`
	Probes   bool   `db:"probes" json:"probes" doc:"Probes have to get the verdict that is expected"`
	WayBack  bool   `db:"way_back" json:"wayBack" doc:"The way back has to stay open"`
	Settled  bool   `db:"settled" json:"settled" doc:"What would be rejected has to be settled as right"`
	ByItself bool   `db:"by_itself" json:"byItself" doc:"It goes on as soon as all that is so"`
}

// usualWave is the conditions of a wave of which nobody has said any.
func usualWave(no int) Wave {
	return Wave{No: no, Asserts: true, Probes: true, WayBack: true, Settled: true}
}

// Hold says that, and why, a roll-out does not go on.
type Hold struct {
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
	Reason string    `db:"reason" json:"reason"`
}

// Condition is something that has to be true before a wave enforces.
type Condition struct {
	Key   string `json:"key" enum:"points,minutes,asserts,probes,wayBack,server,settled,leases"`
	Met   bool   `json:"met"`
	Asked bool   `json:"asked" doc:"Whether the wave waits for it"`
	Words string `json:"words"`
}

// WaveState is a wave with how far it has come.
type WaveState struct {
	Wave
	Points     []string    `json:"points"`
	Stage      string      `json:"stage" enum:"not yet,observes,enforces" doc:"With the newest release"`
	Since      *time.Time  `json:"since,omitempty" doc:"When the last of its points came to that"`
	Conditions []Condition `json:"conditions" doc:"Before it may enforce; of a wave that observes"`
}

// Unmet gives the words of the conditions that it waits for.
func (w *WaveState) Unmet() (out []string) {
	for _, c := range w.Conditions {
		if c.Asked && !c.Met {
			out = append(out, c.Words)
		}
	}
	return out
}

// Progress is how far the newest release has come.
type Progress struct {
	Points   []PointState
	Coverage Coverage
	Waves    []WaveState
	Hold     *Hold
	Releases []Release // newest first
}

// Progress gives it.
func (a *Service) Progress(ctx context.Context, v *reach.View, m *model.Model) (*Progress, error) {
	out := &Progress{}
	var err error
	if out.Points, out.Coverage, err = a.Points(ctx, v, m); err != nil {
		return nil, err
	}
	if out.Releases, err = a.Store.Releases(ctx); err != nil {
		return nil, err
	}
	if out.Hold, err = a.Store.Held(ctx); err != nil {
		return nil, err
	}
	known, err := a.Store.Waves(ctx)
	if err != nil {
		return nil, err
	}
	for i := range out.Points {
		p := &out.Points[i]
		n := len(out.Waves) - 1
		if n < 0 || out.Waves[n].No != p.Wave {
			w := usualWave(p.Wave)
			if i := slices.IndexFunc(known, func(k Wave) bool { return k.No == p.Wave }); i >= 0 {
				w = known[i]
			}
			out.Waves = append(out.Waves, WaveState{Wave: w, Points: []string{}, Stage: "not yet", Conditions: []Condition{}})
			n++
		}
		out.Waves[n].Points = append(out.Waves[n].Points, p.Name)
	}
	if len(out.Releases) == 0 {
		return out, nil
	}
	newest := out.Releases[0]
	for i := range out.Waves {
		w := &out.Waves[i]
		mine := out.of(w)
		w.stage(mine, newest.No)
		if w.Stage == "observes" {
			if w.Conditions, err = (conditions{a}).conditions(ctx, v, m, w, mine, newest); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// of gives the points of a wave.
func (p *Progress) of(w *WaveState) (out []PointState) {
	for _, x := range p.Points {
		if x.Wave == w.No {
			out = append(out, x)
		}
	}
	return out
}

// behind gives the points of a wave that are not told to be as far with a release: who
// enforces it already does not go back to observing because another point came.
func (p *Progress) behind(w *WaveState, release int, mode string) (out []string) {
	for _, x := range p.of(w) {
		if how := x.Runs().Mode(release); how == rollout.Off || mode == rollout.Enforce && how != rollout.Enforce {
			out = append(out, x.Name)
		}
	}
	return out
}

// stage notes how far the points are told to be with a release, and since when.
func (w *WaveState) stage(points []PointState, release int) {
	modes := map[string]int{}
	for _, p := range points {
		modes[p.Runs().Mode(release)]++
	}
	switch {
	case modes["enforce"] == len(points):
		w.Stage = "enforces"
	case modes["enforce"]+modes["observe"] == len(points):
		w.Stage = "observes"
	default:
		return
	}
	for _, p := range points {
		if p.Aimed != nil && (w.Since == nil || p.Aimed.After(*w.Since)) {
			w.Since = p.Aimed
		}
	}
}

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
	add("points", holding == len(points), true, "%d of its %s %s loaded release %d", holding, plural.Of(len(points), "point"), verb, r.No)
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
	add("asserts", holds == len(proofs.asserts), w.Asserts, "%d of %s hold", holds, plural.Of(len(proofs.asserts), "assertion"))
	expected := 0
	for i := range proofs.probes {
		if proofs.probes[i].AsExpected() {
			expected++
		}
	}
	if len(proofs.probes) > 0 {
		add("probes", expected == len(proofs.probes), w.Probes, "%d of %s as expected", expected, plural.Of(len(proofs.probes), "probe"))
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
		words = "nothing that runs today would be rejected"
	case asking == 0:
		words = plural.Of(all, "conversation") + " would be rejected, all settled as right"
	default:
		words = fmt.Sprintf("%s of today would be rejected, %d of them not settled", plural.Of(all, "conversation"), asking)
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
	machines, err := orders{a.Service}.access(ctx, v, m, r.No, guarded)
	if err != nil {
		return err
	}
	count := map[access.Source]int{}
	for _, x := range machines {
		count[x.Source]++
	}
	if shut := access.Shut(machines); len(shut) > 0 {
		add("wayBack", false, true, "nobody could administer %d of %s: on %s %s", len(shut), plural.Of(len(machines), "machine"),
			m.Estate.Workload(shut[0].Workload).Label(), shut[0].Words())
		return nil
	}
	var by []string
	for _, x := range []struct {
		from  access.Source
		words string
	}{{access.Asserted, "by an assertion"}, {access.Seen, "by administration that was seen"},
		{access.Anybody, "by somebody: nothing more is known"}} {
		if count[x.from] > 0 {
			by = append(by, fmt.Sprintf("%d %s", count[x.from], x.words))
		}
	}
	add("wayBack", true, w.WayBack, "all of %s can still be administered (%s)", plural.Of(len(machines), "machine"), strings.Join(by, ", "))
	return nil
}

// renewals counts the hosts whose DHCP renewals a release would reject at their own
// points: their addresses would expire.
func (a conditions) renewals(ctx context.Context, v *reach.View, m *model.Model, release int, points []PointState) (n int, err error) {
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

// serverWays says whether a release leaves points their way to the server, as far as
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
		if r := c.Decide(from, to, service.PointOf(service.TCP, uint32(way.To.Port()))); decide.VerdictOf(r) == decide.Reject {
			shut = append(shut, fmt.Sprintf("line %d rejects %s → %s on tcp/%d, by which %s asks it", r.Line, way.From, way.To.Addr(),
				way.To.Port(), p.Name))
		}
	}
	switch {
	case len(shut) > 0:
		return "the way to the server is shut: " + shut[0], false
	case ways > 0:
		return "the way to the server stays open for " + plural.Of(ways, "point"), true
	}
	return "", true
}

// spell says minutes.
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
func (a conditions) unsettled(ctx context.Context, v *reach.View, m *model.Model, release int, points []PointState) (asking, all int,
	err error) {
	list, err := a.Rejections(ctx, v, m, release, points)
	for _, x := range list {
		if !x.Settled {
			asking++
		}
	}
	return asking, len(list), err
}

// rejection is a conversation that runs today and that a release rejects.
type rejection struct {
	Index   int // in the view
	Client  int32
	Point   service.Point
	Settled bool
	Rule    *policy.Rule
	Points  []string // that would drop it
}

// Rejections gives those that some points would drop; in is the view of the release.
func (a *Service) Rejections(ctx context.Context, v *reach.View, m *model.Model, release int, points []PointState) ([]rejection,
	error) {
	r, err := states{a}.rejectedBy(ctx, v, m, release)
	if err != nil {
		return nil, err
	}
	accepted := r.in.Accepted(m.Acceptance())
	var out []rejection
	for _, i := range r.which {
		c := r.in.At(int(i))
		x := rejection{Index: int(i), Client: c.Client.Workload, Point: c.Point, Rule: c.Rule, Settled: accepted != nil && accepted[i]}
		for _, p := range points {
			_, server := slices.BinarySearch(p.guards, c.Server.Workload)
			_, client := slices.BinarySearch(p.guards, c.Client.Workload)
			if p.Side != "client" && server || p.Side != "server" && client {
				x.Points = append(x.Points, p.Name)
			}
		}
		if len(x.Points) > 0 {
			out = append(out, x)
		}
	}
	return out, nil
}

// Run lets waves that go on by themselves do so, until the App ends. Every server
// looks; what one has told already is not told again.
func (a *Service) Run(ctx context.Context) {
	tick := time.NewTicker(5 * time.Second)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if err := (roller{a}).endTrials(ctx); err != nil && ctx.Err() == nil {
			a.Log.Warn("trials of enforcement cannot be ended", "error", err)
		}
		if err := (roller{a}).nextByItself(ctx); err != nil && ctx.Err() == nil {
			a.Log.Warn("whether a wave may go on cannot be looked at", "error", err)
		}
	}
}

func (a roller) nextByItself(ctx context.Context) error {
	waves, err := a.Store.Waves(ctx)
	if err != nil || !slices.ContainsFunc(waves, func(w Wave) bool { return w.ByItself }) {
		return err
	}
	m, err := a.Model(ctx)
	if err != nil {
		return err
	}
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return err
	}
	p, err := a.Progress(ctx, v, m)
	if err != nil || p.Hold != nil || len(p.Releases) == 0 {
		return err
	}
	newest := p.Releases[0].No
	for i := range p.Waves {
		w := &p.Waves[i]
		switch {
		case w.Stage == "enforces":
			continue
		case w.Stage == "observes" && w.ByItself && len(w.Unmet()) == 0:
			return a.advance(ctx, p.behind(w, newest, rollout.Enforce), rollout.Command{Do: rollout.ToEnforce, Release: newest},
				"automatically: all conditions are met")
		case w.Stage == "not yet" && w.ByItself && i > 0 && p.Waves[i-1].Stage == "enforces":
			return a.advance(ctx, p.behind(w, newest, rollout.Observe), rollout.Command{Do: rollout.ToObserve, Release: newest},
				"automatically: the wave before it enforces")
		}
		return nil
	}
	return nil
}

// advance takes the next step of a roll-out at some points, unless somebody paused it
// meanwhile or did something else.
func (a roller) advance(ctx context.Context, names []string, c rollout.Command, why string) error {
	err := a.Store.Order(ctx, func(now Roll) (targets []Target, err error) {
		if err := paused(now.Hold); err != nil || now.Newest != c.Release {
			return nil, err
		}
		for i := range now.Points {
			p := &now.Points[i]
			if !slices.Contains(names, p.Name) {
				continue
			}
			t, err := target(p, c, why)
			if err != nil {
				return nil, err
			}
			if t.Enforces != p.Enforces || t.Observes != p.Observes {
				targets = append(targets, t)
			}
		}
		return targets, nil
	})
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}

// PutWave keeps what has to be true before a wave enforces.
func (a *Service) PutWave(ctx context.Context, w Wave) error {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(points, func(p Point) bool { return p.Wave == w.No }) {
		return refuse.Missing(fmt.Sprintf("wave %d has no points; nothing was changed. Add a point to it first", w.No))
	}
	if err := a.Store.PutWave(ctx, w, a.Author); err != nil {
		return err
	}
	a.Events.PointsChanged()
	return nil
}

// PutHold holds the roll-out for a reason, or lets it go on.
func (a *Service) PutHold(ctx context.Context, hold bool, reason string) error {
	var h *Hold
	if hold {
		h = &Hold{Author: a.Author, Reason: strings.TrimSpace(reason)}
	}
	if err := a.Store.PutHold(ctx, h); err != nil {
		return err
	}
	a.Events.PointsChanged()
	return nil
}

// Exempt keeps a workload from all points until a day.
func (a *Service) Exempt(ctx context.Context, m *model.Model, e model.Exemption) error {
	e.Reason, e.Owner, e.Author = strings.TrimSpace(e.Reason), strings.TrimSpace(e.Owner), a.Author
	_, ok := m.Estate.ByID(e.Workload)
	switch {
	case !ok:
		return refuse.Missing("there is no workload with the id " + e.Workload + "; nothing was changed")
	case e.Reason == "" || e.Owner == "":
		return refuse.Invalid("reason, owner: found nothing, expected why no point may touch it, and who answers for that")
	case !e.Ends.After(time.Now()):
		return refuse.Invalid("ends: found " + e.Ends.Format(time.DateOnly) + ", expected a day to come")
	case e.Ends.After(time.Now().AddDate(1, 0, 1)):
		return refuse.Invalid("ends: found " + e.Ends.Format(time.DateOnly) + ", expected at most a year from now: it can be renewed")
	}
	if err := a.Store.PutExemption(ctx, e); err != nil {
		return err
	}
	a.Events.PointsAimed()
	return nil
}

// EndExemption lets points guard a workload again.
func (a *Service) EndExemption(ctx context.Context, workload string) error {
	found, err := a.Store.DropExemption(ctx, workload)
	if err == nil && !found {
		err = refuse.Missing("the workload " + workload + " is not exempt")
	}
	if err == nil {
		a.Events.PointsAimed()
	}
	return err
}

// AddRejected adds the conversations that the newest release rejects at the points of a
// wave.
func (a *Service) AddRejected(ctx context.Context, m *model.Model, wave int, add func(reach.Talk)) error {
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return err
	}
	p, err := a.Progress(ctx, v, m)
	if err != nil || len(p.Releases) == 0 {
		return err
	}
	list, err := a.Rejections(ctx, v, m, p.Releases[0].No, p.of(&WaveState{Wave: Wave{No: wave}}))
	for _, x := range list {
		c := v.At(x.Index)
		add(reach.Talk{Client: c.Client.Addr, Server: c.Server.Addr, Point: c.Point})
	}
	return err
}
