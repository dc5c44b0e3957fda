package plans_test

import (
	"errors"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/rollout"
	"lucidorchard/core/sample"
	"lucidorchard/point"
	"lucidorchard/releasing/plans"
)

func compiled(t require.TestingT, e *estate.Estate, p *policy.Policy) *decide.Compiled {
	return decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})
}

// retagged returns an estate of which some workloads have another tier, or none.
func retagged(t *rapid.T, e *estate.Estate) *estate.Estate {
	var ws []estate.Workload
	for _, w := range e.All() {
		c := *w
		guarded := w.ID == "w0" || w.ID == "w1" // of which a new tag may mean other rules
		if most := map[bool]int{true: 12, false: 2}[guarded]; rapid.IntRange(0, most).Draw(t, "moves") == 0 {
			c.Tags = slices.Clone(w.Tags)
			c.SetTag(estate.Tag{Key: "tier", Value: rapid.SampledFrom([]string{"entry", "store", "logic"}).Draw(t,
				"tier")})
			ws = append(ws, c)
		}
	}
	next, _, conflicts := e.With(ws, nil)
	if rapid.IntRange(0, 3).Draw(t, "listed anew") == 0 {
		next, conflicts = estate.New(next.Workloads())
	}
	require.Empty(t, conflicts)
	return next
}

// Whatever happens to the estate, and however often a point asks, it ends with the plan
// that a server says which has just started: by moves where rules stay, else by a plan without the
// sets that it has, or by all of it.
func TestMovesEndWhereAFreshServerBegins(t *testing.T) {
	moved, whole, short := 0, 0, 0
	rapid.Check(t, func(t *rapid.T) {
		e := sample.Estate(t)
		p, errs := policy.Parse("group members = tier is entry\nlayer first\npermit members -> any on tcp/7\n" +
			sample.Policy(t))
		require.Empty(t, errs)
		policies := func(no int) (*policy.Policy, error) {
			if no != 1 {
				return nil, errors.New("there is no such release")
			}
			return p, nil
		}
		running := &plans.Teller{Policy: policies}
		at := plans.Point{Kind: plan.Gate, Side: plan.Both, Guards: "id in (w0, w1)", Runs: rollout.Runs{Enforces: 1}}
		all := []plans.Point{at}
		have, held := "", (*plan.Plan)(nil)
		for version := range 6 {
			s := plans.StateOf(compiled(t, e, p), int64(version), nil)
			s.At = s.Compiled.AsOf
			if rapid.Bool().Draw(t, "the draft says the same") {
				s.Draft = 1
			}
			if rapid.Bool().Draw(t, "asks") || version == 5 {
				told, err := running.Told(s, at, have, all)
				require.NoError(t, err)
				switch {
				case told.ID == have:
					require.Nil(t, told.Enforces.Plan)
				case told.Enforces.From != "":
					require.Contains(t, have, told.Enforces.From)
					if told.Enforces.Plan != nil {
						held, err = told.Enforces.Plan.Filled(held)
						require.NoError(t, err)
						short++
					}
					for _, m := range told.Enforces.Moves {
						held, err = held.Moved(m)
						require.NoError(t, err)
					}
					moved++
				default:
					held = told.Enforces.Plan
					whole++
				}
				have = told.ID
				s.Draft = 0
				fresh := &plans.Teller{Policy: policies}
				want, err := fresh.Told(s, at, "", all)
				require.NoError(t, err)
				require.Equal(t, want.ID, have)
				require.Equal(t, want.Enforces.Plan.Hash(), held.Hash())
			} else if _, err := running.Told(s, at, "", all); err != nil { // somebody else does
				require.NoError(t, err)
			}
			e = retagged(t, e)
		}
	})
	require.Positive(t, moved)
	require.Positive(t, whole)
	require.Positive(t, short)
}

// What is exempt is guarded by nobody, until it is not exempt any more; nothing is told
// of a release that is none; told anew, a point is told all of it.
func TestWhatIsTold(t *testing.T) {
	w := estate.Workload{ID: "w", Leases: []estate.Lease{{Addr: sample.Addresses[1], From: estate.Beginning,
		Until: estate.End}}}
	e, _ := estate.New([]estate.Workload{w})
	p, errs := policy.Parse("layer l\nreject any -> workload w on any\n")
	require.Empty(t, errs)
	teller := &plans.Teller{Policy: func(no int) (*policy.Policy, error) {
		if no != 1 {
			return nil, errors.New("there is no release 2")
		}
		return p, nil
	}}
	at := plans.Point{Kind: plan.Host, Side: plan.Both, Guards: "not outside", Runs: rollout.Runs{Enforces: 1}}
	s := plans.StateOf(compiled(t, e, p), 1, nil)
	told := func(s plans.State, at plans.Point, have string) *point.Instructions {
		out, err := teller.Told(s, at, have, nil)
		require.NoError(t, err)
		return out
	}
	first := told(s, at, "")
	require.Len(t, first.Enforces.Plan.Classes, 1)
	again := at
	again.Again = 1
	require.NotEqual(t, first.ID, told(s, again, first.ID).ID)
	require.Nil(t, told(s, again, first.ID).Enforces.Plan, "it has the plan")
	observes := at
	observes.Runs = rollout.Runs{Observes: 1}
	require.NotEqual(t, first.ID, told(s, observes, first.ID).ID)
	require.Nil(t, told(s, at, told(s, observes, "").ID).Enforces.Plan,
		"what was observed is enforced: it has the plan")

	exempt := s
	exempt.Exempt = map[string]bool{"w": true}
	require.Empty(t, told(exempt, at, first.ID).Enforces.Plan.Classes)
	require.Equal(t, first.ID, told(s, at, "").ID)

	nothing := at
	nothing.Runs = rollout.Runs{}
	require.Equal(t, point.Nothing.ID, told(s, nothing, "").ID)
	at.Runs.Enforces = 2
	_, err := teller.Told(s, at, "", nil)
	require.ErrorContains(t, err, "no release 2")
	var wrong *plans.GuardsError
	for _, text := range []string{"env is", "member of nobody"} {
		_, err = teller.Guards(s, 0, text, nil)
		require.ErrorAs(t, err, &wrong, text)
	}
}
