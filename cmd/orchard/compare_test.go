package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCheckAgainstAnotherPolicy(t *testing.T) {
	dir := t.TempDir()
	w := write(t, dir, "workloads.csv", "id,addresses,tag:env\na,10.0.0.1,live\nb,10.0.0.2,live\nc,10.0.0.3,trial\n")
	flows := write(t, dir, "flows.csv", "start,src,dst,proto,dport,outcome\n"+
		"2026-11-01T00:00:00Z,10.0.0.1,10.0.0.2,tcp,443,carried\n"+
		"2026-11-01T00:00:00Z,10.0.0.3,10.0.0.2,tcp,443,carried\n"+
		"2026-11-01T00:00:00Z,10.0.0.2,10.0.0.1,tcp,80,dropped\n"+
		"bad,,,,,\n")
	const head = "group live = env is live\ngroup trial = env is trial\nlayer l\n"
	before := write(t, dir, "before.orchard",
		head+"permit any -> live on tcp/443\nassert never trial -> live on any\n")
	after := write(t, dir, "after.orchard",
		head+"reject trial -> live on any\npermit live -> live on any\nassert never trial -> live on any\n")
	ask := func(args ...string) outcome {
		return orchard(t, "", append([]string{"check", "--workloads", w, "--policy", after, "--flows", flows,
			"--as-of", "2026-11-02T00:00:00Z", "--out", filepath.Join(dir, "out.csv")}, args...)...)
	}
	o := ask("--against", before, "--changes", filepath.Join(dir, "changes.csv"), "--summary",
		filepath.Join(dir, "sum.json"), "--fail-on", "newly-rejected>0", "--fail-on", "broken > 0", "--fail-on",
		"leaks>=1")
	require.Equal(t, 1, o.status, o.errors)
	require.Contains(t, o.errors, "failed: newly-rejected>0: it is 1")
	require.NotContains(t, o.errors, "failed: broken")
	require.Contains(t, o.errors, "failed: leaks>=1")
	text, err := os.ReadFile(filepath.Join(dir, "changes.csv"))
	require.NoError(t, err)
	require.Equal(t, "row,before,after,rule_before,rule_after\n2,permit,reject,4,4\n3,uncovered,permit,,5\n",
		string(text))
	var sum checkSummary
	text, err = os.ReadFile(filepath.Join(dir, "sum.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(text, &sum))
	require.Equal(t, map[string]map[string]int{"permit": {"permit": 1, "reject": 1, "uncovered": 0},
		"reject":    {"permit": 0, "reject": 0, "uncovered": 0},
		"uncovered": {"permit": 1, "reject": 0, "uncovered": 0}}, sum.Against.Counts)
	require.Equal(t, []string{"newly-rejected>0", "leaks>=1"}, sum.Against.Failed)
	require.Equal(t, 2, sum.Against.Measures["changed"])
	require.Equal(t, 1, sum.Against.Measures["chokes"])
	require.Zero(t, ask("--against", after, "--fail-on", "changed>0").status)
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--fail-on", "changed>0"}, "--against"},
		{[]string{"--against", before, "--fail-on", "surprise>0"}, "expected one of newly-permitted"},
		{[]string{"--against", before, "--fail-on", "changed>many"}, "such as newly-rejected>0"},
		{[]string{"--against", before, "--fail-on", "changed"}, "such as newly-rejected>0"},
		{[]string{"--against", filepath.Join(dir, "none.orchard")}, "none.orchard"},
	} {
		o := ask(c.args...)
		require.Equal(t, 2, o.status)
		require.Contains(t, o.errors, c.want)
	}
}

func TestWithoutArguments(t *testing.T) {
	o := orchard(t, "")
	require.Equal(t, 2, o.status)
	require.Empty(t, o.out)
	require.Contains(t, o.errors, "Usage:")
	require.Contains(t, o.errors, "check")
	require.Equal(t, 0, orchard(t, "", "--help").status)
	require.Equal(t, 2, orchard(t, "", "nonsense").status)
}

// Files that are not ours are read with the forms that the interface saves.
func TestForeignFilesWithForms(t *testing.T) {
	dir := t.TempDir()
	w := write(t, dir, "w.csv",
		"Stand: heute\r\nRechner;IP-Adresse;Umgebung\r\nfe-1;10.0.0.1;live\r\nfe-2;10.0.0.2/24;live\r\n")
	f := write(t, dir, "f.csv", "Zeit;Quelle;Ziel;Protokoll;Zielport;Aktion\n"+
		"20.11.2026 00:00:34;10.0.0.1;10.0.0.2;TCP;443;erlaubt\n20.11.2026 00:00:34;10.0.0.1;10.0.0.2;TCP;22;nanu\n")
	p := write(t, dir, "p.orchard", "group live = env is live\nlayer l\npermit live -> live on tcp/443\n")
	args := []string{"check", "--workloads", w, "--policy", p, "--flows", f}
	require.Equal(t, 2, orchard(t, "", args...).status, "they are not ours")
	args = append(args, "--map", write(t, dir, "w.json", `{"kind": "workloads"}`), "--map",
		write(t, dir, "f.json", `{"kind": "flows", "outcomes": {"nanu": "unknown"}, "zone": "Europe/Oslo"}`))
	o := orchard(t, "", args...)
	require.Equal(t, 0, o.status, o.errors)
	require.Equal(t, "row,verdict,rule\n1,permit,3\n2,uncovered,\n", o.out)
	for text, want := range map[string]string{
		`{"kind": "cars"}`: `kind: found "cars"`, `{"kind": "flows", "colour": 1}`: `unknown field "colour"`,
		`{"kind": "flows", "zone": "Mars"}`: `zone: found "Mars"`,
	} {
		o := orchard(t, "", append(args[:7:7], "--map", write(t, dir, "bad.json", text))...)
		require.Equal(t, 2, o.status)
		require.Contains(t, o.errors, want)
	}
	// What the interface exports needs none.
	f = write(t, dir, "conversations.csv",
		"client,client_address,server,server_address,service,verdict,rule,connections,"+
			"bytes,carried,dropped,first,last\nfe-1,10.0.0.1,fe-2,10.0.0.2,tcp/443,permit,3,9,1,9,0,2026-11-20T00:00:00Z,"+
			"2026-11-20T01:00:00Z\nfe-1,10.0.0.1,fe-2,10.0.0.2,tcp/443,permit,3,9,1,5,4,2026-11-20T00:00:00Z,"+
			"2026-11-20T01:00:00Z\n")
	o = orchard(t, "", "check", "--workloads", write(t, dir, "own.csv",
		"id,addresses,tag:env\na,10.0.0.1,live\nb,10.0.0.2,live\n"),
		"--policy", p, "--flows", f)
	require.Equal(t, "row,verdict,rule\n1,permit,3\n2,permit,3\n2,permit,3\n", o.out,
		"the dropped part is one by itself")
}
