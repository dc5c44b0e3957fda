package rest

import (
	"context"
	"fmt"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/answers"
	"lucidorchard/consequences"
	"lucidorchard/core/policy"
	"lucidorchard/drafting"
	"lucidorchard/model"
	"lucidorchard/server"
)

// RegroupOut is what renaming or removing a group did, or would do.
type RegroupOut struct {
	answers.EditOut
	Changed []string `json:"changed" doc:"Statements that change"`
	Removed []string `json:"removed" doc:"Statements that go with the group"`
}

func (s *Groups) renameGroup(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision in which the group was looked at"`
		Name     string `json:"name"`
		To       string `json:"to"`
	}
}) (*server.Stored[RegroupOut], error) {
	probes, err := s.Drafting.RenamedProbes(ctx, in.Body.Name, in.Body.To)
	if err != nil {
		return nil, err
	}
	out, err := s.regroup(ctx, in.Window, in.Body.Revision, in.DryRun,
		fmt.Sprintf("Rename group %s to %s", in.Body.Name, in.Body.To),
		func(snap *model.Model, out *RegroupOut) (string, *policy.EditError) {
			for _, item := range snap.Policy.Items {
				if item.Statement != nil && policy.Names(item.Statement, in.Body.Name) {
					out.Changed = append(out.Changed, item.Statement.String())
				}
			}
			return policy.RenameGroup(snap.Head.Text, in.Body.Name, in.Body.To)
		}, probes...)
	if err != nil {
		return nil, err
	}
	for _, e := range probes { // they go along: nothing becomes of them
		if c := out.Body.Consequences; c != nil {
			c.Probes = slices.DeleteFunc(c.Probes,
				func(p consequences.ProbeChange) bool { return p.Question == e.Question })
		}
		if e.Probe == nil {
			out.Body.Changed = append(out.Body.Changed, "probe "+e.Question)
		}
	}
	return out, nil
}

func (s *Groups) removeGroup(ctx context.Context, in *struct {
	answers.Window
	DryRun bool `query:"dryRun" doc:"Only return the consequences; store nothing"`
	Body   struct {
		Revision int    `json:"revision" doc:"The revision in which the group was looked at"`
		Name     string `json:"name"`
	}
}) (*server.Stored[RegroupOut], error) {
	return s.regroup(ctx, in.Window, in.Body.Revision, in.DryRun, "Remove group "+in.Body.Name,
		func(snap *model.Model, out *RegroupOut) (string, *policy.EditError) {
			after, changed, removed, err := policy.DropGroup(snap.Head.Text, in.Body.Name)
			lines := policy.Lines(snap.Head.Text)
			for _, l := range changed {
				out.Changed = append(out.Changed, lines[l-1])
			}
			for _, l := range removed {
				out.Removed = append(out.Removed, lines[l-1])
			}
			return after, err
		})
}

func (s *Groups) regroup(ctx context.Context, w answers.Window, revision int, dryRun bool, words string,
	edit func(*model.Model, *RegroupOut) (string, *policy.EditError),
	probes ...drafting.ProbeEdit) (*server.Stored[RegroupOut], error) {
	v, snap, err := s.View(ctx, w)
	if err != nil {
		return nil, err
	}
	if revision != snap.Head.No {
		return nil, huma.Error409Conflict("somebody has changed the policy since; nothing was changed. Check what " +
			"uses the group now, then try again")
	}
	out := RegroupOut{Changed: []string{}, Removed: []string{}}
	text, bad := edit(snap, &out)
	if bad != nil {
		return nil, answers.Refusal(bad)
	}
	done, err := s.Edited(ctx, v, snap, text, words, dryRun, probes...)
	if err != nil {
		return nil, err
	}
	out.EditOut = done.Body
	return &server.Stored[RegroupOut]{Status: done.Status, Location: done.Location, Body: out}, nil
}
