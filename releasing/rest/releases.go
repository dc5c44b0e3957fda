package rest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/access"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/model"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/releasing"
	"lucidorchard/releasing/plans"
	"lucidorchard/server"
)

// releaseOut is a release with where it is held.
type releaseOut struct {
	releasing.Release
	Enforced int  `json:"enforced" doc:"Points that enforce it"`
	Observed int  `json:"observed" doc:"Points that observe it"`
	Same     bool `json:"same" doc:"The draft says the same"`
}

// RollOut is the releases, the points, and how far the newest release has come.
type RollOut struct {
	Releases []releaseOut           `json:"releases" doc:"Newest first"`
	Points   []releasing.PointState `json:"points" doc:"By wave and name"`
	InForce  int                    `json:"inForce" doc:"The newest release that a point enforces; 0: none is"`
	Coverage releasing.Coverage     `json:"coverage"`
	Before   before                 `json:"before"`
	Waves    []releasing.WaveState  `json:"waves"`
	Hold     *releasing.Hold        `json:"hold,omitempty" doc:"Somebody holds the roll-out"`
	Lately   point.Lately           `json:"lately" doc:"What the points counted in the last minute"`
	Dropped  int64                  `json:"dropped" doc:"Of those rejected: dropped, as their point enforces"`
}

// before is what to look at before a release is enforced.
type before struct {
	Asserts   int `json:"asserts"`
	Holding   int `json:"holding" doc:"Assertions that hold, of the draft"`
	Probes    int `json:"probes"`
	Expected  int `json:"expected" doc:"Probes that get the verdict that is expected, of the draft"`
	Uncovered int `json:"uncovered" doc:"Conversations of the window that the newest release leaves uncovered: they are carried"`
	Rejects   int `json:"rejects" doc:"Conversations of the window that run today and that the newest release rejects somewhere"`
}

// PointMade is a new point with its token, which is shown only once.
type PointMade struct {
	Name  string `json:"name"`
	Token string `json:"token"`
}

// planText is what a point is to hold, also as text.
type planText struct {
	point.Told
	Script string `json:"script" doc:"For nft -f; blank: nothing is to be held"`
}

// releasesAPI answers about releases and enforcement points.
type Releases struct {
	*answers.Desk
	*releasing.Service
}

func (s *Releases) Routes(r server.Routes) {
	server.Get(r, "read-roll-out", "/rollout", "The releases, the points, and what each holds", s.rollOut, server.CanBeMissing)
	server.Post(r, "release", "/releases", "Put the draft under a number; the points of the first wave observe it", s.release, server.Creates)
	server.Get(r, "preview-release", "/releases/preview", "How large the plans of the draft would be", s.preview)
	server.Post(r, "order-points", "/rollout/orders", "Order points to observe or enforce a release, to roll back, or to run none", s.order,
		server.CanBeMissing)
	server.Get(r, "list-wave-access", "/rollout/waves/{no}/access", "The machines of a wave, with who could still administer them", s.access,
		server.CanBeMissing)
	server.Get(r, "preview-guards", "/points/guarded", "The workloads that an expression would guard", s.guarded)
	server.Post(r, "rotate-point-token", "/points/{name}/token", "Replace a point's token; the former one is valid until the new one is used",
		s.rotate, server.Creates, server.CanBeMissing)
	server.Post(r, "let-point-follow", "/points/{name}/follow", "Let a point that took an order which this server lacks follow it", s.yield,
		server.CanBeMissing)
	server.Post(r, "add-point", "/points", "Make an enforcement point; its token is shown this once", s.addPoint, server.Creates)
	server.Remove(r, "drop-point", "/points/{name}", "Forget an enforcement point", s.dropPoint, server.CanBeMissing)
	server.Post(r, "tell-point-again", "/points/{name}/again", "Tell a point anew what it is to hold", s.again, server.CanBeMissing)
	server.Get(r, "read-point-history", "/points/{name}/history", "What happened at a point, newest first", s.history)
	server.Get(r, "list-wave-rejections", "/rollout/waves/{no}/rejected", "Conversations of today that the newest release rejects at "+
		"the points of a wave", s.rejections, server.CanBeMissing)
	server.Put(r, "set-wave", "/rollout/waves/{no}", "Set the conditions under which a wave enforces", s.putWave, server.CanBeMissing)
	server.Put(r, "hold-roll-out", "/rollout/hold", "Pause the roll-out, or resume it", s.hold)
	server.Get(r, "compare-releases", "/releases/{no}/difference", "What changes from one release to another", s.differences, server.CanBeMissing)
	server.Get(r, "list-exemptions", "/exemptions", "Workloads that no point guards, those that end first at the head", s.exemptions)
	server.Put(r, "exempt-workload", "/exemptions/{id}", "Keep all points from a workload until a day", s.exempt, server.CanBeMissing)
	server.Remove(r, "end-exemption", "/exemptions/{id}", "Let points guard a workload again", s.endExemption, server.CanBeMissing)
	server.Get(r, "list-guards", "/workloads/{id}/points", "The points that guard a workload, and what they hold", s.guards, server.CanBeMissing)
	server.Get(r, "read-point-plan", "/points/{name}/plan", "What a point is to hold, as text", s.pointPlan, server.CanBeMissing)
	server.Post(r, "compare-running", "/points/{name}/running", "Compare what a device holds, as somebody pasted it, with what it is to hold",
		s.running, server.CanBeMissing)
	server.Get(r, "fetch-device-file", server.PointPath+"/file", "For devices, with their token: what to hold, as a file", s.deviceFile, ofPoint,
		server.CanBeMissing, server.CanConflict, server.CanBeCached)
	server.Get(r, "fetch-device-group", server.PointPath+"/groups/{name}", "For devices, with their token: the members of a group, a prefix in "+
		"each line", s.deviceGroup, ofPoint, server.CanBeMissing, server.CanBeCached)
	server.Get(r, "read-told", server.PointPath+"/told", "For points, with their token: what to hold, as soon as it is another", s.told,
		ofPoint)
	server.Post(r, "say-seen", server.PointPath+"/seen", "For points, with their token: conversations that they rejected or left uncovered, "+
		"as IPFIX messages", s.seen, ofPoint)
	server.Post(r, "say-held", server.PointPath+"/said", "For points, with their token: what they hold", s.said, ofPoint)
}

func (s *Releases) rollOut(ctx context.Context, in *struct{ answers.Window }) (*server.Body[RollOut], error) {
	v, m, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, err := s.Progress(ctx, v, m)
	if err != nil {
		return nil, err
	}
	releases := p.Releases
	out := RollOut{Releases: []releaseOut{}, Points: p.Points, Coverage: p.Coverage, Waves: p.Waves, Hold: p.Hold}
	if out.Waves == nil {
		out.Waves = []releasing.WaveState{}
	}
	for _, p := range out.Points {
		if p.Held == nil || p.State == "silent" {
			continue
		}
		l := p.Held.Lately
		out.Lately.Seconds = max(out.Lately.Seconds, l.Seconds)
		out.Lately.Permit += l.Permit
		out.Lately.Reject += l.Reject
		out.Lately.Uncovered += l.Uncovered
		out.Lately.Reported += l.Reported
		if p.Held.Enforces != 0 {
			out.Dropped += l.Reject
		}
	}
	for _, r := range releases {
		o := releaseOut{Release: r, Same: m.SaysTheSame(r.No, r.Revision)}
		for _, p := range out.Points {
			if p.Held == nil {
				continue
			}
			switch p.Held.Runs().Mode(r.No) {
			case rollout.Enforce:
				o.Enforced++
			case rollout.Observe:
				o.Observed++
			}
		}
		if o.Enforced > 0 && out.InForce == 0 {
			out.InForce = r.No
		}
		out.Releases = append(out.Releases, o)
	}
	for _, a := range m.Asserts() {
		out.Before.Asserts++
		if a.Outcome.String() == "holds" {
			out.Before.Holding++
		}
	}
	for _, p := range m.Probes() {
		out.Before.Probes++
		if p.AsExpected() {
			out.Before.Expected++
		}
	}
	if len(releases) > 0 {
		compared, err := s.Models.View(ctx, m, v.From, v.To, releases[0].Revision)
		if err != nil {
			return nil, err
		}
		out.Before.Uncovered, out.Before.Rejects = releasing.LeftAndRejected(compared.Against)
	}
	return server.OK(out), nil
}

func (s *Releases) release(ctx context.Context, in *struct {
	Body struct {
		Revision int    `json:"revision" doc:"Of the draft that was looked at"`
		Title    string `json:"title" minLength:"1" maxLength:"200"`
		Instead  bool   `json:"instead,omitempty" doc:"It takes the place of a release that is still being rolled out"`
	}
}) (*server.Made[releasing.Release], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.Release(ctx, m, in.Body.Revision, strings.TrimSpace(in.Body.Title), in.Body.Instead)
	if err != nil {
		return nil, err
	}
	return &server.Made[releasing.Release]{Location: server.Version + "/rollout", Body: r}, nil
}

// order carries out an order to points, whole.
func (s *Releases) order(ctx context.Context, in *struct{ Body releasing.Order }) (*server.Body[[]releasing.Ordered], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return nil, err
	}
	out, err := s.Order(ctx, v, m, in.Body)
	return server.OK(out), err
}

// MachineAccess is a guarded machine with what is known of its administration.
type MachineAccess struct {
	ID     string        `json:"id"`
	Name   string        `json:"name"`
	Source access.Source `json:"source" enum:"assertion,seen,anybody" doc:"From where it is known who administers it; anybody: nothing is known but the policy"`
	Open   bool          `json:"open" doc:"Somebody who administers it would still get in"`
	Words  string        `json:"words"`
}

// access lists the machines of a wave with who could still administer them.
func (s *Releases) access(ctx context.Context, in *struct {
	answers.Window
	server.All
	Wave int `path:"no"`
}) (*server.List[MachineAccess], error) {
	v, m, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, points, err := s.wave(ctx, v, m, in.Wave)
	if err != nil {
		return nil, err
	}
	list, err := s.Access(ctx, v, m, p.Releases[0].No, points)
	if err != nil {
		return nil, err
	}
	out := []MachineAccess{}
	for i := range list {
		w := m.Estate.Workload(list[i].Workload)
		out = append(out, MachineAccess{w.ID, w.Label(), list[i].Source, list[i].Open, list[i].Words()})
	}
	return server.Cut(ctx, out, in.All), nil
}

// wave returns the points of a wave, with how far the newest release has come.
func (s *Releases) wave(ctx context.Context, v *reach.View, m *model.Model, no int) (*releasing.Progress, []releasing.PointState, error) {
	p, err := s.Progress(ctx, v, m)
	if err != nil {
		return nil, nil, err
	}
	var points []releasing.PointState
	for _, x := range p.Points {
		if x.Wave == no {
			points = append(points, x)
		}
	}
	if len(points) == 0 || len(p.Releases) == 0 {
		return nil, nil, refuse.Missing(fmt.Sprintf("wave %d has no points, or nothing was released", no))
	}
	return p, points, nil
}

// Guarded is how many workloads an expression would guard.
type Guarded struct {
	Workloads int      `json:"workloads"`
	Undecided int      `json:"undecided" doc:"A tag is missing: they would not be guarded"`
	Some      []string `json:"some" doc:"Names of the first of them"`
}

// guarded previews what a point with an expression would guard.
func (s *Releases) guarded(ctx context.Context, in *struct {
	Guards string `query:"guards" required:"true" minLength:"1" doc:"An expression"`
}) (*server.Body[Guarded], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	g, err := s.Guards(ctx, m, in.Guards)
	if err != nil {
		return nil, err
	}
	out := Guarded{len(g.In), len(g.Undecided), []string{}}
	for _, w := range g.In[:min(5, len(g.In))] {
		out.Some = append(out.Some, m.Estate.Workload(w).Label())
	}
	return server.OK(out), nil
}

// Preview is what a release of the draft would come to at the points.
type Preview struct {
	Largest string `json:"largest,omitempty" doc:"The point with the largest plan; none: there is no point"`
	plans.Size
}

// preview says how large the plans of the draft would be.
func (s *Releases) preview(ctx context.Context, _ *struct{}) (*server.Body[Preview], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	name, size, err := s.LargestPlan(ctx, m)
	return server.OK(Preview{name, size}), err
}

// rotate gives a point another token.
func (s *Releases) rotate(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*server.Made[PointMade], error) {
	token, err := s.RotateToken(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return &server.Made[PointMade]{Location: server.Version + "/points/" + in.Name, Body: PointMade{in.Name, token}}, nil
}

// yield lets a point that is ahead of this server follow it.
func (s *Releases) yield(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*struct{}, error) {
	return nil, s.Yield(ctx, in.Name)
}

// RejectionOut is a conversation that runs today and that a release rejects.
type RejectionOut struct {
	answers.ConversationOut
	Line     int      `json:"line" doc:"In the release, of the rule that rejects it"`
	Sentence string   `json:"sentence" doc:"Of that rule"`
	Settled  bool     `json:"settled" doc:"A probe says that this is right"`
	Points   []string `json:"points" doc:"That would drop it"`
}

func (s *Releases) rejections(ctx context.Context, in *struct {
	answers.Window
	server.All
	Wave int `path:"no"`
}) (*server.List[RejectionOut], error) {
	v, m, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	p, points, err := s.wave(ctx, v, m, in.Wave)
	if err != nil {
		return nil, err
	}
	compared, err := s.Models.View(ctx, m, v.From, v.To, p.Releases[0].Revision)
	if err != nil {
		return nil, err
	}
	list, err := s.Rejections(ctx, v, m, p.Releases[0].No, points)
	if err != nil {
		return nil, err
	}
	out := []RejectionOut{}
	for _, x := range list {
		out = append(out, RejectionOut{answers.NewConversationOut(compared, x.Index), x.Rule.Line, x.Rule.Sentence(), x.Settled, x.Points})
	}
	slices.SortStableFunc(out, func(a, b RejectionOut) int { // what asks comes first
		switch {
		case a.Settled == b.Settled:
			return 0
		case a.Settled:
			return 1
		}
		return -1
	})
	return server.Cut(ctx, out, in.All), nil
}

func (s *Releases) putWave(ctx context.Context, in *struct {
	No   int `path:"no" minimum:"1" maximum:"1000"`
	Body struct {
		Title    string `json:"title,omitempty" maxLength:"80"`
		Minutes  int    `json:"minutes,omitempty" minimum:"0" maximum:"525600" doc:"How long it observes at least"`
		Asserts  bool   `json:"asserts" doc:"Assertions have to hold"`
		Probes   bool   `json:"probes" doc:"Probes have to get the verdict that is expected"`
		WayBack  bool   `json:"wayBack" doc:"The way back has to stay open"`
		Settled  bool   `json:"settled" doc:"What would be rejected has to be settled as right"`
		ByItself bool   `json:"byItself,omitempty" doc:"It goes on as soon as all that is so"`
	}
}) (*struct{}, error) {
	b := in.Body
	return nil, s.PutWave(ctx, releasing.Wave{No: in.No, Title: strings.TrimSpace(b.Title), Minutes: b.Minutes, Asserts: b.Asserts,
		Probes: b.Probes, WayBack: b.WayBack, Settled: b.Settled, ByItself: b.ByItself})
}

func (s *Releases) hold(ctx context.Context, in *struct {
	Body struct {
		Hold   bool   `json:"hold" doc:"false: it goes on"`
		Reason string `json:"reason,omitempty" maxLength:"500"`
	}
}) (*struct{}, error) {
	return nil, s.PutHold(ctx, in.Body.Hold, in.Body.Reason)
}

// ExemptionOut is an exemption with what the workload is called.
type ExemptionOut struct {
	model.Exemption
	Name string `json:"name"`
	Over bool   `json:"over" doc:"Its day has come: points guard the workload again"`
}

func (s *Releases) exemptions(ctx context.Context, in *struct{ server.All }) (*server.List[ExemptionOut], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	list, err := s.Exemptions(ctx)
	if err != nil {
		return nil, err
	}
	out := []ExemptionOut{}
	for _, e := range list {
		x := ExemptionOut{Exemption: e, Name: e.Workload, Over: !e.Ends.After(time.Now())}
		if w, ok := m.Estate.ByID(e.Workload); ok {
			x.Name = m.Estate.Workload(w).Label()
		}
		out = append(out, x)
	}
	return server.Cut(ctx, out, in.All), nil
}

func (s *Releases) exempt(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body struct {
		Reason string    `json:"reason" minLength:"1" maxLength:"500"`
		Owner  string    `json:"owner" minLength:"1" maxLength:"200" doc:"Who answers for it"`
		Ends   time.Time `json:"ends" doc:"From when on points guard it again"`
	}
}) (*struct{}, error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return nil, s.Exempt(ctx, m, model.Exemption{Workload: in.ID, Reason: in.Body.Reason, Owner: in.Body.Owner,
		Ends: in.Body.Ends})
}

func (s *Releases) endExemption(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*struct{}, error) {
	return nil, s.EndExemption(ctx, in.ID)
}

// differences compares any two releases: what each conversation of the window is in the
// one and in the other.
func (s *Releases) differences(ctx context.Context, in *struct {
	answers.Window
	No      int `path:"no"`
	Against int `query:"against" required:"true" doc:"The number of the other, earlier one"`
}) (*server.Body[ReleaseDifference], error) {
	v, m, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	newer, err := s.ReleaseOf(ctx, in.No)
	if err != nil {
		return nil, err
	}
	older, err := s.ReleaseOf(ctx, in.Against)
	if err != nil {
		return nil, err
	}
	views := [2]*reach.View{}
	for i, no := range []int{older.No, newer.No} {
		if views[i], err = s.UnderRelease(ctx, v, m, no); err != nil {
			return nil, err
		}
	}
	out := ReleaseDifference{Older: older, Newer: newer, Counts: map[string]map[string]int{}}
	for i := range v.Len() {
		was, is := views[0].Verdict(i).String(), views[1].Verdict(i).String()
		if out.Counts[was] == nil {
			out.Counts[was] = map[string]int{}
		}
		out.Counts[was][is]++
		if was != is {
			out.Changed++
		}
	}
	return server.OK(out), nil
}

// ReleaseDifference is what changes from one release to another.
type ReleaseDifference struct {
	Older   releasing.Release         `json:"older"`
	Newer   releasing.Release         `json:"newer"`
	Counts  map[string]map[string]int `json:"counts" doc:"Conversations of the window, by their verdict in the older and in the newer"`
	Changed int                       `json:"changed"`
}

func (s *Releases) addPoint(ctx context.Context, in *struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"80"`
		Kind     string `json:"kind" enum:"host,gate,file"`
		Side     string `json:"side,omitempty" enum:"server,client,both" default:"both"`
		Guards   string `json:"guards" minLength:"1" doc:"An expression: which workloads it guards"`
		Wave     int    `json:"wave,omitempty" minimum:"1" maximum:"1000" default:"1"`
		PutsBack bool   `json:"putsBack,omitempty" doc:"Whether it restores what is changed by hand"`
		Paired   bool   `json:"paired,omitempty" doc:"Another gate guards the same workloads and sees part of their packets"`
	}
}) (*server.Made[PointMade], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	b := in.Body
	p := releasing.Point{Name: b.Name, Kind: b.Kind, Side: b.Side, Guards: b.Guards, Wave: b.Wave, PutsBack: b.PutsBack, Paired: b.Paired}
	token, err := s.AddPoint(ctx, m, p)
	if err != nil {
		return nil, err
	}
	return &server.Made[PointMade]{Location: server.Version + "/points/" + b.Name, Body: PointMade{b.Name, token}}, nil
}

func (s *Releases) dropPoint(ctx context.Context, in *struct {
	Name   string `path:"name"`
	Anyway bool   `query:"anyway" doc:"Also if it enforces a release, which it goes on doing"`
}) (*struct{}, error) {
	return nil, s.DropPoint(ctx, in.Name, in.Anyway)
}

func (s *Releases) again(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*struct{}, error) {
	return nil, s.TellAgain(ctx, in.Name)
}

func (s *Releases) history(ctx context.Context, in *struct {
	Name string `path:"name"`
	server.All
}) (*server.List[releasing.PointEvent], error) {
	out, err := s.PointHistory(ctx, in.Name, 10_000)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, out, in.All), nil
}

func (s *Releases) guards(ctx context.Context, in *struct {
	answers.Window
	server.All
	ID string `path:"id"`
}) (*server.List[releasing.PointState], error) {
	v, m, err := s.View(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	w, ok := m.Estate.ByID(in.ID)
	if !ok {
		return nil, refuse.Missing("there is no workload with the id " + in.ID)
	}
	out, err := s.GuardedBy(ctx, v, m, w)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, out, in.All), nil
}

func (s *Releases) pointPlan(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*server.Body[planText], error) {
	t, err := s.toldTo(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	out := planText{Told: *t}
	if l := t.Loaded(); !l.Nothing() {
		var script strings.Builder
		if err := nft.WriteLoaded(&script, l, nft.Options{Paired: t.Paired}); err != nil {
			return nil, err
		}
		out.Script = script.String()
	}
	return server.OK(out), nil
}

// toldTo gives all of what a point is to hold now.
func (s *Releases) toldTo(ctx context.Context, name string) (*point.Told, error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return s.ToldTo(ctx, m, name)
}

// ofPoint is an operation that a point asks for with its token.
func ofPoint(o *huma.Operation) {
	server.NeedsToken(o)
	o.Errors = append(o.Errors, http.StatusGone, http.StatusUpgradeRequired)
}

func noPoint() error {
	return huma.Error401Unauthorized("found a token of no enforcement point; make one in the view Release")
}

// asking gives the point that asks, by its token.
func (s *Releases) asking(ctx context.Context) (*releasing.Point, error) {
	token := server.PointToken(ctx)
	p, err := s.PointOf(ctx, token)
	if err != nil {
		return nil, err
	}
	if p != nil {
		return p, nil
	}
	former, err := s.FormerPointOf(ctx, token)
	if err != nil {
		return nil, err
	}
	if former != "" {
		return nil, huma.Error410Gone(former + " was deleted from this server; what it has loaded stays loaded. Stop the agent, and delete " +
			"its table if the machine is to be open")
	}
	return nil, noPoint()
}

// toldPatience is about how long a point's question stays open: they do not all end at once.
const toldPatience = 25 * time.Second

func (s *Releases) told(ctx context.Context, in *struct {
	Run  string `header:"Orchard-Run" doc:"Names the run of the agent"`
	Have string `query:"have" doc:"The id of what is held: the answer comes as soon as it is another, or after 25 s"`
}) (*server.Body[point.Told], error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	if in.Run == "" { // an agent of before would take what it does not understand for nothing, and open the machine
		return nil, huma.NewError(http.StatusUpgradeRequired, "the agent of "+p.Name+" is older than this server: it keeps what it has "+
			"loaded until it is upgraded")
	}
	t, err := s.AwaitTold(ctx, p.Name, in.Have, toldPatience-rand.N(toldPatience/3))
	if err != nil {
		return nil, err
	}
	if t == nil {
		return nil, noPoint()
	}
	return server.OK(*t), nil
}

func (s *Releases) seen(ctx context.Context, in *struct {
	RawBody []byte `contentType:"application/octet-stream"`
}) (*struct{}, error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	return nil, s.Seen(p, in.RawBody)
}

func (s *Releases) said(ctx context.Context, in *struct{ Body point.Said }) (*struct{}, error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	in.Body.Way = server.WayOf(ctx)
	if in.Body.Run != "" {
		from, _ := ctx.Value(server.CallerKey{}).(string)
		if host, _, err := net.SplitHostPort(from); err == nil {
			from = host
		}
		if err := s.ReportedBy(ctx, p.Name, in.Body.Run, from); err != nil {
			return nil, err
		}
	}
	return nil, s.Heard(ctx, p, in.Body)
}
