package ingest

import (
	"fmt"
	"io"
	"slices"
	"strings"
)

// Mapping says which column of a workloads file a foreign heading is: id, name,
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

// usual are headings that people give to columns.
var usual = map[string][]string{
	"id": {"id", "uuid", "asset", "asset id", "asset tag", "inventory number", "serial", "machine id",
		"vm id"},
	"name": {"name", "host", "hostname", "host name", "server", "server name", "machine", "machine name", "vm",
		"vm name", "fqdn", "dns name"},
	"addresses": {"addresses", "address", "ip", "ips", "ip address", "ip addresses", "ipv4", "ipv6", "ipv4 address",
		"ipv6 address", "primary ip"},
	"os":        {"os", "operating system", "platform"},
	"kind":      {"kind", "type", "machine type", "hardware"},
	"from":      {"from", "since", "valid from", "start"},
	"until":     {"until", "valid until", "valid to", "end"},
	"tag:app":   {"app", "application", "service", "system"},
	"tag:tier":  {"tier", "role", "layer", "function"},
	"tag:env":   {"env", "environment", "stage"},
	"tag:site":  {"site", "location", "data centre", "datacentre", "data center", "datacenter", "dc"},
	"tag:owner": {"owner", "team", "responsible", "contact"},
}

// Guess maps headings by what they are usually called: each column once, the
// better word first. Without an id, the name is the id.
func Guess(headings []string) Mapping {
	m, taken := guess(headings, append(slices.Clone(columns), "tag:app", "tag:tier", "tag:env", "tag:site",
		"tag:owner"), usual, "addresses")
	if !taken["id"] {
		for _, h := range headings {
			if m[h] == "name" {
				m[h] = "id"
			}
		}
	}
	return m
}

// longestHeading is of a heading that may be a usual one.
const longestHeading = 100

func guess(headings, columns []string, usual map[string][]string, many string) (m Mapping, taken map[string]bool) {
	plain := make([]string, len(headings))
	for i, h := range headings {
		if len(h) <= longestHeading {
			plain[i] = strings.Join(strings.FieldsFunc(strings.ToLower(h),
				func(r rune) bool { return strings.ContainsRune(" _-.:", r) }), " ")
		}
	}
	m, taken = Mapping{}, map[string]bool{}
	for _, h := range headings {
		if key, isTag := strings.CutPrefix(h, "tag:"); slices.Contains(columns, h) || isTag && key != "" &&
			many != "" {
			m[h], taken[h] = h, true
		}
	}
	for _, to := range columns {
		for _, word := range usual[to] {
			for i, h := range headings {
				if _, done := m[h]; !done && plain[i] == word && (!taken[to] || to == many) {
					m[h], taken[to] = to, true
				}
			}
		}
	}
	for _, h := range headings {
		if _, done := m[h]; !done {
			m[h] = ""
		}
	}
	return m, taken
}

// Head gives the headings of a CSV file and its first rows; rows that cannot be
// read are passed over.
func Head(in io.Reader, rows int) (headings []string, first [][]string, err error) {
	t, err := newTable(in)
	if err != nil {
		return nil, nil, err
	}
	first = [][]string{}
	for range 10 * rows {
		cells, err := t.next()
		if err == io.EOF || len(first) == rows {
			break
		}
		if err == nil {
			first = append(first, slices.Clone(cells))
		}
	}
	return t.header, first, nil
}
