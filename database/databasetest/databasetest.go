// Package databasetest gives tests a PostgreSQL of their own.
package databasetest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"lucidorchard/database"
)

var cluster *database.Cluster

// Main runs the tests of a package with a scratch cluster: for its TestMain.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("", "orchard-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // the user postgres has to enter it
	}
	if err == nil {
		cluster, err = database.StartCluster(context.Background(), dir+"/data", true)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	cluster.Stop()
	os.RemoveAll(dir)
	os.Exit(code)
}

// Database makes an empty database and gives its URL.
func Database(t testing.TB) string {
	t.Helper()
	admin, err := database.Open(t.Context(), cluster.URL)
	require.NoError(t, err)
	defer admin.Close()
	name := fmt.Sprintf("test_%d_%d", os.Getpid(), next())
	require.NoError(t, admin.CreateDatabase(t.Context(), name))
	u, err := url.Parse(cluster.URL)
	require.NoError(t, err)
	u.Path = "/" + name
	return u.String()
}

var made int

func next() int {
	made++
	return made
}

// Away ends all connections to a database and lets none come until the function
// that it gives is called.
func Away(t testing.TB, database string) (back func()) {
	t.Helper()
	u, err := url.Parse(database)
	require.NoError(t, err)
	conn, err := pgx.Connect(t.Context(), cluster.URL)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close(context.Background()) })
	name := u.Path[1:]
	do := func(query string) {
		_, err := conn.Exec(t.Context(), query)
		require.NoError(t, err)
	}
	do(`ALTER DATABASE ` + name + ` ALLOW_CONNECTIONS false`)
	do(`SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = '` + name + `'`)
	return func() { do(`ALTER DATABASE ` + name + ` ALLOW_CONNECTIONS true`) }
}
