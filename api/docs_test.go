package api_test

import (
	"os"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/api"
)

// The examples of docs/api.md do what they say: each command is run, and each
// line behind it is found in what it prints.
func TestTheExamplesOfTheAPI(t *testing.T) {
	text, err := os.ReadFile("../docs/api.md")
	require.NoError(t, err)
	c := serve(t)
	c.begin()
	ran := 0
	for _, block := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for _, part := range regexp.MustCompile(`(?m)^\$ `).Split(block[1], -1)[1:] {
			command, want, _ := strings.Cut(part, "\n")
			ran++
			c.runs(command, want)
		}
	}
	require.Greater(t, ran, 12)
	for _, kind := range regexp.MustCompile("`(/problems/[a-z-]+)`").FindAllStringSubmatch(string(text), -1) {
		require.Contains(t, api.ProblemTypes(), kind[1])
	}
	for _, kind := range api.ProblemTypes() {
		require.Contains(t, string(text), "| `"+kind+"` |", "the page tells of every type")
	}
}

// runs runs a command and finds lines in what it prints, in their order.
func (c client) runs(command, want string) {
	c.t.Helper()
	run := exec.Command("bash", "-c", command)
	run.Env = append(os.Environ(), "API="+c.base+api.Version)
	raw, err := run.CombinedOutput()
	require.NoError(c.t, err, "%s\n%s", command, raw)
	rest := strings.ReplaceAll(string(raw), "\r", "")
	for _, line := range strings.Split(strings.TrimSpace(want), "\n") {
		pattern := "(?s)" + strings.ReplaceAll(regexp.QuoteMeta(strings.TrimSpace(line)), "…", ".*?")
		at := regexp.MustCompile(pattern).FindStringIndex(rest)
		require.NotNil(c.t, at, "%s\nprinted\n%s\nin which is no\n%s", command, raw, line)
		rest = rest[at[1]:]
	}
}
