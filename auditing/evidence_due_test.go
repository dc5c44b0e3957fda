package auditing_test

import (
	"context"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/auditing"
	"lucidorchard/database/databasetest"
	"lucidorchard/model"
)

func TestTheLastPeriodThatIsOver(t *testing.T) {
	at := func(text string) time.Time {
		x, err := time.Parse(time.DateOnly, text)
		require.NoError(t, err)
		return x
	}
	for _, x := range [][4]string{
		{"month", "2026-11-28", "2026-10-01", "2026-11-01"},
		{"month", "2026-11-01", "2026-10-01", "2026-11-01"},
		{"month", "2026-01-15", "2025-12-01", "2026-01-01"},
		{"quarter", "2026-11-28", "2026-07-01", "2026-10-01"},
		{"quarter", "2026-02-01", "2025-10-01", "2026-01-01"},
		{"quarter", "2026-04-01", "2026-01-01", "2026-04-01"},
	} {
		from, to := auditing.LastPeriod(x[0], at(x[1]))
		require.Equal(t, []time.Time{at(x[2]), at(x[3])}, []time.Time{from, to}, x)
	}
}

// Schedules make what is due, once, whoever does it: two servers do at the same time; and
// say why where they cannot.
func TestEvidenceIsMadeByItself(t *testing.T) {
	url := databasetest.Database(t)
	ctx, stop := context.WithCancel(t.Context())
	var servers []*assembly.App
	for range 2 {
		db, err := assembly.Open(ctx, url)
		require.NoError(t, err)
		t.Cleanup(func() { db.Close() })
		a := assembly.New(ctx, assembly.Options{Store: db, Author: "me", Log: slog.New(slog.DiscardHandler)})
		servers = append(servers, a)
		t.Cleanup(a.Wait)
	}
	t.Cleanup(stop)
	a := servers[0]
	require.NoError(t, a.Store.Begin(ctx, model.Revision{No: 1, Text: "group stores = tier is store\nlayer x\n",
		Author: "me", Words: "begin", Blame: model.Blame{1, 1}}))
	good, err := a.Store.AddEvidenceSchedule(ctx, auditing.EvidenceSchedule{Promise: "group stores", Every: "month",
		Author: "me"})
	require.NoError(t, err)
	bad, err := a.Store.AddEvidenceSchedule(ctx, auditing.EvidenceSchedule{Promise: "group nobody", Every: "quarter",
		Author: "me"})
	require.NoError(t, err)
	now := time.Now()
	due := func(at time.Time) {
		var group sync.WaitGroup
		for _, a := range servers {
			group.Go(func() { require.NoError(t, a.Auditing.MakeDue(ctx, at)) })
		}
		group.Wait()
	}
	due(now)
	made, err := a.Store.EvidenceMade(ctx)
	require.NoError(t, err)
	require.Empty(t, made, "no period has ended since it was asked for")
	_, next := auditing.LastPeriod("month", now.AddDate(0, 1, 0))
	due(next.Add(30 * time.Minute))
	made, err = a.Store.EvidenceMade(ctx)
	require.NoError(t, err)
	require.Empty(t, made, "its last traffic may still come")
	for range 2 {
		due(next.Add(90 * time.Minute))
	}
	made, err = a.Store.EvidenceMade(ctx)
	require.NoError(t, err)
	require.Len(t, made, 1)
	require.Equal(t, good, *made[0].Schedule)
	require.Equal(t, next, made[0].To.UTC())
	due(next.AddDate(0, 4, 0))
	all, err := a.Store.EvidenceSchedules(ctx)
	require.NoError(t, err)
	require.Contains(t, all[1].Problem, "does not know what is promised")
	require.Equal(t, bad, all[1].ID)
	require.Empty(t, all[0].Problem)
}
