package assembly_test

import (
	"os"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly/assemblytest"
	"lucidorchard/server"
)

// The examples of docs/api.md do what they say: each command is run, and each
// line behind it is found in what it prints.
func TestTheExamplesOfTheAPI(t *testing.T) {
	text, err := os.ReadFile("../docs/api.md")
	require.NoError(t, err)
	c := assemblytest.Serve(t)
	c.Begin()
	ran := 0
	for _, block := range regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for _, part := range regexp.MustCompile(`(?m)^\$ `).Split(block[1], -1)[1:] {
			command, want, _ := strings.Cut(part, "\n")
			ran++
			c.Runs(command, want)
		}
	}
	require.Greater(t, ran, 12)
	for _, kind := range regexp.MustCompile("`(/problems/[a-z-]+)`").FindAllStringSubmatch(string(text), -1) {
		require.Contains(t, server.ProblemTypes(), kind[1])
	}
	for _, kind := range server.ProblemTypes() {
		require.Contains(t, string(text), "| `"+kind+"` |", "the page tells of every type")
	}
}
