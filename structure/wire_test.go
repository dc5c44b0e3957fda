package structure

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A column of the database is renamed without a change to the API, and the other way round:
// what a row is read into is not what an answer is written from.
func TestRowsAndAnswersAreTypesOfTheirOwn(t *testing.T) {
	rows := 0
	sources(t, func(path string, text []byte) {
		f, err := parser.ParseFile(token.NewFileSet(), path, text, 0)
		require.NoError(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			s, ok := n.(*ast.StructType)
			if !ok {
				return true
			}
			db, wire := false, false
			for _, field := range s.Fields.List {
				if field.Tag == nil {
					continue
				}
				tag := reflect.StructTag(strings.Trim(field.Tag.Value, "`"))
				_, column := tag.Lookup("db")
				_, key := tag.Lookup("json")
				_, described := tag.Lookup("doc")
				db, wire = db || column, wire || key || described
			}
			if db {
				rows++
				assert.False(t, wire, "%s: a type with db tags has json or doc tags too; answers have their own", path)
				assert.NotEqual(t, "rest", filepath.Base(filepath.Dir(path)), "%s: an answer has db tags", path)
			}
			return true
		})
	})
	assert.Greater(t, rows, 20)
}
