package structure

import (
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Bounds of what one has to read at once. Tests are stories, and may have longer functions.
const (
	mostLines     = 500 // of a file
	mostOfAFunc   = 80  // lines
	mostMethods   = 40  // of a type
	mostNames     = 60  // of a package, beside its types
	mostColumns   = 120 // with tabs of four
	tolerateLines = 240 // lines with a text or a tag that cannot be broken
)

// sources calls f with each Go file of the project.
func sources(t *testing.T, f func(path string, text []byte)) {
	require.NoError(t, filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git" || d.Name() == "var") {
			return filepath.SkipDir
		}
		if err != nil || !strings.HasSuffix(path, ".go") {
			return err
		}
		text, err := os.ReadFile(path)
		f(path, text)
		return err
	}))
}

func TestWhatIsReadAtOnceIsBounded(t *testing.T) {
	names, methods := map[string]int{}, map[string]int{}
	sources(t, func(path string, text []byte) {
		assert.LessOrEqual(t, bytes.Count(text, []byte("\n")), mostLines, path)
		if strings.HasSuffix(path, "_test.go") {
			return
		}
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, path, text, 0)
		require.NoError(t, err)
		dir := filepath.Dir(path)
		for _, d := range f.Decls {
			switch d := d.(type) {
			case *ast.FuncDecl:
				lines := set.Position(d.End()).Line - set.Position(d.Pos()).Line + 1
				assert.LessOrEqual(t, lines, mostOfAFunc, "%s: %s", path, d.Name.Name)
				if d.Recv != nil {
					methods[dir+"."+receiver(d)]++
				} else if d.Name.IsExported() {
					names[dir]++
				}
			case *ast.GenDecl:
				for _, s := range d.Specs {
					if v, ok := s.(*ast.ValueSpec); ok {
						for _, n := range v.Names {
							if n.IsExported() {
								names[dir]++
							}
						}
					}
				}
			}
		}
	})
	for of, n := range methods {
		assert.LessOrEqual(t, n, mostMethods, "methods of %s", of)
	}
	for of, n := range names {
		assert.LessOrEqual(t, n, mostNames, "exported names of %s", of)
	}
}

func receiver(d *ast.FuncDecl) string {
	x := d.Recv.List[0].Type
	if s, ok := x.(*ast.StarExpr); ok {
		x = s.X
	}
	if i, ok := x.(*ast.IndexExpr); ok {
		x = i.X
	}
	if id, ok := x.(*ast.Ident); ok {
		return id.Name
	}
	return ""
}

// Long lines are those that cannot be broken; there are not to be more of them.
func TestLinesFit(t *testing.T) {
	long := 0
	sources(t, func(_ string, text []byte) {
		for line := range bytes.Lines(text) {
			if utf8.RuneCount(bytes.ReplaceAll(bytes.TrimRight(line, "\n"), []byte("\t"), []byte("    "))) > mostColumns {
				long++
			}
		}
	})
	assert.LessOrEqual(t, long, tolerateLines, "lines of more than %d columns", mostColumns)
}
