package app

// Releases and enforcement points: what each is to hold, and what it holds.

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/store"
)

// silentAfter is how long a point may be quiet before it is shown as silent.
const silentAfter = 20 * time.Second

// PointState is an enforcement point with what it holds.
type PointState struct {
	store.Point
	Workloads int         `json:"workloads" doc:"That it guards now"`
	Undecided int         `json:"undecided" doc:"Workloads that its expression cannot tell: they are not guarded"`
	Problem   string      `json:"problem,omitempty" doc:"Why nothing can be told it"`
	Held      *point.Said `json:"held,omitempty" doc:"What it said last that it holds"`
	State     string      `json:"state" enum:"new,waiting,holds,refused,drifted,went back,silent" doc:"new: never heard of; waiting: it does not hold yet what it is to hold"`
	Rejects   int         `json:"rejects" doc:"Conversations of the window that run today, and that the release which it is to hold rejects"`
}

// planner keeps the plans of points, for one state of the estate and each release.
type planner struct {
	mu     sync.Mutex
	estate *estate.Estate
	asOf   int64 // minutes
	of     map[int]*releasePlans
}

type releasePlans struct {
	revision int
	compiled *decide.Compiled
	planner  *plan.Planner
	told     map[string]*point.Told // by kind, side, mode and guards
	guards   map[string]plan.Guards // by expression
	rejected []int32                // conversations of in that run today and that it rejects
	in       *reach.View
}

// guardsOf gives what an expression guards. Those of all points are asked at once.
func (a *App) guardsOf(ctx context.Context, of *releasePlans, text string) (plan.Guards, error) {
	if g, ok := of.guards[text]; ok {
		return g, nil
	}
	points, err := a.Store.Points(ctx)
	if err != nil {
		return plan.Guards{}, err
	}
	texts := []string{text}
	for _, p := range points {
		texts = append(texts, p.Guards)
	}
	var asked []string
	var all []*expr.Expr
	for _, t := range texts {
		e, errs := expr.ParseText(t)
		if len(errs) > 0 {
			if t == text {
				return plan.Guards{}, Invalid(fmt.Sprintf("guards: column %d: %s", errs[0].Col, errs[0].Message))
			}
			continue
		}
		if unknown := unknownGroup(of.compiled, e); unknown != "" {
			if t == text {
				return plan.Guards{}, Invalid("guards: the policy has no group " + unknown)
			}
			continue
		}
		asked, all = append(asked, t), append(all, e)
	}
	for i, g := range plan.Guarded(of.compiled, all) {
		of.guards[asked[i]] = g
	}
	return of.guards[text], nil
}

func unknownGroup(c *decide.Compiled, e *expr.Expr) (name string) {
	e.Walk(func(x *expr.Expr) {
		if x.Op == expr.MemberOf && c.Policy.Groups[x.Group] == nil {
			name = x.Group
		}
	})
	return name
}

// plans gives those of a release for the estate as it is.
func (a *App) plans(ctx context.Context, m *model.Model, release int) (*releasePlans, error) {
	p := &a.planner
	if now := time.Now().Unix() / 60; p.estate != m.Estate || p.asOf != now {
		p.estate, p.asOf, p.of = m.Estate, now, map[int]*releasePlans{}
	}
	if have := p.of[release]; have != nil && (release != 0 || have.compiled == m.Compiled) {
		return have, nil
	}
	if release == 0 { // what is held nowhere is looked at by the draft
		p.of[0] = &releasePlans{compiled: m.Compiled, guards: map[string]plan.Guards{}}
		return p.of[0], nil
	}
	releases, err := a.Store.Releases(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(releases, func(r store.Release) bool { return r.No == release })
	if i < 0 {
		return nil, Missing(fmt.Sprintf("there is no release %d", release))
	}
	text, err := a.RevisionPolicy(ctx, releases[i].Revision)
	if err != nil {
		return nil, err
	}
	c := m.Compiled.WithPolicy(text, estate.InstantOf(time.Now())).After
	have := &releasePlans{revision: releases[i].Revision, compiled: c, planner: plan.NewPlanner(c), told: map[string]*point.Told{},
		guards: map[string]plan.Guards{}}
	p.of[release] = have
	return have, nil
}

// ToldTo gives what a point is to hold now.
func (a *App) ToldTo(ctx context.Context, m *model.Model, p *store.Point) (*point.Told, error) {
	t, err := a.toldTo(ctx, m, p)
	if err != nil {
		return nil, err
	}
	told := *t
	told.PutsBack, told.Again = p.PutsBack, p.Again
	if p.Again > 0 {
		told.ID = fmt.Sprintf("%s-%d", t.ID, p.Again)
	}
	return &told, nil
}

func (a *App) toldTo(ctx context.Context, m *model.Model, p *store.Point) (*point.Told, error) {
	if p.Release == nil {
		return &point.Nothing, nil
	}
	a.planner.mu.Lock()
	defer a.planner.mu.Unlock()
	of, err := a.plans(ctx, m, *p.Release)
	if err != nil {
		return nil, err
	}
	key := strings.Join([]string{p.Kind, p.Side, p.Mode, p.Guards}, "\x00")
	if t := of.told[key]; t != nil {
		return t, nil
	}
	g, err := a.guardsOf(ctx, of, p.Guards)
	if err != nil {
		return nil, err
	}
	made := of.planner.Plan(g.In, plan.Kind(p.Kind), plan.Side(p.Side))
	var script strings.Builder
	if err := nft.Write(&script, made, nft.Options{Observe: p.Mode == "observe"}); err != nil {
		return nil, err
	}
	sum := sha256.Sum256([]byte(fmt.Sprint(*p.Release, p.Mode, script.String())))
	t := &point.Told{ID: hex.EncodeToString(sum[:12]), Release: *p.Release, Mode: p.Mode, Rules: made.RulesHash(),
		Script: script.String()}
	of.told[key] = t
	return t, nil
}

// Release puts a revision in force under the next number: the points of the first
// wave hold it at once, observing.
func (a *App) Release(ctx context.Context, m *model.Model, revision int, title string) (store.Release, error) {
	if revision != m.Head.No {
		return store.Release{}, Moved(fmt.Sprintf("the draft is revision %d by now, and was %d when it was looked at; "+
			"nothing was released. Look at what it changes again", m.Head.No, revision))
	}
	releases, err := a.Store.Releases(ctx)
	if err != nil {
		return store.Release{}, err
	}
	if len(releases) > 0 && releases[0].Revision == revision {
		return store.Release{}, Conflict(fmt.Sprintf("the draft is what release %d says; there is nothing to release",
			releases[0].No))
	}
	points, err := a.Store.Points(ctx)
	if err != nil {
		return store.Release{}, err
	}
	if len(releases) > 0 {
		newest := releases[0].No
		on := func(p store.Point) bool { return p.Release != nil && *p.Release == newest }
		if slices.ContainsFunc(points, on) && slices.ContainsFunc(points, func(p store.Point) bool { return !on(p) }) {
			return store.Release{}, Conflict(fmt.Sprintf("release %d is still being rolled out: let it arrive at all points, "+
				"or go back, before another one begins", newest))
		}
	}
	var first []string
	for _, p := range points { // by wave
		if p.Wave == points[0].Wave {
			first = append(first, p.Name)
		}
	}
	next := store.Release{No: 1, Revision: revision, Title: title, Author: a.Author}
	if len(releases) > 0 {
		next.No = releases[0].No + 1
	}
	r, err := a.Store.AddRelease(ctx, next, store.Target{Points: first, Release: &next.No, Mode: "observe",
		Words: fmt.Sprintf("to observe release %d", next.No)})
	if errors.Is(err, store.ErrMoved) {
		return r, Moved(fmt.Sprintf("somebody made release %d in this very moment; nothing was released. Look at what it "+
			"has", next.No))
	}
	if err == nil {
		a.Events.PointsChanged()
	}
	return r, err
}

// Aiming says what points are to hold.
type Aiming struct {
	Points  []string `json:"points" minItems:"1" doc:"Their names"`
	Release int      `json:"release" minimum:"0" doc:"0: nothing"`
	Mode    string   `json:"mode" enum:"off,observe,enforce"`
}

// Aim tells points to hold a release in a mode. Those that never observed a release
// do not enforce it at once.
func (a *App) Aim(ctx context.Context, in Aiming) error {
	if (in.Release == 0) != (in.Mode == "off") {
		return Invalid("mode: off goes with release 0, and only with it; nothing was changed")
	}
	points, err := a.Store.Points(ctx)
	if err != nil {
		return err
	}
	releases, err := a.Store.Releases(ctx)
	if err != nil {
		return err
	}
	if in.Release != 0 && !slices.ContainsFunc(releases, func(r store.Release) bool { return r.No == in.Release }) {
		return Missing(fmt.Sprintf("there is no release %d; nothing was changed", in.Release))
	}
	for _, name := range in.Points {
		i := slices.IndexFunc(points, func(p store.Point) bool { return p.Name == name })
		if i < 0 {
			return Missing("there is no point " + name + "; nothing was changed")
		}
		newest := len(releases) > 0 && in.Release == releases[0].No
		if p := points[i]; in.Mode == "enforce" && newest && (p.Release == nil || *p.Release != in.Release) {
			return Conflict(fmt.Sprintf("%s has not observed release %d yet; nothing was changed. Let it observe first", name,
				in.Release))
		}
	}
	t := store.Target{Points: in.Points, Mode: in.Mode, Words: "to hold nothing"}
	if in.Release != 0 {
		t.Release, t.Words = &in.Release, fmt.Sprintf("to %s release %d", in.Mode, in.Release)
	}
	if err := a.Store.Aim(ctx, t); err != nil {
		return err
	}
	a.Events.PointsChanged()
	return nil
}

// TellAgain tells a point anew what it is to hold: what was changed by hand is put
// back, what was refused is tried again.
func (a *App) TellAgain(ctx context.Context, name string) error {
	found, err := a.Store.TellAgain(ctx, name, "to hold it once more")
	if err == nil && !found {
		err = Missing("there is no point " + name)
	}
	if err == nil {
		a.Events.PointsChanged()
	}
	return err
}

// AddPoint makes a point, and gives the token by which it names itself, which is
// kept nowhere.
func (a *App) AddPoint(ctx context.Context, m *model.Model, p store.Point) (token string, err error) {
	if p.Name = strings.TrimSpace(p.Name); p.Name == "" || strings.ContainsAny(p.Name, "/?#\x00") {
		return "", Invalid("name: found " + fmt.Sprintf("%q", p.Name) + ", expected a name without / ? #")
	}
	a.planner.mu.Lock()
	defer a.planner.mu.Unlock()
	draft, err := a.plans(ctx, m, 0)
	if err != nil {
		return "", err
	}
	mine, err := a.guardsOf(ctx, draft, p.Guards)
	if err != nil {
		return "", err
	}
	if len(mine.In) == 0 {
		return "", Invalid("guards: “" + p.Guards + "” guards nobody; nothing was made. Look which workloads have such tags")
	}
	points, err := a.Store.Points(ctx)
	if err != nil {
		return "", err
	}
	for _, other := range points {
		theirs := draft.guards[other.Guards].In // of one that cannot be read, nobody: it says so itself
		for _, w := range mine.In {
			if _, both := slices.BinarySearch(theirs, w); both && other.Kind == p.Kind && sidesMeet(other.Side, p.Side) {
				return "", Conflict(fmt.Sprintf("%s is guarded by %s already, on the same side; nothing was made. Let one "+
					"%s guard it", m.Estate.Workload(w).Label(), other.Name, p.Kind))
			}
		}
	}
	token, p.Author = rand.Text(), a.Author
	if err := a.Store.AddPoint(ctx, p, token); errors.Is(err, store.ErrTaken) {
		return "", Conflict("there is a point " + p.Name + " already; nothing was made. Choose another name")
	} else if err != nil {
		return "", err
	}
	a.Events.PointsChanged()
	return token, nil
}

func sidesMeet(a, b string) bool { return a == b || a == "both" || b == "both" }

// DropPoint forgets a point.
func (a *App) DropPoint(ctx context.Context, name string) error {
	found, err := a.Store.DropPoint(ctx, name)
	if err == nil && !found {
		err = Missing("there is no point " + name)
	}
	if err == nil {
		a.Events.PointsChanged()
	}
	return err
}

// Heard keeps what a point says.
func (a *App) Heard(ctx context.Context, p *store.Point, said point.Said) error {
	events := make([]store.PointEvent, len(said.Events))
	for i, e := range said.Events {
		events[i] = store.PointEvent{Point: p.Name, At: e.At, What: e.What, Words: e.Words}
	}
	said.Events = nil
	raw, err := json.Marshal(said)
	if err != nil {
		return err
	}
	if err := a.Store.Heard(ctx, p.Name, raw, events); err != nil {
		return err
	}
	if string(raw) != string(p.Said) {
		a.Events.PointsChanged()
	}
	return nil
}

// Points gives all points with what they hold, and how the estate is guarded.
func (a *App) Points(ctx context.Context, v *reach.View, m *model.Model) ([]PointState, Coverage, error) {
	points, err := a.Store.Points(ctx)
	if err != nil {
		return nil, Coverage{}, err
	}
	out := make([]PointState, len(points))
	cover := newCoverage(m)
	for i, p := range points {
		if out[i], err = a.pointState(ctx, v, m, p, cover); err != nil {
			return nil, Coverage{}, err
		}
	}
	return out, cover.sum(), nil
}

func (a *App) pointState(ctx context.Context, v *reach.View, m *model.Model, p store.Point,
	cover *coverage) (PointState, error) {
	out := PointState{Point: p, State: "new"}
	if p.Said != nil {
		out.Held = &point.Said{}
		if err := json.Unmarshal(p.Said, out.Held); err != nil {
			return out, fmt.Errorf("what %s said cannot be read: %w", p.Name, err)
		}
	}
	told, err := a.ToldTo(ctx, m, &p)
	var known *Problem
	if errors.As(err, &known) {
		out.Problem = known.Detail
	} else if err != nil {
		return out, err
	}
	switch {
	case p.Heard == nil:
	case time.Since(*p.Heard) > silentAfter:
		out.State = "silent"
	case out.Held.State != "holds":
		out.State = out.Held.State
	case told != nil && told.ID == out.Held.ID, p.Release == nil && out.Held.ID == "":
		out.State = "holds"
	default:
		out.State = "waiting"
	}
	release := 0
	if p.Release != nil {
		release = *p.Release
	}
	a.planner.mu.Lock()
	defer a.planner.mu.Unlock()
	of, err := a.plans(ctx, m, release)
	if err != nil {
		return out, err
	}
	g, err := a.guardsOf(ctx, of, p.Guards)
	if errors.As(err, &known) {
		out.Problem = known.Detail
		return out, nil
	}
	if err != nil {
		return out, err
	}
	out.Workloads, out.Undecided = len(g.In), len(g.Undecided)
	cover.add(g.In, p)
	if release != 0 {
		if err := a.rejectedBy(ctx, v, m, of); err != nil {
			return out, err
		}
		out.Rejects = rejectedAt(of, g.In, p.Side)
	}
	return out, nil
}

// GuardedBy gives the points that guard a workload.
func (a *App) GuardedBy(ctx context.Context, v *reach.View, m *model.Model, workload int32) ([]PointState, error) {
	all, _, err := a.Points(ctx, v, m)
	if err != nil {
		return nil, err
	}
	a.planner.mu.Lock()
	defer a.planner.mu.Unlock()
	out := []PointState{}
	for _, p := range all {
		release := 0
		if p.Release != nil {
			release = *p.Release
		}
		of, err := a.plans(ctx, m, release)
		if err != nil {
			return nil, err
		}
		if _, in := slices.BinarySearch(of.guards[p.Guards].In, workload); in {
			out = append(out, p)
		}
	}
	return out, nil
}

// rejectedBy finds the conversations that run today and that a release rejects.
func (a *App) rejectedBy(ctx context.Context, v *reach.View, m *model.Model, of *releasePlans) error {
	compared, err := a.View(ctx, m, v.From, v.To, of.revision)
	if err != nil || of.in == compared.Against {
		return err
	}
	of.in, of.rejected = compared.Against, nil
	for i := range of.in.Len() {
		if c := of.in.At(i); c.Leak() {
			of.rejected = append(of.rejected, int32(i))
		}
	}
	return nil
}

// rejectedAt counts those of which an end is guarded on a side that is policed.
func rejectedAt(of *releasePlans, which []int32, side string) (n int) {
	guarded := func(w int32) bool {
		_, in := slices.BinarySearch(which, w)
		return in
	}
	for _, i := range of.rejected {
		c := of.in.At(int(i))
		if side != "client" && guarded(c.Server.Workload) || side != "server" && guarded(c.Client.Workload) {
			n++
		}
	}
	return n
}

// Coverage is how many workloads are guarded.
type Coverage struct {
	Both   int `json:"both" doc:"Workloads guarded where they are called and where they call"`
	Server int `json:"server" doc:"Only where they are called"`
	Client int `json:"client" doc:"Only where they call"`
	None   int `json:"none" doc:"By no point"`
}

type coverage struct {
	m              *model.Model
	server, client map[int32]bool
}

func newCoverage(m *model.Model) *coverage {
	return &coverage{m, map[int32]bool{}, map[int32]bool{}}
}

func (c *coverage) add(which []int32, p store.Point) {
	for _, w := range which {
		c.server[w] = c.server[w] || p.Side != "client"
		c.client[w] = c.client[w] || p.Side != "server"
	}
}

func (c *coverage) sum() (out Coverage) {
	for i, w := range c.m.Estate.All() {
		switch s, l := c.server[i], c.client[i]; {
		case !w.Retired.IsZero():
		case s && l:
			out.Both++
		case s:
			out.Server++
		case l:
			out.Client++
		default:
			out.None++
		}
	}
	return out
}

// LeftAndRejected counts the conversations that a view's policy leaves uncovered, and
// those that run today and that it rejects.
func LeftAndRejected(v *reach.View) (uncovered, rejected int) {
	for i := range v.Len() {
		switch c := v.At(i); {
		case c.Verdict == decide.Uncovered:
			uncovered++
		case c.Leak():
			rejected++
		}
	}
	return uncovered, rejected
}
