package rest

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/answers"
	"lucidorchard/core/reach"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// wave returns the points of a wave, with how far the newest release has come.
func (s *Releases) wave(ctx context.Context, v *reach.View, m *model.Model, no int) (*releasing.Progress,
	[]releasing.PointState, error) {
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

// RejectionOut is a conversation that runs today and that a release rejects.
type RejectionOut struct {
	answers.ConversationOut
	Line     int      `json:"line" doc:"In the release, of the rule that rejects it"`
	Sentence string   `json:"sentence" doc:"Of that rule"`
	Settled  bool     `json:"settled" doc:"A probe accepts this"`
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
		out = append(out, RejectionOut{answers.NewConversationOut(compared, x.Index), x.Rule.Line, x.Rule.Sentence(),
			x.Settled, x.Points})
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
		Title         string `json:"title,omitempty" maxLength:"80"`
		Minutes       int    `json:"minutes,omitempty" minimum:"0" maximum:"525600" doc:"How long it observes at least"`
		Asserts       bool   `json:"asserts" doc:"Assertions must hold"`
		Probes        bool   `json:"probes" doc:"Probes have to get the verdict that is expected"`
		Administrable bool   `json:"wayBack" doc:"All machines must stay administrable, so that a rollback is possible"`
		Settled       bool   `json:"settled" doc:"What would be rejected has to be settled as right"`
		ByItself      bool   `json:"byItself,omitempty" doc:"It goes on as soon as all that is so"`
	}
}) (*struct{}, error) {
	b := in.Body
	return nil, s.PutWave(ctx, releasing.Wave{No: in.No, Title: strings.TrimSpace(b.Title), Minutes: b.Minutes,
		Asserts: b.Asserts,
		Probes:  b.Probes, Administrable: b.Administrable, Settled: b.Settled, ByItself: b.ByItself})
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
	Exemption
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
		x := ExemptionOut{Exemption: Exemption(e), Name: e.Workload, Over: !e.Ends.After(time.Now())}
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
