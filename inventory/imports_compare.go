package inventory

import (
	"fmt"

	// What a list of workloads would change, row by row.
	"net/netip"
	"slices"

	"lucidorchard/core/estate"
)

func leaseChanges(was []estate.Lease, changed map[string][]estate.Lease, id string) (what []string) {
	is, ok := changed[id]
	if !ok {
		return nil
	}
	type span struct {
		addr        netip.Addr
		from, until estate.Instant
	}
	begins, spans := map[span]bool{}, map[span]bool{}
	for _, l := range was {
		begins[span{addr: l.Addr, from: l.From}] = true
	}
	for _, l := range is {
		spans[span{l.Addr, l.From, l.Until}] = true
		if !begins[span{addr: l.Addr, from: l.From}] {
			what = append(what, "address "+l.Addr.String())
		}
	}
	for _, l := range was {
		if !spans[span{l.Addr, l.From, l.Until}] {
			what = append(what, "no longer "+l.Addr.String())
		}
	}
	return what
}

// differences reports what a row of a source changes about a workload, and how many
// tag values stay because what outranks the source says otherwise. keys are
// those that the source speaks of; nil: those of the row, and those that it has
// given before. better says that a source of a better rank speaks for its name,
// os and kind.
func differences(have, row *estate.Workload, source string, keys []string, outranks func(source string) bool,
	better bool) (what []string, kept int) {
	for _, f := range [][3]string{{"name", have.Name, row.Name}, {"os", have.OS, row.OS},
		{"kind", have.Kind, row.Kind}} {
		if f[1] != f[2] && f[2] != "" && better {
			kept++
		} else if f[1] != f[2] && f[2] != "" {
			what = append(what, fmt.Sprintf("%s: %s → %s", f[0], orMissing(f[1]), f[2]))
		}
	}
	if keys == nil {
		for _, t := range slices.Concat(row.Tags, have.Tags) {
			if t.Source == source && !slices.Contains(keys, t.Key) {
				keys = append(keys, t.Key)
			}
		}
	}
	for _, k := range keys {
		was, _ := have.Tag(k)
		is, _ := row.Tag(k)
		switch {
		case was.Value == is.Value, is.Value == "" && was.Source != source:
		case outranks(was.Source) && was.Value != "":
			kept++
		default:
			what = append(what, fmt.Sprintf("%s: %s → %s", k, orMissing(was.Value), orMissing(is.Value)))
		}
	}
	return what, kept
}

func orMissing(s string) string {
	if s == "" {
		return "missing"
	}
	return s
}
