// Package storetest gives tests a PostgreSQL of their own.
package storetest

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/store"
)

var cluster *store.Cluster

// Main runs the tests of a package with a scratch cluster: for its TestMain.
func Main(m *testing.M) {
	dir, err := os.MkdirTemp("", "orchard-test-")
	if err == nil {
		err = os.Chmod(dir, 0o755) // the user postgres has to enter it
	}
	if err == nil {
		cluster, err = store.StartCluster(context.Background(), dir+"/data", true)
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
	admin, err := store.Open(t.Context(), cluster.URL)
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
