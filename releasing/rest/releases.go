package rest

import (
	"context"
	"strings"

	"lucidorchard/answers"
	"lucidorchard/core/reach"
	"lucidorchard/core/rollout"
	"lucidorchard/point"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// releaseOut is a release with where it is held.
type releaseOut struct {
	Release
	Enforced int  `json:"enforced" doc:"Points that enforce it"`
	Observed int  `json:"observed" doc:"Points that observe it"`
	Same     bool `json:"same" doc:"The draft has the same text"`
}

// RollOut is the releases, the points, and how far the newest release has come.
type RollOut struct {
	Releases []releaseOut `json:"releases" doc:"Newest first"`
	Points   []PointState `json:"points" doc:"By wave and name"`
	InForce  int          `json:"inForce" doc:"The newest release that a point enforces; 0: none is"`
	Coverage Coverage     `json:"coverage"`
	Before   before       `json:"before"`
	Waves    []WaveState  `json:"waves"`
	Hold     *Hold        `json:"hold,omitempty" doc:"Somebody has paused the roll-out"`
	Lately   point.Lately `json:"lately" doc:"What the points counted in the last minute"`
	Dropped  int64        `json:"dropped" doc:"Of those rejected: dropped, as their point enforces"`
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

// Releases answers about releases and enforcement points.
type Releases struct {
	*answers.Desk
	*releasing.Service
}

func (s *Releases) Routes(r server.Routes) {
	server.Get(r, "read-roll-out", "/rollout", "The releases, the points, and what each runs", s.rollOut,
		server.CanBeMissing)
	server.Post(r, "release", "/releases", "Release the draft; the points of the first wave observe it",
		s.release, server.Creates)
	server.Get(r, "preview-release", "/releases/preview", "How large the plans of the draft would be", s.preview)
	server.Post(r, "order-points", "/rollout/orders",
		"Order points to observe or enforce a release, to roll back, or to run none", s.order,
		server.CanBeMissing)
	server.Get(r, "list-wave-access", "/rollout/waves/{no}/access",
		"The machines of a wave, with who could still administer them", s.access,
		server.CanBeMissing)
	server.Get(r, "preview-guards", "/points/guarded", "The workloads that an expression would guard", s.guarded)
	server.Post(r, "rotate-point-token", "/points/{name}/token",
		"Replace a point's token; the former one is valid until the new one is used",
		s.rotate, server.Creates, server.CanBeMissing)
	server.Post(r, "let-point-follow", "/points/{name}/follow",
		"Let a point that took an order which this server lacks follow it", s.yield,
		server.CanBeMissing)
	server.Post(r, "add-point", "/points", "Create an enforcement point; its token is shown only once", s.addPoint,
		server.Creates)
	server.Remove(r, "drop-point", "/points/{name}", "Delete an enforcement point", s.dropPoint, server.CanBeMissing)
	server.Post(r, "tell-point-again", "/points/{name}/again", "Make a point load its plan again", s.again,
		server.CanBeMissing)
	server.Get(r, "read-point-history", "/points/{name}/history", "What happened at a point, newest first", s.history)
	server.Get(r, "list-wave-rejections", "/rollout/waves/{no}/rejected",
		"Conversations of today that the newest release rejects at "+
			"the points of a wave", s.rejections, server.CanBeMissing)
	server.Put(r, "set-wave", "/rollout/waves/{no}", "Set the conditions under which a wave enforces", s.putWave,
		server.CanBeMissing)
	server.Put(r, "hold-roll-out", "/rollout/hold", "Pause the roll-out, or resume it", s.hold)
	server.Get(r, "compare-releases", "/releases/{no}/difference", "What changes from one release to another",
		s.differences, server.CanBeMissing)
	server.Get(r, "list-exemptions", "/exemptions", "Exempt workloads, those that end first at the top",
		s.exemptions)
	server.Put(r, "exempt-workload", "/exemptions/{id}", "Exempt a workload from all points until a day", s.exempt,
		server.CanBeMissing)
	server.Remove(r, "end-exemption", "/exemptions/{id}", "Let points guard a workload again", s.endExemption,
		server.CanBeMissing)
	server.Get(r, "list-guards", "/workloads/{id}/points", "The points that guard a workload, and what they run",
		s.guards, server.CanBeMissing)
	server.Get(r, "read-point-plan", "/points/{name}/plan", "The plan of a point as text", s.pointPlan,
		server.CanBeMissing)
	server.Post(r, "compare-running", "/points/{name}/running",
		"Compare the pasted configuration of a device with its plan",
		s.running, server.CanBeMissing)
	server.Get(r, "fetch-device-file", server.PointPath+"/file",
		"For devices, with their token: the plan as a file", s.deviceFile, ofPoint,
		server.CanBeMissing, server.CanConflict, server.CanBeCached)
	server.Get(r, "fetch-device-group", server.PointPath+"/groups/{name}",
		"For devices, with their token: the members of a group, a prefix in "+
			"each line", s.deviceGroup, ofPoint, server.CanBeMissing, server.CanBeCached)
	server.Get(r, "read-told", server.PointPath+"/told",
		"For points, with their token: the plan, as soon as it changes", s.told,
		ofPoint)
	server.Post(r, "say-seen", server.PointPath+"/seen",
		"For points, with their token: conversations that they rejected or left uncovered, "+
			"as IPFIX messages", s.seen, ofPoint)
	server.Post(r, "say-held", server.PointPath+"/said", "For points, with their token: report what they run", s.said,
		ofPoint)
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
	out := RollOut{Releases: []releaseOut{}, Points: server.Each(p.Points, newPointState),
		Coverage: Coverage(p.Coverage),
		Waves:    server.Each(p.Waves, newWaveState), Hold: (*Hold)(p.Hold)}
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
		o := releaseOut{Release: Release(r), Same: m.SaysTheSame(r.No, r.Revision)}
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
}) (*server.Made[Release], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.Release(ctx, m, in.Body.Revision, strings.TrimSpace(in.Body.Title), in.Body.Instead)
	if err != nil {
		return nil, err
	}
	return &server.Made[Release]{Location: server.Version + "/rollout", Body: Release(r)}, nil
}

// order carries out an order to points, whole.
func (s *Releases) order(ctx context.Context, in *struct{ Body Order }) (*server.Body[[]Ordered], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return nil, err
	}
	out, err := s.Order(ctx, v, m, releasing.Order(in.Body))
	return server.OK(server.Each(out, newOrdered)), err
}

// Preview is what a release of the draft would come to at the points.
type Preview struct {
	Largest string `json:"largest,omitempty" doc:"The point with the largest plan; none: there is no point"`
	Size
}

// preview reports how large the plans of the draft would be.
func (s *Releases) preview(ctx context.Context, _ *struct{}) (*server.Body[Preview], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	name, size, err := s.LargestPlan(ctx, m)
	return server.OK(Preview{name, Size(size)}), err
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
	out := ReleaseDifference{Older: Release(older), Newer: Release(newer), Counts: map[string]map[string]int{}}
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
	Older   Release                   `json:"older"`
	Newer   Release                   `json:"newer"`
	Counts  map[string]map[string]int `json:"counts" doc:"Conversations of the window, by their verdict in the older and in the newer"`
	Changed int                       `json:"changed"`
}
