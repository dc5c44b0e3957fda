package releasing

import (
	"context"
	"slices"
	"sync"

	"lucidorchard/core/policy"
	"lucidorchard/core/reach"
	"lucidorchard/core/service"
	"lucidorchard/model"
)

// rejection is a conversation that runs today and that a release rejects.
type rejection struct {
	Index   int // in the view
	Client  int32
	Point   service.Point
	Settled bool
	Rule    *policy.Rule
	Points  []string // that would drop it
}

// Rejections returns those that some points would drop; in is the view of the release.
func (a *Service) Rejections(ctx context.Context, v *reach.View, m *model.Model, release int,
	points []PointState) ([]rejection,
	error) {
	r, err := states{a}.rejectedBy(ctx, v, m, release)
	if err != nil {
		return nil, err
	}
	accepted := r.in.Accepted(m.Acceptance())
	var out []rejection
	for _, i := range r.which {
		c := r.in.At(int(i))
		x := rejection{Index: int(i), Client: c.Client.Workload, Point: c.Point, Rule: c.Rule,
			Settled: accepted != nil && accepted[i]}
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

// rejected is the conversations that run today and that a release rejects.
type rejected struct {
	in    *reach.View
	which []int32
}

// rejectedBy finds them.
func (a states) rejectedBy(ctx context.Context, v *reach.View, m *model.Model, release int) (*rejected, error) {
	r, err := a.ReleaseOf(ctx, release)
	if err != nil {
		return nil, err
	}
	compared, err := a.Models.View(ctx, m, v.From, v.To, r.Revision)
	if err != nil {
		return nil, err
	}
	a.rejections.mu.Lock()
	defer a.rejections.mu.Unlock()
	if a.rejections.of == nil || len(a.rejections.of) > 8 {
		a.rejections.of = map[int]*rejected{}
	}
	have := a.rejections.of[release]
	if have == nil || have.in != compared.Against {
		have = &rejected{in: compared.Against}
		for i := range have.in.Len() {
			if c := have.in.At(i); c.WouldLeak() {
				have.which = append(have.which, int32(i))
			}
		}
		a.rejections.of[release] = have
	}
	return have, nil
}

// rejections keeps them, by release.
type rejections struct {
	mu sync.Mutex
	of map[int]*rejected
}

// at counts those of which an end is guarded on a side that is policed.
func (r *rejected) at(which []int32, side string) (n int) {
	guarded := func(w int32) bool {
		_, in := slices.BinarySearch(which, w)
		return in
	}
	for _, i := range r.which {
		c := r.in.At(int(i))
		if side != "client" && guarded(c.Server.Workload) || side != "server" && guarded(c.Client.Workload) {
			n++
		}
	}
	return n
}
