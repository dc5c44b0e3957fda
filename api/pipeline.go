package api

import (
	"context"
	"strings"

	"lucidorchard/inventory"
	"lucidorchard/releasing"
)

// Releases from a job, with a token that may release.

// pipelineAPI answers jobs that release.
type pipelineAPI struct{ *base }

const pipelinePaths = Version + "/pipeline/"

func (s *pipelineAPI) routes(r routes) {
	post(r, "release-policy", "/pipeline/releases", "With a token that may release: save a policy as the draft and release it",
		s.releasePolicy, made, withToken)
	post(r, "follow-release", "/pipeline/releases/{no}/follow", "With a token that may release: take the next step of its roll-out, "+
		"if it may be taken, and say how far it has come", s.follow, missing, withToken)
}

func (s *pipelineAPI) releasePolicy(ctx context.Context, in *struct {
	Body struct {
		Policy  string `json:"policy" minLength:"1" doc:"The text"`
		Title   string `json:"title" minLength:"1" maxLength:"200"`
		Instead bool   `json:"instead,omitempty" doc:"It takes the place of a release that is still being rolled out"`
	}
}) (*Made[releasing.Release], error) {
	m, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	r, err := s.ReleaseText(ctx, m, in.Body.Policy, strings.TrimSpace(in.Body.Title), in.Body.Instead, tokenOf(ctx).Name)
	if err != nil {
		return nil, err
	}
	return &Made[releasing.Release]{Version + "/rollout", r}, nil
}

func (s *pipelineAPI) follow(ctx context.Context, in *struct {
	No   int `path:"no"`
	Body struct {
		Wave    int  `json:"wave" minimum:"1" maximum:"1000" doc:"The last wave that it is to reach"`
		Enforce bool `json:"enforce,omitempty" doc:"It is to be enforced there, as soon as what the waves wait for is so; else only observed"`
	}
}) (*Body[releasing.Followed], error) {
	m, err := s.snapshot(ctx)
	if err != nil {
		return nil, err
	}
	v, err := m.View(ctx, m.From, m.To)
	if err != nil {
		return nil, err
	}
	f, err := s.Follow(ctx, v, m, in.No, in.Body.Wave, in.Body.Enforce, tokenOf(ctx).Name)
	if err != nil {
		return nil, err
	}
	return body(*f), nil
}

// tokenOf gives the token that a request came with.
func tokenOf(ctx context.Context) inventory.Token {
	t, _ := ctx.Value(tokenKey{}).(inventory.Token)
	return t
}
