package rest

import (
	"context"
	"math/rand/v2"
	"net"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/point"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// ofPoint is an operation that a point asks for with its token.
func ofPoint(o *huma.Operation) {
	server.NeedsToken(o)
	o.Errors = append(o.Errors, http.StatusGone, http.StatusUpgradeRequired)
}

func noPoint() error {
	return huma.Error401Unauthorized("found a token of no enforcement point; create one in Release")
}

// asking returns the point that asks, by its token.
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
		return nil, huma.Error410Gone(former +
			" was deleted from this server; its plan stays loaded. Stop the agent, and delete its table to open the " +
			"machine")
	}
	return nil, noPoint()
}

// toldPatience is about how long a point's question stays open: they do not all end at once.
const toldPatience = 25 * time.Second

func (s *Releases) told(ctx context.Context, in *struct {
	Run  string `header:"Orchard-Run" doc:"Names the run of the agent"`
	Have string `query:"have" doc:"The id of the loaded plan: the answer comes as soon as the id changes, or after 25 s"`
}) (*server.Body[point.Instructions], error) {
	p, err := s.asking(ctx)
	if err != nil {
		return nil, err
	}
	if in.Run == "" { // an agent of before would take what it does not understand for nothing, and open the machine
		return nil, huma.NewError(http.StatusUpgradeRequired, "the agent of "+p.Name+
			" is older than this server; it keeps its plan until it is upgraded")
	}
	t, err := s.AwaitInstructions(ctx, p.Name, in.Have, toldPatience-rand.N(toldPatience/3))
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

func (s *Releases) said(ctx context.Context, in *struct{ Body point.Status }) (*struct{}, error) {
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
