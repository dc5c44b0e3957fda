package rest

import (
	"context"

	// Releases from a job, with a token that may release.
	"strings"

	"lucidorchard/answers"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// Pipeline answers jobs that release.
type Pipeline struct {
	*answers.Desk
	*releasing.Service
}

func (s *Pipeline) Routes(r server.Routes) {
	server.Post(r, "release-policy", "/pipeline/releases",
		"With a token that may release: save a policy as the draft and release it",
		s.releasePolicy, server.Creates, server.NeedsToken)
	server.Post(r, "follow-release", "/pipeline/releases/{no}/follow",
		"With a token that may release: take the next step of its roll-out, "+
			"if it may be taken, and say how far it has come", s.follow, server.CanBeMissing, server.NeedsToken)
}

func (s *Pipeline) releasePolicy(ctx context.Context, in *struct {
	Body struct {
		Policy  string `json:"policy" minLength:"1" doc:"The text"`
		Title   string `json:"title" minLength:"1" maxLength:"200"`
		Instead bool   `json:"instead,omitempty" doc:"It takes the place of a release that is still being rolled out"`
	}
}) (*server.Made[Release], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.ReleaseText(ctx, m, in.Body.Policy, strings.TrimSpace(in.Body.Title), in.Body.Instead, jobOf(ctx))
	if err != nil {
		return nil, err
	}
	return &server.Made[Release]{Location: server.Version + "/rollout", Body: Release(r)}, nil
}

func (s *Pipeline) follow(ctx context.Context, in *struct {
	No   int `path:"no"`
	Body struct {
		Wave    int  `json:"wave" minimum:"1" maximum:"1000" doc:"The last wave that it is to reach"`
		Enforce bool `json:"enforce,omitempty" doc:"Enforce it there as soon as the conditions of the waves are met; otherwise it is only observed"`
	}
}) (*server.Body[Followed], error) {
	m, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return nil, err
	}
	f, err := s.Follow(ctx, v, m, in.No, in.Body.Wave, in.Body.Enforce, jobOf(ctx))
	if err != nil {
		return nil, err
	}
	return server.OK(Followed(*f)), nil
}

// jobOf returns the name of the job that asks: that of its token.
func jobOf(ctx context.Context) string {
	t, _ := server.TokenOf(ctx)
	return t.Name
}
