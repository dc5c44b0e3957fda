package ingest

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"lucidorchard/core/estate"
)

// WorkloadJSON is a workload as scripts write it.
type WorkloadJSON struct {
	ID        string            `json:"id" minLength:"1" doc:"What the source knows it by"`
	Name      string            `json:"name,omitempty"`
	OS        string            `json:"os,omitempty"`
	Kind      string            `json:"kind,omitempty"`
	Addresses []string          `json:"addresses,omitempty" doc:"Its current addresses"`
	Leases    []leaseJSON       `json:"leases,omitempty" doc:"Addresses with spans of time"`
	Tags      map[string]string `json:"tags,omitempty" doc:"All tags that the source has for it"`
}

// leaseJSON is an address for a span of time.
type leaseJSON struct {
	Addr  string `json:"addr"`
	From  string `json:"from,omitempty" doc:"RFC 3339; without it, nobody knows"`
	Until string `json:"until,omitempty" doc:"RFC 3339; without it, still"`
}

// workload checks what a script wrote. The error is a *RowError without a line.
func (j *WorkloadJSON) workload(source string) (estate.Workload, error) {
	w := estate.Workload{ID: j.ID, Name: j.Name, OS: j.OS, Kind: j.Kind}
	bad := func(field, format string, args ...any) (estate.Workload, error) {
		return w, &RowError{Column: field, Reason: fmt.Sprintf(format, args...)}
	}
	if j.ID == "" {
		return bad("id", "found none, expected the id of a workload")
	}
	for _, f := range [][2]string{{"id", j.ID}, {"name", j.Name}, {"os", j.OS}, {"kind", j.Kind}} {
		if reason := unstorable(f[1]); reason != "" {
			return bad(f[0], "%s", reason)
		}
	}
	lease := func(field, addr string, l estate.Lease) error {
		a, ok := parseAddr(addr)
		if !ok {
			return &RowError{Column: field, Reason: fmt.Sprintf("found %q, expected an IP address", addr)}
		}
		l.Addr = a
		if !slices.Contains(w.Leases, l) {
			w.Leases = append(w.Leases, l)
		}
		return nil
	}
	for _, a := range j.Addresses {
		if err := lease("addresses", a, estate.Lease{From: estate.Beginning, Until: estate.End}); err != nil {
			return w, err
		}
	}
	for _, x := range j.Leases {
		l := estate.Lease{From: estate.Beginning, Until: estate.End}
		for _, b := range []struct {
			text string
			to   *estate.Instant
		}{{x.From, &l.From}, {x.Until, &l.Until}} {
			if b.text == "" {
				continue
			}
			t, err := estate.ParseInstant(b.text)
			if err != nil {
				return bad("leases", "%s", err)
			}
			*b.to = t
		}
		if err := lease("leases", x.Addr, l); err != nil {
			return w, err
		}
	}
	for _, key := range slices.Sorted(maps.Keys(j.Tags)) {
		if key == "" {
			return bad("tags", "found a tag without a key, expected a name for it")
		}
		if reason := cmp.Or(unstorable(key), unstorable(j.Tags[key])); reason != "" {
			return bad("tags", "%s", reason)
		}
		if v := j.Tags[key]; v != "" {
			w.Tags = append(w.Tags, estate.Tag{Key: key, Value: v, Source: source})
		}
	}
	return w, nil
}

// WorkloadLines reads JSON Lines: a WorkloadJSON on each line, each id once.
// Blank lines are no rows. What cannot be used is reported and left out. The
// file speaks of all tags of the source: Keys is nil.
func WorkloadLines(in io.Reader, source string) (*WorkloadFile, error) {
	b := bufio.NewScanner(in)
	b.Buffer(make([]byte, 1<<16), mostRow)
	var all []WorkloadJSON
	var lines []int
	out := &WorkloadFile{}
	n := 0
	for b.Scan() {
		n++
		if text := bytes.TrimSpace(bytes.TrimPrefix(b.Bytes(), []byte("\ufeff"))); len(text) > 0 {
			out.Rows++
			var j WorkloadJSON
			d := json.NewDecoder(bytes.NewReader(text))
			d.DisallowUnknownFields()
			switch bad := d.Decode(&j); {
			case !utf8.Valid(text):
				out.Errors = append(out.Errors, RowError{Line: n,
					Reason: "found bytes that are not UTF-8, expected text in UTF-8"})
			case bad != nil:
				out.Errors = append(out.Errors, RowError{Line: n, Reason: "found " +
					strings.TrimPrefix(bad.Error(), "json: ") +
					`, expected an object such as {"id": "…", "addresses": ["…"], "tags": {"env": "…"}}`})
			case d.More():
				out.Errors = append(out.Errors, RowError{Line: n,
					Reason: "found more behind the object, expected one object a line"})
			default:
				all, lines = append(all, j), append(lines, n)
			}
		}
	}
	if err := b.Err(); errors.Is(err, bufio.ErrTooLong) {
		return nil, fmt.Errorf("line %d: %w", n+1, errLongRow)
	} else if err != nil {
		return nil, err
	}
	out.take(all, lines, source)
	return out, nil
}

// WorkloadObjects is WorkloadLines for objects that were read already; errors
// count them from 1.
func WorkloadObjects(all []WorkloadJSON, source string) *WorkloadFile {
	lines := make([]int, len(all))
	for i := range lines {
		lines[i] = i + 1
	}
	out := &WorkloadFile{Rows: len(all)}
	out.take(all, lines, source)
	return out
}

func (f *WorkloadFile) take(all []WorkloadJSON, lines []int, source string) {
	first := map[string]*firstRow{}
	for i := range all {
		w, err := all[i].workload(source)
		var bad *RowError
		if have := first[w.ID]; err == nil && have != nil {
			bad = &RowError{Column: "id",
				Reason: fmt.Sprintf("found workload %q again, expected it once, as on line %d", w.ID, have.line)}
		} else if err != nil {
			errors.As(err, &bad)
		}
		if bad != nil {
			bad.Line = lines[i]
			f.Errors = append(f.Errors, *bad)
			continue
		}
		row := &firstRow{index: len(f.Workloads), line: lines[i]}
		for range w.Leases {
			row.lines = append(row.lines, lines[i])
		}
		first[w.ID] = row
		f.Workloads = append(f.Workloads, w)
	}
	f.dropConflicts(first)
}
