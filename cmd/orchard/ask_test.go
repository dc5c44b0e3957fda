package main

import (
	"encoding/csv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAsk(t *testing.T) {
	dir := t.TempDir()
	w := write(t, dir, "w.csv", workloads)
	p := write(t, dir, "p.orchard",
		"group live = env is live\ngroup all = not outside\nlayer l\npermit live -> all on tcp/443\n")
	ask := func(questions string) outcome {
		return orchard(t, questions, "ask", "--workloads", w, "--policy", p, "--questions", "-", "--as-of",
			"2026-11-01T00:00:00Z")
	}
	got := ask("live -> w1 tcp/443 = permit  # so it shall stay\nall -> all tcp/443-444\n10.9.9.9 -> w1 tcp/443 = " +
		"uncovered\n")
	require.Zero(t, got.status, got.errors)
	rows, err := csv.NewReader(strings.NewReader(got.out)).ReadAll()
	require.NoError(t, err)
	require.Len(t, rows, 4)
	require.Equal(t, []string{"1", "live -> w1 tcp/443 = permit", "permit", "permit", "yes"}, rows[1][:5])
	require.Equal(t, []string{"several", "", ""}, rows[2][2:5])
	require.Equal(t, "uncovered", rows[3][2])

	got = ask("live -> w1 tcp/444 = permit\n")
	require.Equal(t, 1, got.status)
	require.Contains(t, got.errors, "1 answer is not as expected")
	require.Contains(t, got.out, ",no,")

	got = ask("live -> nobody tcp/444\n\nlive w1")
	require.Equal(t, 2, got.status)
	require.Contains(t, got.errors, "-:1:9: there is no group and no workload nobody")
	require.Contains(t, got.errors, "-:3:6: found w1, expected ->")
	require.Empty(t, got.out)
	require.Equal(t, 2, orchard(t, "", "ask", "--workloads", "-", "--policy", p, "--questions", "-").status)
}
