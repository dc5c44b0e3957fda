package rest_test

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	checkingrest "lucidorchard/checking/rest"
	"lucidorchard/demo"
	draftingrest "lucidorchard/drafting/rest"
	"lucidorchard/server"
	"lucidorchard/transfer"
)

type company struct {
	Name   string
	MadeUp bool
}

// look reads the figures of an estate.
func look(c assemblytest.Client) (s checkingrest.Summary) {
	c.Get("/api/v1/summary", &s)
	s.Example = "" // any conversation
	return s
}

// load loads the made-up company, and returns the figures of the estate.
func load(t *testing.T, c assemblytest.Client) checkingrest.Summary {
	var job server.Job
	require.Equal(t, 202, c.Call("POST", "/api/v1/company/made-up", nil, &job))
	require.Equal(t, 409, c.Call("POST", "/api/v1/company/made-up", nil, nil), "it is being loaded, or is loaded")
	done := c.Job(&job)
	require.Equal(t, "done", done.State, done.Message)
	require.Eventually(t, func() bool { return look(c).Conversations > 1000 }, 10*time.Second, 10*time.Millisecond)
	return look(c)
}

func TestTheMadeUpCompanyComesAndGoes(t *testing.T) {
	c := assemblytest.Empty(t)
	other := c.Second() // on the same database, with a state of its own
	first := load(t, c)
	require.Equal(t, "Saltmarsh Ferries", first.Estate)
	require.True(t, first.MadeUp)
	require.Greater(t, first.Workloads, 300)
	require.Greater(t, first.Rules, 10)
	require.Eventually(t, func() bool { return look(other) == first }, 10*time.Second, 10*time.Millisecond)

	var wrong assemblytest.Problem
	require.Equal(t, 409, c.Call("POST", "/api/v1/company/made-up", nil, &wrong))
	require.Contains(t, wrong.Detail, "the estate is not empty")

	// Somebody works in it, and removes it.
	c.Replace(look(c).Revision, "# nothing\n")
	require.Equal(t, 204, c.Call("DELETE", "/api/v1/company/made-up", nil, nil))
	for _, server := range []assemblytest.Client{c, other} {
		require.Zero(t, look(server).Workloads)
		// Traffic follows a moment later.
		require.Eventually(t, func() bool { return look(server).Conversations == 0 }, 10*time.Second, 10*time.Millisecond)
		s := look(server)
		require.Zero(t, s.Rules)
		require.Zero(t, s.Revision)
		require.False(t, s.MadeUp)
		require.Nil(t, s.Undo)
		var p draftingrest.PolicyOut
		server.Get("/api/v1/policy", &p)
		require.Empty(t, p.Text)
	}
	require.Equal(t, 409, c.Call("DELETE", "/api/v1/company/made-up", nil, &wrong))
	require.Contains(t, wrong.Detail, "not the made-up company")

	// Again, with a revision of the same number as before: every server has the new text.
	again := load(t, c)
	require.Equal(t, first.Workloads, again.Workloads)
	require.Equal(t, first.Rules, again.Rules)
	require.Eventually(t, func() bool { return look(other) == again }, 10*time.Second, 10*time.Millisecond)
}

func TestWhatUsersHaveAddedIsNotRemovedUnasked(t *testing.T) {
	c := assemblytest.Empty(t)
	before := load(t, c).Workloads
	require.Less(t, c.Send("/api/v1/imports/workloads?source=mine", "", "text/csv",
		"id,name,addresses\nmine-1,mine-1,192.0.2.77\n", nil), 300)
	require.Eventually(t, func() bool { return look(c).Workloads == before+1 }, 10*time.Second, 10*time.Millisecond)
	var company struct{ Added string }
	c.Get("/api/v1/company", &company)
	require.Equal(t, "1 workload", company.Added)
	var wrong assemblytest.Problem
	require.Equal(t, 409, c.Call("DELETE", "/api/v1/company/made-up", nil, &wrong))
	require.Equal(t, "users have added 1 workload to the made-up company, which would be deleted too; nothing was "+
		"deleted", wrong.Detail)
	require.Equal(t, before+1, look(c).Workloads)
	require.Equal(t, 204, c.Call("DELETE", "/api/v1/company/made-up?added=true", nil, nil))
	require.Zero(t, look(c).Workloads)
}

// What was loaded before the program was killed can be removed, and the company loaded again.
func TestACompanyThatWasLoadedInPartIsRemoved(t *testing.T) {
	c := assemblytest.Empty(t)
	ctx, kill := context.WithCancel(t.Context())
	_, err := transfer.Load(ctx, c.DB, demo.Options{End: time.Now(), Workloads: 150}, func(done float64, _ string) {
		if done >= 0.4 { // there are workloads, and neither traffic nor a policy
			kill()
		}
	})
	require.ErrorIs(t, err, context.Canceled)
	require.Eventually(t, func() bool { return look(c).Workloads > 100 }, 10*time.Second, 10*time.Millisecond)
	require.True(t, look(c).MadeUp)
	require.Equal(t, 204, c.Call("DELETE", "/api/v1/company/made-up", nil, nil))
	require.Zero(t, look(c).Workloads)
	require.Greater(t, load(t, c).Rules, 10)
}

func TestTheEstateHasAName(t *testing.T) {
	c := assemblytest.Empty(t)
	var is company
	c.Get("/api/v1/company", &is)
	require.Equal(t, company{}, is, "nobody has named it")
	require.Equal(t, 200, c.Call("PUT", "/api/v1/company", map[string]any{"name": "  North quay "}, &is))
	require.Equal(t, company{Name: "North quay"}, is)
	require.Equal(t, "North quay", look(c).Estate)
	require.Contains(t, c.Raw("/api/v1/report.md"), "North quay")
	for _, name := range []string{"", "   ", "two\nlines", string(make([]byte, 61))} {
		var wrong assemblytest.Problem
		require.Equal(t, 422, c.Call("PUT", "/api/v1/company", map[string]any{"name": name}, &wrong), "%q", name)
	}
	require.Equal(t, "North quay", look(c).Estate)
}
