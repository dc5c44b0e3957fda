// Package structure holds the arrows between packages, the layout that the README shows and
// the comments of packages against the tree.
package structure

import (
	"go/ast"
	"go/build"
	"go/parser"
	"go/token"
	"io/fs"
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

// steps are what people do. Each has its use cases; rest/ answers over HTTP, sql/ keeps what is
// its own.
var steps = []string{"inventory", "grouping", "traffic", "drafting", "checking", "releasing", "watching", "auditing",
	"transfer"}

// across are the tables that read what several steps keep, in one transaction, and write
// nothing of it but what they restore.
var across = []string{"model/sql", "auditing/sql", "transfer/sql"}

// shared is the ground under the steps, the lower first: nothing of it knows a step.
var shared = []string{"refuse", "database", "events", "disk", "jobs", "jobs/sql", "history", "history/sql", "settings",
	"model", "ledger",
	"consequences", "imports", "step"}

// arrow is what a package, with all that it depends on, may not know.
type arrow struct {
	from string
	not  []string
	why  string
}

func under(folder string) (out []string) {
	for _, s := range steps {
		out = append(out, s+"/"+folder)
	}
	return out
}

func arrows() []arrow {
	above := []string{"server", "answers", "assembly"}
	useCases := slices.DeleteFunc(slices.Clone(steps), func(s string) bool { return s == "checking" })
	out := []arrow{
		{"answers", slices.Concat(under("rest"), under("sql"), []string{"assembly"}),
			"what answers share knows no single step's answers"},
		{"server", slices.Concat(useCases, under("rest"), under("sql"), []string{"answers", "assembly"}),
			"the server knows no step"},
	}
	for _, s := range shared {
		out = append(out, arrow{s, slices.Concat(useCases, under("rest"), under("sql"), above),
			"shared ground knows no step"})
	}
	for _, s := range steps {
		others := func(folder string) []string {
			return slices.DeleteFunc(under(folder), func(o string) bool { return o == s+"/"+folder })
		}
		if s != "checking" {
			out = append(out, arrow{s, slices.Concat(under("rest"), under("sql"), above),
				"use cases know neither HTTP nor SQL"})
		}
		out = append(out, arrow{s + "/rest", slices.Concat(others("rest"), under("sql"), []string{"assembly"}),
			"handlers reach the store only through use cases"})
		if !slices.Contains(across, s+"/sql") {
			out = append(out, arrow{s + "/sql", slices.Concat(others("sql"), under("rest"), above),
				"a step reaches another one's tables only through its use cases"})
		}
	}
	return out
}

func lines(t *testing.T, args ...string) []string {
	cmd := exec.Command("go", append([]string{"list"}, args...)...)
	cmd.Dir = ".."
	out, err := cmd.Output()
	require.NoError(t, err)
	return strings.Split(strings.TrimSpace(string(out)), "\n")
}

func list(t *testing.T, args ...string) []string {
	return strings.Fields(strings.Join(lines(t, args...), "\n"))
}

func TestArrows(t *testing.T) {
	all := list(t, "./...")
	for _, a := range arrows() {
		if !slices.Contains(all, module+a.from) {
			assert.True(t, strings.HasSuffix(a.from, "/sql"), "there is no package %s",
				a.from) // not every step has tables
			continue
		}
		deps := list(t, "-deps", "./"+a.from)
		for _, not := range a.not {
			assert.False(t, slices.Contains(deps, module+not), "%s depends on %s: %s", a.from, not, a.why)
		}
	}
}

// Only what starts the whole program knows how it is put together.
func TestTheProgramIsPutTogetherInOnePlace(t *testing.T) {
	for _, line := range lines(t, "-f", `{{.ImportPath}} {{join .Imports " "}}`, "./...") {
		path, imports, _ := strings.Cut(strings.TrimPrefix(line, module), " ")
		if slices.Contains(strings.Fields(imports), module+"assembly") {
			assert.Contains(t, []string{"cmd/orchard", "demo", "assembly/assemblytest"}, path, "it imports assembly")
		}
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

// Use cases speak to tables through an interface of their own, and handlers through use cases.
func TestUseCasesNameNoTables(t *testing.T) {
	libraries := []string{"database/sql", "github.com/jmoiron/sqlx", "github.com/jackc/pgx/v5"}
	web := []string{"net/http", "github.com/danielgtaylor/huma/v2", "github.com/go-chi/chi/v5"}
	for _, s := range steps {
		for folder, not := range map[string][]string{s: slices.Concat(libraries, web), s + "/rest": libraries, s +
			"/sql": web} {
			p, err := build.ImportDir(filepath.Join("..", folder), 0)
			if err != nil || len(p.GoFiles) == 0 { // checking has no use cases beside the core's, grouping no tables
				continue
			}
			for _, im := range p.Imports {
				assert.NotContains(t, not, im, folder)
			}
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

// The comment of what is exported begins with its name, so that it can be looked up.
func TestCommentsBeginWithTheName(t *testing.T) {
	sources(t, func(path string, text []byte) {
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, text, parser.ParseComments)
		require.NoError(t, err)
		check := func(name *ast.Ident, doc *ast.CommentGroup) {
			if name.IsExported() && doc != nil && !strings.HasPrefix(doc.Text(), "Deprecated") {
				first, _, _ := strings.Cut(strings.TrimSpace(doc.Text()), " ")
				assert.Equal(t, name.Name, strings.TrimRight(first, ",:;"), "%s:%d", path, set.Position(name.Pos()).Line)
			}
		}
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				check(d.Name, d.Doc)
			case *ast.GenDecl:
				if len(d.Specs) == 1 && !d.Lparen.IsValid() {
					if s, ok := d.Specs[0].(*ast.TypeSpec); ok {
						check(s.Name, d.Doc)
					}
				}
			}
		}
	})
}

// Comments say what a function does in the words that people search for.
func TestCommentsUseTheUsualVerbs(t *testing.T) {
	wrong := regexp.MustCompile(`(?m)^\s*// (?:\w+\.)?\w+ (?:gives|tells (?:whether|if|how|of)|says (?:whether|if|how|why)) `)
	read := 0
	sources(t, func(path string, text []byte) {
		read++
		for _, m := range wrong.FindAll(text, -1) {
			t.Errorf("%s: %q: write returns, reports or describes", path, strings.TrimSpace(string(m)))
		}
	})
	require.Greater(t, read, 300)
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

// In the interface no file imports another one that, by whatever way, imports it.
func TestTheInterfaceHasNoCircles(t *testing.T) {
	imported := regexp.MustCompile(`(?:from|import)\s*\(?\s*["'](\.[^"']+)["']`)
	root := "../web/src"
	graph := map[string][]string{}
	require.NoError(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".ts") && !strings.HasSuffix(path, ".tsx") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range imported.FindAllSubmatch(text, -1) {
			to := filepath.Join(filepath.Dir(path), string(m[1]))
			for _, end := range []string{".ts", ".tsx"} {
				if _, err := os.Stat(to + end); err == nil {
					graph[path] = append(graph[path], to+end)
				}
			}
		}
		return err
	}))
	require.Greater(t, len(graph), 50)
	done := map[string]bool{}
	var visit func(path []string)
	visit = func(path []string) {
		at := path[len(path)-1]
		for _, to := range graph[at] {
			if i := slices.Index(path, to); i >= 0 {
				t.Errorf("a circle of imports: %s", strings.Join(append(path[i:], to), " → "))
			} else if !done[to] {
				visit(append(slices.Clone(path), to))
			}
		}
		done[at] = true
	}
	for at := range graph {
		if !done[at] {
			visit([]string{at})
		}
	}
}
