package sql_test

import (
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/auditing"
	"lucidorchard/core/estate"
	"lucidorchard/core/evidence"
	"lucidorchard/database"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/releasing"
)

func tagsOf(ws []estate.Workload) map[string]string {
	out := map[string]string{}
	for _, w := range ws {
		text := w.Name + "," + w.OS
		if !w.Retired.IsZero() {
			text += ",retired"
		}
		for _, t := range w.Tags {
			text += "," + t.Key + "=" + t.Value
		}
		out[w.ID] = text
	}
	return out
}

// Whatever sources and people say one after the other: the estate at each time is what
// the database gave then.
func TestTheEstateIsRecalledAsItWas(t *testing.T) {
	s, db := assemblytest.Fresh(t)
	ctx := t.Context()
	r := rand.New(rand.NewPCG(7, 7))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	list := func() []estate.Workload {
		var ws []estate.Workload
		for i := range 6 {
			if r.IntN(4) == 0 {
				continue
			}
			w := estate.Workload{ID: fmt.Sprint("w", i), Name: one("a", "b"), OS: one("x", "y")}
			for _, k := range []string{"app", "env"} {
				if v := one("one", "two", ""); v != "" {
					w.Tags = append(w.Tags, estate.Tag{Key: k, Value: v})
				}
			}
			ws = append(ws, w)
		}
		return ws
	}
	type state struct {
		at time.Time
		is map[string]string
	}
	var states []state
	begin := time.Now().Add(-time.Minute)
	for i := range 40 {
		switch k := r.IntN(4); {
		case i < 2 || k == 0:
			l := inventory.Listing{Source: one("cellar", "attic"), Workloads: list(), Complete: r.IntN(2) == 0,
				Author: "me"}
			_, err := s.Take(ctx, l)
			var lacks *inventory.LacksError
			if errors.As(err, &lacks) {
				l.Confirm = lacks.Missing
				_, err = s.Take(ctx, l)
			}
			require.NoError(t, err)
		case k == 1:
			require.NoError(t, s.RankSources(ctx, [][]string{{"cellar", "attic"}, {"attic", "cellar"}}[r.IntN(2)]))
		default:
			value := one("three", "")
			edit := inventory.TagEdit{Workload: fmt.Sprint("w", r.IntN(6)), Key: one("app", "env"), Value: &value}
			if r.IntN(3) == 0 {
				edit.Value = nil
			}
			_ = s.SetTags(ctx, []inventory.TagEdit{edit}, "me", "an edit") // the workload may not be there
		}
		ws, err := s.Workloads(ctx)
		require.NoError(t, err)
		time.Sleep(2 * time.Millisecond)
		var now time.Time
		require.NoError(t, db.QueryRow(ctx, `SELECT clock_timestamp()`).Scan(&now))
		states = append(states, state{now, tagsOf(ws)})
		time.Sleep(2 * time.Millisecond)
	}
	c := evidence.Case{From: begin, To: time.Now().Add(time.Minute), Made: time.Now()}
	require.NoError(t, s.Recall(ctx, &c))
	for i, x := range states {
		require.Equal(t, x.is, tagsOf(c.History.At(estate.InstantOf(x.at))), "after edit %d", i)
	}
	// Of a period that begins later, the same.
	c.From = states[20].at.Add(-time.Millisecond)
	require.NoError(t, s.Recall(ctx, &c))
	for _, x := range states[20:] {
		require.Equal(t, x.is, tagsOf(c.History.At(estate.InstantOf(x.at))))
	}
}

// What points held, when they were silent, who was exempt: also when all that is over.
func TestPointsAndExemptionsAreRecalled(t *testing.T) {
	s, db := assemblytest.Fresh(t)
	ctx := t.Context()
	require.NoError(t, s.ImportWorkloads(ctx, "cellar", nil, []estate.Workload{{ID: "w", Name: "the machine",
		Leases: []estate.Lease{{Addr: netip.MustParseAddr("10.0.0.1"),
			From: estate.Beginning, Until: estate.End}}}}))
	require.NoError(t, s.Begin(ctx, model.Revision{No: 1, Text: "layer x\n", Author: "me", Words: "begin",
		Blame: model.Blame{1}}))
	require.NoError(t, s.AddPoint(ctx, releasing.Point{Name: "gate", Kind: "gate", Side: "both", Guards: "name is x",
		Wave: 1, Author: "me"}, "token"))
	_, err := s.AddRelease(ctx, releasing.Release{Revision: 1, Title: "First", Author: "me"},
		assemblytest.ObservedAt("gate"))
	require.NoError(t, err)
	hear := func(mode string, what ...string) {
		no := 1
		for _, what := range append(what, "applied") {
			require.NoError(t, s.Heard(ctx, "gate", json.RawMessage(`{}`),
				[]releasing.PointEvent{{At: time.Now(), What: what, Words: "line 6 is missing",
					Release: &no, Mode: &mode}}, true))
		}
	}
	hear("observe")
	hear("observe")
	quiet(t, db, 10*time.Minute)
	hear("enforce")
	hear("enforce", "drifted", "drifted", "put back", "drifted")
	soon := time.Now().Add(time.Hour)
	for _, reason := range []string{"first", "second"} {
		require.NoError(t, s.PutExemption(ctx, model.Exemption{Workload: "w", Reason: reason, Owner: "crew",
			Ends: soon, Author: "me"}))
	}
	recall := func() evidence.Case {
		c := evidence.Case{From: time.Now().Add(-24 * time.Hour), To: time.Now().Add(time.Second),
			Made: time.Now().Add(time.Second)}
		require.NoError(t, s.Recall(ctx, &c))
		return c
	}
	c := recall()
	require.Len(t, c.Points, 1)
	p := c.Points[0]
	require.Equal(t, []string{"observe", "enforce"}, []string{p.Held[0].Mode, p.Held[1].Mode})
	require.Len(t, p.Drifts, 2)
	require.True(t, p.Drifts[0].From.Before(p.Drifts[0].Until) && p.Drifts[1].Until.Before(c.Made), "%v", p.Drifts)
	require.Equal(t, "line 6 is missing", p.Drifts[0].Words)
	require.Len(t, p.Silent, 1)
	require.Greater(t, p.Silent[0].Until.Sub(p.Silent[0].From), 9*time.Minute)
	require.Equal(t, []string{"first", "second"}, []string{c.Exemptions[0].Reason, c.Exemptions[1].Reason})
	require.Equal(t, c.Exemptions[0].Until, c.Exemptions[1].From, "the one follows the other")
	require.Equal(t, "the machine", c.Exemptions[0].Name)
	require.Len(t, c.Releases, 1)

	quiet(t, db, 5*time.Minute)
	require.Len(t, recall().Points[0].Silent, 2, "it still is")
	_, err = s.DropExemption(ctx, "w")
	require.NoError(t, err)
	_, err = s.DropPoint(ctx, "gate")
	require.NoError(t, err)
	require.NoError(t, s.AddPoint(ctx, releasing.Point{Name: "gate", Kind: "host", Side: "server", Guards: "name is y",
		Wave: 1, Author: "me"}, "token 2"))
	c = recall()
	require.Len(t, c.Points, 2, "the one before, and the one of the same name")
	require.Equal(t, []string{"gate", "host"}, []string{c.Points[0].Kind, c.Points[1].Kind})
	require.Len(t, c.Points[0].Held, 2)
	require.False(t, c.Points[0].Dropped.IsZero())
	require.Len(t, c.Points[0].Drifts, 2, "what was found is kept with it")
	require.Equal(t, "line 6 is missing", c.Points[0].Drifts[1].Words)
	require.Empty(t, c.Points[1].Held)
	require.Len(t, c.Exemptions, 2)
	require.True(t, c.Exemptions[1].Until.Before(soon), "it was taken back")
}

// quiet lets a point not be heard of for a while.
func quiet(t *testing.T, db *pgx.Conn, d time.Duration) {
	_, err := db.Exec(t.Context(), `UPDATE points
		SET heard = heard - $1 * interval '1 second', made = made - interval '1 hour'`, d.Seconds())
	require.NoError(t, err)
}

func TestEvidenceIsKept(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	key, err := s.SigningKey(ctx)
	require.NoError(t, err)
	again, err := s.SigningKey(ctx)
	require.NoError(t, err)
	require.Equal(t, key, again)
	schedule, err := s.AddEvidenceSchedule(ctx, auditing.EvidenceSchedule{Promise: "group a", Every: "month",
		Author: "me"})
	require.NoError(t, err)
	_, err = s.AddEvidenceSchedule(ctx, auditing.EvidenceSchedule{Promise: "group a", Every: "month", Author: "me"})
	require.ErrorIs(t, err, database.ErrTaken)
	e := auditing.EvidenceKept{Promise: "group a", From: time.Now().Add(-time.Hour), To: time.Now(), Made: time.Now(),
		Author: "me", Sentence: "so", Schedule: &schedule,
		Body: []byte("{}")}
	id, err := s.PutEvidence(ctx, &e)
	require.NoError(t, err)
	twice, err := s.PutEvidence(ctx, &e)
	require.NoError(t, err)
	require.Zero(t, twice, "another server has made it")
	require.NoError(t, s.SayEvidenceProblem(ctx, schedule, "it broke"))
	all, err := s.EvidenceSchedules(ctx)
	require.NoError(t, err)
	require.Equal(t, "it broke", all[0].Problem)
	require.NotNil(t, all[0].Last)
	made, err := s.EvidenceMade(ctx)
	require.NoError(t, err)
	require.Len(t, made, 1)
	for _, want := range []bool{true, false} {
		there, err := s.DropEvidence(ctx, id)
		require.NoError(t, err)
		require.Equal(t, want, there)
		there, err = s.DropEvidenceSchedule(ctx, schedule)
		require.NoError(t, err)
		require.Equal(t, want, there)
	}
	_, err = s.EvidenceOf(ctx, id)
	require.ErrorIs(t, err, database.ErrNone)
}
