package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// A job releases a policy and follows it until it has arrived; run again it changes
// nothing; what a wave waits for it waits for as well, and says so; what it may not do
// it is told.
func TestAJobReleasesAPolicy(t *testing.T) {
	r := serving(t, scratch(t), "--demo", "--live=false", "--drift", "1h")
	dir := t.TempDir()
	file := func(name, text string) string {
		path := filepath.Join(dir, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		return path
	}
	token := func(body string) string {
		var made struct{ Secret string }
		require.NoError(t, json.Unmarshal([]byte(r.send("POST", "/api/v1/tokens", "application/json", body)), &made))
		return file("token", made.Secret+"\n")
	}
	policy := file("policy.orchard", r.get("/api/v1/policy.orchard"))
	release := func(token, policy string, more ...string) int {
		return run(append([]string{"release", "--server", r.base, "--token-file", token, "--policy", policy, "--title",
			"From the job", "--timeout", "3s"}, more...))
	}
	feeds := token(`{"name":"list","source":"list"}`)
	require.Equal(t, 1, release(feeds, policy), "its token feeds a source")
	may := token(`{"name":"nightly","releases":true}`)
	require.Equal(t, 2, release(may, file("broken", "permit")), "what cannot be read is not released")
	require.Equal(t, 2, release(file("none", "nobody\n"), policy))
	require.Equal(t, 2, release(may, filepath.Join(dir, "missing")))
	require.Contains(t, r.get("/api/v1/rollout"), `"releases":[]`)

	require.Equal(t, 0, release(may, policy, "--wait"))
	require.Equal(t, 0, release(may, policy, "--wait"), "once more is nothing new")
	out := r.get("/api/v1/rollout")
	require.Equal(t, 1, strings.Count(out, `"title":"From the job"`))
	require.Contains(t, r.get("/api/v1/points/bench-gate/history"), "release 1 observed")
	require.Equal(t, 1, release(may, policy, "--enforce", "--wait"), "an assertion of the demo does not hold")
	r.send("PUT", "/api/v1/rollout/waves/1", "application/json",
		`{"asserts":false,"probes":true,"wayBack":true,"settled":true}`)
	require.Equal(t, 0, release(may, policy, "--enforce", "--wait"))
	require.Contains(t, r.get("/api/v1/points/bench-gate/history"), "by the job nightly")
	next := file("next.orchard", r.get("/api/v1/policy.orchard")+"\nlayer last\nreject outside -> trial on any\n")
	require.Equal(t, 1, release(may, next), "release 1 is still being rolled out")
	require.Equal(t, 0, release(may, next, "--instead", "--wait"))
	require.Contains(t, r.get("/api/v1/policy.orchard"), "reject outside -> trial")
	require.Contains(t, r.get("/api/v1/policy/revisions"), "Policy of the job nightly")
}
