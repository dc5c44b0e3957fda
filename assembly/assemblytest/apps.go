package assemblytest

import (
	"context"
	"io"
	"log/slog"
	"net/netip"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/database/databasetest"
	"lucidorchard/notify"
)

// Nearby lets messages go to this machine, where the receivers of tests are.
var Nearby = notify.Reach{Allow: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}

// Fresh returns a database of the test's own.
func Fresh(t *testing.T) (*assembly.Store, *pgx.Conn) {
	ctx := t.Context()
	url := databasetest.Database(t)
	s, err := assembly.Open(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	conn, err := pgx.Connect(ctx, url)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.WithoutCancel(ctx)) })
	return s, conn
}

func Open(t testing.TB) *assembly.Store {
	db, err := assembly.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	return db
}

var NoLog = slog.New(slog.NewTextHandler(io.Discard, nil))

// Running returns an App and how to end it.
func Running(t testing.TB, db *assembly.Store, name string) (*assembly.App, func()) {
	ctx, cancel := context.WithCancel(context.Background())
	a := assembly.New(ctx, assembly.Options{Store: db, Author: "me", Name: name, Log: NoLog, Reach: Nearby})
	end := func() { cancel(); a.Wait() }
	t.Cleanup(end)
	return a, end
}
