package rest

import (
	"context"
	"strings"

	"lucidorchard/answers"
	"lucidorchard/core/access"
	"lucidorchard/core/plan/nft"
	"lucidorchard/point"
	"lucidorchard/refuse"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// PointMade is a new point with its token, which is shown only once.
type PointMade struct {
	Name  string `json:"name"`
	Token string `json:"token"`
}

// planText is what a point is to hold, also as text.
type planText struct {
	point.Instructions
	Script string `json:"script" doc:"For nft -f; blank: the point runs nothing"`
}

// MachineAccess is a guarded machine with what is known of its administration.
type MachineAccess struct {
	ID     string        `json:"id"`
	Name   string        `json:"name"`
	Source access.Source `json:"source" enum:"assertion,seen,anybody" doc:"How the administrators are known; anybody: only from the policy"`
	Open   bool          `json:"open" doc:"An administrator could still reach it"`
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

// rotate creates another token for a point.
func (s *Releases) rotate(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*server.Made[PointMade], error) {
	token, err := s.RotateToken(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	return &server.Made[PointMade]{Location: server.Version + "/points/" + in.Name, Body: PointMade{in.Name, token}},
		nil
}

// yield lets a point that is ahead of this server follow it.
func (s *Releases) yield(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*struct{}, error) {
	return nil, s.Yield(ctx, in.Name)
}

func (s *Releases) addPoint(ctx context.Context, in *struct {
	Body struct {
		Name     string `json:"name" minLength:"1" maxLength:"80"`
		Kind     string `json:"kind" enum:"host,gate,file"`
		Side     string `json:"side,omitempty" enum:"server,client,both" default:"both"`
		Guards   string `json:"guards" minLength:"1" doc:"An expression: which workloads it guards"`
		Wave     int    `json:"wave,omitempty" minimum:"1" maximum:"1000" default:"1"`
		PutsBack bool   `json:"putsBack,omitempty" doc:"Whether it restores manual changes"`
		Paired   bool   `json:"paired,omitempty" doc:"Another gate guards the same workloads and sees part of their packets"`
	}
}) (*server.Made[PointMade], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	b := in.Body
	p := releasing.Point{Name: b.Name, Kind: b.Kind, Side: b.Side, Guards: b.Guards, Wave: b.Wave,
		PutsBack: b.PutsBack, Paired: b.Paired}
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
}) (*server.List[PointEvent], error) {
	out, err := s.PointHistory(ctx, in.Name, 10_000)
	if err != nil {
		return nil, err
	}
	return server.Cut(ctx, server.Each(out, func(e releasing.PointEvent) PointEvent { return PointEvent(e) }),
		in.All), nil
}

func (s *Releases) guards(ctx context.Context, in *struct {
	answers.Window
	server.All
	ID string `path:"id"`
}) (*server.List[PointState], error) {
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
	return server.Cut(ctx, server.Each(out, newPointState), in.All), nil
}

func (s *Releases) pointPlan(ctx context.Context, in *struct {
	Name string `path:"name"`
}) (*server.Body[planText], error) {
	t, err := s.toldTo(ctx, in.Name)
	if err != nil {
		return nil, err
	}
	out := planText{Instructions: *t}
	if l := t.Loaded(); !l.Nothing() {
		var script strings.Builder
		if err := nft.WriteLoaded(&script, l, nft.Options{Paired: t.Paired}); err != nil {
			return nil, err
		}
		out.Script = script.String()
	}
	return server.OK(out), nil
}

// toldTo returns all of what a point is to hold now.
func (s *Releases) toldTo(ctx context.Context, name string) (*point.Instructions, error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	return s.InstructionsFor(ctx, m, name)
}
