package main

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

const planWorkloads = `id,name,addresses,from,until,tag:tier
e1,e1,10.0.0.1,,,entry
e2,e2,10.0.0.2 fd00::2,,,entry
s1,s1,10.0.0.9 fd00::9,,,store
u1,u1,10.0.0.20,,,
n1,n1,,,,store
`

const planPolicy = `group entry = tier is entry
group store = tier is store
layer allowances
permit entry -> store on tcp/5432 until 2030-01-31
reject any -> store on any log "the rest"
`

func planFiles(t *testing.T) (workloads, policy, out string) {
	dir := t.TempDir()
	workloads, policy, out = filepath.Join(dir, "w.csv"), filepath.Join(dir, "p.orchard"), filepath.Join(dir, "out")
	require.NoError(t, os.WriteFile(workloads, []byte(planWorkloads), 0o600))
	require.NoError(t, os.WriteFile(policy, []byte(planPolicy), 0o600))
	return workloads, policy, out
}

func TestPlanIsLoadedByNft(t *testing.T) {
	w, p, out := planFiles(t)
	t.Setenv("PATH", os.Getenv("PATH")+":/usr/sbin:/sbin")
	for _, kind := range []string{"host", "gate"} {
		for _, side := range []string{"server", "client", "both"} {
			for _, mode := range []string{"observe", "enforce"} {
				require.Equal(t, 0, run([]string{"plan", "--workloads", w, "--policy", p, "--guards", "tier is store",
					"--kind", kind, "--side", side, "--mode", mode, "--out", out}))
				if os.Geteuid() == 0 {
					text, err := exec.Command("nft", "-c", "-f", out).CombinedOutput()
					require.NoError(t, err, "%s", text)
				}
			}
		}
	}
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	require.Contains(t, string(text), "meta time < 1896134400 ip saddr @")
	require.Contains(t, string(text), "10.0.0.1-10.0.0.2")
	require.Contains(t, string(text), `drop comment "line 5 reject"`)
}

func TestPlanSaysWhatAFormatCannot(t *testing.T) {
	w, p, out := planFiles(t)
	args := []string{"plan", "--workloads", w, "--policy", p, "--guards", "member of store", "--out", out, "--format"}
	require.Equal(t, 0, run(append(args, "json")))
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	var made struct {
		Classes []struct {
			Workloads []string
			Server    []struct {
				Line  int
				Until int64
			}
		}
	}
	require.NoError(t, json.Unmarshal(text, &made))
	require.Equal(t, []string{"s1"}, made.Classes[0].Workloads)
	require.Equal(t, 4, made.Classes[0].Server[0].Line)
	for _, format := range []string{"acl", "k8s"} {
		require.Equal(t, 1, run(append(args, format)))
		text, err := os.ReadFile(out)
		require.NoError(t, err)
		require.True(t, json.Valid(text))
		require.Equal(t, 2, run(append(args, format, "--mode", "observe")))
	}
	plain := filepath.Join(t.TempDir(), "plain.orchard")
	require.NoError(t, os.WriteFile(plain,
		[]byte("group store = tier is store\nlayer l\nreject any -> store on tcp/5432\n"), 0o600))
	for _, format := range []string{"acl", "k8s"} {
		require.Equal(t, 0, run([]string{"plan", "--workloads", w, "--policy", plain, "--guards", "tier is store",
			"--out", out, "--format",
			format}), "only notes about %s as such", format)
	}
}

func TestPlanRefusesWhatCannotBe(t *testing.T) {
	w, p, out := planFiles(t)
	for _, more := range [][]string{
		{"--guards", "tier is bus"}, {"--guards", "tier is"}, {"--guards", "member of nobody"},
		{"--guards", "tier is store", "--kind", "switch"}, {"--guards", "tier is store", "--side", "left"},
		{"--guards", "tier is store", "--mode", "off"}, {"--guards", "tier is store", "--format", "pdf"}, {},
	} {
		require.Equal(t, 2, run(append([]string{"plan", "--workloads", w, "--policy", p, "--out", out}, more...)), more)
		require.NoFileExists(t, out)
	}
}
