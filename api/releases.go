package api

import (
	"context"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/app"
	"lucidorchard/point"
	"lucidorchard/store"
)

// ReleaseOut is a release with where it is held.
type ReleaseOut struct {
	store.Release
	HeldAt int `json:"heldAt" doc:"Points that hold it"`
}

// RollOut is the releases, the points, and how far the newest release has come.
type RollOut struct {
	Releases []ReleaseOut     `json:"releases" doc:"Newest first"`
	Points   []app.PointState `json:"points" doc:"By wave and name"`
	InForce  int              `json:"inForce" doc:"The newest release that a point holds; 0: none is"`
	Coverage app.Coverage     `json:"coverage"`
	Before   Before           `json:"before"`
}

// Before is what to look at before a release is enforced.
type Before struct {
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

// releasesAPI answers about releases and enforcement points.
type releasesAPI struct{ *base }

const (
	pointPath  = "/point"
	pointPaths = Version + pointPath + "/"
)

func (s *releasesAPI) routes(r routes) {
	get(r, "read-roll-out", "/rollout", "The releases, the points, and what each holds", s.rollOut, missing)
	post(r, "release", "/releases", "Put the draft under a number; the points of the first wave observe it", s.release, made)
	post(r, "aim-points", "/rollout/aim", "Tell points to observe, to enforce, or to hold nothing", s.aim, missing)
	post(r, "add-point", "/points", "Make an enforcement point; its token is shown this once", s.addPoint, made)
	remove(r, "drop-point", "/points/{name}", "Forget an enforcement point", s.dropPoint, missing)
	post(r, "tell-point-again", "/points/{name}/again", "Tell a point anew what it is to hold", s.again, missing)
	get(r, "read-point-history", "/points/{name}/history", "What happened at a point, newest first", s.history)
	get(r, "list-guards", "/workloads/{id}/points", "The points that guard a workload, and what they hold", s.guards, missing)
	get(r, "read-point-plan", "/points/{name}/plan", "What a point is to hold, as text", s.pointPlan, missing)
	get(r, "read-told", pointPath+"/told", "For points, with their token: what to hold, as soon as it is another", s.told,
		withToken)
	post(r, "say-held", pointPath+"/said", "For points, with their token: what they hold", s.said, withToken)
}

func (s *releasesAPI) rollOut(ctx context.Context, in *struct{ Window }) (*Body[RollOut], error) {
	v, m, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	releases, err := s.Store.Releases(ctx)
	if err != nil {
		return nil, err
	}
	out := RollOut{Releases: []ReleaseOut{}}
	if out.Points, out.Coverage, err = s.Points(ctx, v, m); err != nil {
		return nil, err
	}
	for _, r := range releases {
		o := ReleaseOut{Release: r}
		for _, p := range out.Points {
			if p.Held != nil && p.Held.Release == r.No {
				o.HeldAt++
			}
		}
		if o.HeldAt > 0 && out.InForce == 0 {
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
		compared, err := s.View(ctx, m, v.From, v.To, releases[0].Revision)
		if err != nil {
			return nil, err
		}
		out.Before.Uncovered, out.Before.Rejects = app.LeftAndRejected(compared.Against)
	}
	return body(out), nil
}

func (s *releasesAPI) release(ctx context.Context, in *struct {
	Body struct {
		Revision int    `json:"revision" doc:"Of the draft that was looked at"`
		Title    string `json:"title" minLength:"1" maxLength:"200"`
	}
}) (*Made[store.Release], error) {
	m, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.Release(ctx, m, in.Body.Revision, strings.TrimSpace(in.Body.Title))
	if err != nil {
		return nil, err
	}
	return &Made[store.Release]{Version + "/rollout", r}, nil
}

func (s *releasesAPI) aim(ctx context.Context, in *struct{ Body app.Aiming }) (*struct{}, error) {
	return nil, s.Aim(ctx, in.Body)
}

func (s *releasesAPI) addPoint(ctx context.Context, in *struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"80"`
		Kind     string `json:"kind" enum:"host,gate"`
		Side     string `json:"side,omitempty" enum:"server,client,both" default:"both"`
		Guards   string `json:"guards" minLength:"1" doc:"An expression: which workloads it guards"`
		Wave     int    `json:"wave,omitempty" minimum:"1" maximum:"1000" default:"1"`
		PutsBack bool   `json:"putsBack,omitempty" doc:"Whether it puts back what is changed by hand"`
	}
}) (*Made[PointMade], error) {
	m, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	b := in.Body
	p := store.Point{Name: b.Name, Kind: b.Kind, Side: b.Side, Guards: b.Guards, Wave: b.Wave, PutsBack: b.PutsBack}
	token, err := s.AddPoint(ctx, m, p)
	if err != nil {
		return nil, err
	}
	return &Made[PointMade]{Version + "/points/" + b.Name, PointMade{b.Name, token}}, nil
}

func (s *releasesAPI) dropPoint(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*struct{}, error) {
	return nil, s.DropPoint(ctx, in.Name)
}

func (s *releasesAPI) again(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*struct{}, error) {
	return nil, s.TellAgain(ctx, in.Name)
}

func (s *releasesAPI) history(ctx context.Context, in *struct {
	Name string `path:"name"`
	All
}) (*List[store.PointEvent], error) {
	out, err := s.Store.PointHistory(ctx, in.Name, 10_000)
	if err != nil {
		return nil, err
	}
	return cut(ctx, out, in.All), nil
}

func (s *releasesAPI) guards(ctx context.Context, in *struct {
	Window
	All
	ID string `path:"id"`
}) (*List[app.PointState], error) {
	v, m, err := s.view(ctx, in.Window)
	if err != nil {
		return nil, err
	}
	w, ok := m.Estate.ByID(in.ID)
	if !ok {
		return nil, app.Missing("there is no workload with the id " + in.ID)
	}
	out, err := s.GuardedBy(ctx, v, m, w)
	if err != nil {
		return nil, err
	}
	return cut(ctx, out, in.All), nil
}

func (s *releasesAPI) pointPlan(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*Body[point.Told], error) {
	m, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	points, err := s.Store.Points(ctx)
	if err != nil {
		return nil, err
	}
	for i := range points {
		if points[i].Name == in.Name {
			t, err := s.ToldTo(ctx, m, &points[i])
			if err != nil {
				return nil, err
			}
			return body(*t), nil
		}
	}
	return nil, app.Missing("there is no point " + in.Name)
}

type pointKey struct{}

// asking gives the point that asks, by its token.
func (s *releasesAPI) asking(ctx context.Context) (*store.Point, error) {
	token, _ := ctx.Value(pointKey{}).(string)
	p, err := s.Store.PointOf(ctx, token)
	if err != nil {
		return nil, err
	}
	if p == nil {
		return nil, huma.Error401Unauthorized("found a token of no enforcement point; make one in the view Release")
	}
	return p, nil
}

// How long a point's question stays open, and how often other servers' changes are
// looked for.
const (
	toldPatience = 25 * time.Second
	toldLook     = 2 * time.Second
)

func (s *releasesAPI) told(ctx context.Context, in *struct {
	Have string `query:"have" doc:"The id of what was told last: the answer comes as soon as it is another, or after 25 s"`
}) (*Body[point.Told], error) {
	until := time.Now().Add(toldPatience)
	for {
		_, changed := s.Events.Next()
		p, err := s.asking(ctx)
		if err != nil {
			return nil, err
		}
		m, err := s.snapshot(ctx)
		if err != nil {
			return nil, err
		}
		t, err := s.ToldTo(ctx, m, p)
		if err != nil {
			return nil, err
		}
		if t.ID != in.Have || time.Now().After(until) {
			return body(*t), nil
		}
		select {
		case <-changed:
		case <-time.After(toldLook):
		case <-s.Done():
			return body(*t), nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

func (s *releasesAPI) said(ctx context.Context, in *struct{ Body point.Said }) (*struct{}, error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	return nil, s.Heard(ctx, p, in.Body)
}
