package rest

import (
	"context"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/core/policy"
	"lucidorchard/grouping"
	"lucidorchard/server"
)

// GroupHistory is who joined and left a group over the window.
type GroupHistory struct {
	Changes   []MembershipChange `json:"changes" doc:"Newest first, at most 500"`
	Total     int                `json:"total"`
	Revisions []answers.Revision `json:"revisions" doc:"Revisions of the window in which the group's definition changed, newest first"`
}

func (s *Groups) groupHistory(ctx context.Context, in *struct {
	answers.Window
	Name string `query:"name" required:"true"`
}) (*server.Body[GroupHistory], error) {
	snap, err := s.Snapshot(ctx)
	if err != nil {
		return nil, err
	}
	g := snap.Policy.Groups[in.Name]
	if g == nil {
		return nil, huma.Error404NotFound("there is no group " + in.Name)
	}
	from, _, err := in.Hours(snap)
	if err != nil {
		return nil, err
	}
	said, err := s.ValuesSince(ctx, from.Start().Time())
	if err != nil {
		return nil, err
	}
	since := from.Start().Time()
	changes := grouping.MembershipChanges(snap, g.Name, said, since)
	out := GroupHistory{Revisions: []answers.Revision{}}
	for _, a := range grouping.Arrivals(snap, g.Name, since) {
		// Who came with its first tags and its first address came once.
		if k := slices.IndexFunc(changes, func(c grouping.MembershipChange) bool {
			return c.Workload == a.Workload && c.After == a.After && c.Why == grouping.FirstTags
		}); k >= 0 {
			changes[k] = a
		} else {
			changes = append(changes, a)
		}
	}
	slices.SortStableFunc(changes, func(a, b grouping.MembershipChange) int { return strings.Compare(b.At, a.At) })
	out.Total = len(changes)
	out.Changes = server.Each(changes[:min(500, len(changes))], func(c grouping.MembershipChange) MembershipChange {
		return MembershipChange(c)
	})
	revisions, err := s.RevisionsSince(ctx, from.Start().Time())
	if err != nil {
		return nil, err
	}
	was := ""
	for k, r := range revisions { // oldest first; the first one is from before the window
		p, _ := policy.Parse(r.Text)
		is := ""
		if g := p.Groups[in.Name]; g != nil {
			is = g.Body()
		}
		if k > 0 && is != was {
			out.Revisions = append(out.Revisions, answers.NewRevision(r))
		}
		was = is
	}
	slices.Reverse(out.Revisions)
	return server.OK(out), nil
}
