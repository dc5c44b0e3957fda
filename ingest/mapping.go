package ingest

import (
	"fmt"
	"slices"
	"strings"
)

// Mapping maps foreign headings to columns of a workloads file: id, name,
// addresses, os, kind, from, until, tag: and a key; or nothing, to leave it out.
type Mapping map[string]string

// columns are those that are no tags.
var columns = []string{"id", "name", "addresses", "os", "kind", "from", "until"}

// apply renames the header of a table. tags allows tag: and a key beside the
// columns; several headings may be the one that is called many.
func (m Mapping) apply(t *table, columns []string, tags bool, many string) error {
	if len(m) == 0 {
		return nil
	}
	from := map[string]string{}
	for i, heading := range t.header {
		to, ok := m[heading]
		if !ok {
			continue
		}
		key, isTag := strings.CutPrefix(to, "tag:")
		if to != "" && !slices.Contains(columns, to) && (!tags || !isTag || key == "") {
			expected := strings.Join(columns, ", ")
			if tags {
				expected += ", tag: and a key"
			}
			return errHeader{RowError{Line: 1, Column: heading,
				Reason: fmt.Sprintf("is to be read as %q, expected %s, or nothing", to, expected)}}
		}
		if have := from[to]; have != "" && to != many {
			return errHeader{RowError{Line: 1, Column: heading,
				Reason: fmt.Sprintf("is to be read as %q, and so is %q; expected one of them", to, have)}}
		}
		if to != "" {
			from[to] = heading
		}
		t.header[i] = to
	}
	return nil
}
