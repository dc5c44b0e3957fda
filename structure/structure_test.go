// Package structure holds the arrows between packages, the layout that the README shows and
// the comments of packages against the tree.
package structure

import (
	"go/build"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const module = "lucidorchard/"

// steps are what people do. Each has its use cases; sql/ keeps what is its own.
var steps = []string{"traffic", "releasing", "watching"}

// arrow is what a package and those below it may not depend on.
type arrow struct {
	from string // a package, or a folder with all packages in it if it ends with /
	not  []string
	why  string
}

func arrows() []arrow {
	out := []arrow{
		{from: "core/", not: []string{"database", "net/http", "database/sql", "os/exec", "log/slog", "model", "store", "app", "api"},
			why: "the computation knows no HTTP, SQL, files or logging"},
		{from: "database", not: append([]string{"model", "store", "app", "api"}, steps...), why: "the database knows no table's meaning"},
		{from: "model", not: append([]string{"store", "app", "api"}, steps...), why: "the model says itself what it needs of a store"},
		{from: "ledger", not: []string{"store", "app", "api"}, why: "a filter is read from text and a model"},
		{from: "jobs/", not: []string{"model", "store", "app", "api"}, why: "jobs do not know what the work is"},
		{from: "events", not: []string{"model", "store", "app", "api"}, why: "events do not know what has changed"},
		{from: "store", not: []string{"app", "api", "net/http/httptest"}, why: "tables know no use cases"},
		{from: "app", not: []string{"api"}, why: "use cases know no HTTP"},
	}
	for _, s := range steps {
		out = append(out, arrow{from: s, not: []string{"store", "app", "api"}, why: "a step says itself what it needs of a store"},
			arrow{from: s + "/sql", not: []string{"store", "app", "api"}, why: "the tables of a step are its own"})
		for _, other := range steps {
			if other != s {
				out = append(out, arrow{from: s + "/sql", not: []string{other + "/sql"}, why: "a step reaches another one's tables only through its use cases"})
			}
		}
	}
	return out
}

func list(t *testing.T, args ...string) []string {
	cmd := exec.Command("go", append([]string{"list"}, args...)...)
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	return strings.Fields(string(out))
}

func TestArrows(t *testing.T) {
	all := list(t, "./...")
	for _, a := range arrows() {
		found := false
		for _, p := range all {
			path := strings.TrimPrefix(p, module)
			if path != a.from && (!strings.HasSuffix(a.from, "/") || !strings.HasPrefix(path+"/", a.from)) {
				continue
			}
			found = true
			deps := list(t, "-deps", p)
			for _, not := range a.not {
				for _, d := range []string{not, module + not} {
					assert.NotContains(t, deps, d, "%s: %s", path, a.why)
				}
			}
		}
		assert.True(t, found, "there is no package %s", a.from)
	}
}

// The computation imports nothing of the project but itself.
func TestTheComputationStandsAlone(t *testing.T) {
	for _, d := range list(t, "-deps", "./core/...") {
		if strings.HasPrefix(d, module) {
			assert.True(t, strings.HasPrefix(d, module+"core/"), d)
		}
	}
}

// Use cases of a step speak to tables through an interface of their own.
func TestUseCasesNameNoTables(t *testing.T) {
	for _, s := range steps {
		p, err := build.ImportDir(filepath.Join("..", s), 0)
		require.NoError(t, err)
		for _, im := range p.Imports {
			assert.NotContains(t, []string{"net/http", "database/sql", "github.com/jmoiron/sqlx", "github.com/jackc/pgx/v5"}, im, s)
			assert.False(t, strings.HasSuffix(im, "/sql") && strings.HasPrefix(im, module), "%s imports %s", s, im)
		}
	}
}

// Every package says what it is for, in one place.
func TestPackagesSayWhatTheyAreFor(t *testing.T) {
	for _, path := range list(t, "-f", "{{.Dir}}", "./...") {
		p, err := build.ImportDir(path, build.ImportComment)
		require.NoError(t, err)
		if len(p.GoFiles) == 0 {
			continue
		}
		want := "Package " + p.Name
		if p.Name == "main" {
			want = "Command "
		}
		assert.True(t, strings.HasPrefix(p.Doc, want), "%s: the comment of the package begins with %q", path, p.Doc)
	}
}

// The layout in the README has every folder with Go code, and no other.
func TestTheReadmeShowsTheTree(t *testing.T) {
	text, err := os.ReadFile("../README.md")
	require.NoError(t, err)
	_, layout, found := strings.Cut(string(text), "## How the repository is laid out")
	require.True(t, found)
	_, layout, _ = strings.Cut(layout, "```\n")
	layout, _, _ = strings.Cut(layout, "```")
	var shown []string
	folder := regexp.MustCompile(`^( *)([a-z0-9]+/(?:[a-z0-9]+/)?)`)
	parent := ""
	for line := range strings.Lines(layout) {
		m := folder.FindStringSubmatch(line)
		if m == nil {
			continue
		}
		if m[1] == "" {
			parent = m[2]
			shown = append(shown, strings.TrimSuffix(parent, "/"))
		} else {
			shown = append(shown, parent+strings.TrimSuffix(m[2], "/"))
		}
	}
	for _, p := range list(t, "./...") {
		path := strings.TrimPrefix(p, module)
		inside := slices.ContainsFunc(shown, func(s string) bool {
			return path == s || strings.HasPrefix(path, s+"/") && s != "core"
		})
		assert.True(t, inside, "the README does not show %s", path)
	}
	for _, s := range shown {
		assert.DirExists(t, filepath.Join("..", s), "the README shows it")
	}
}
