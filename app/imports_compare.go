package app

import (
	"fmt"
	"net/netip"
	"slices"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/ingest"
	"lucidorchard/inventory"
	"lucidorchard/model"
)

// What a list of workloads would change, row by row.

// compare says what a listing does to the estate.
func (r *reading) compare(snap *model.Model, in ImportOptions, sources []inventory.Source, listed []string,
	spokenFor map[string]bool) {
	out, file := &r.report, r.file
	rank := map[string]int{estate.ByHand: -1, in.Source: 1 << 30} // a source that is heard first comes last
	for _, s := range sources {
		rank[s.Name] = s.Rank
	}
	have := map[string][]estate.Lease{}
	keep := func(id string) {
		if i, ok := snap.Estate.ByID(id); ok {
			have[id] = snap.Estate.Workload(i).Leases
		}
	}
	var listing []estate.Listed
	there := map[string]bool{}
	for i := range file.Workloads {
		w := &file.Workloads[i]
		there[w.ID] = true
		if len(w.Leases) == 0 {
			continue
		}
		listing = append(listing, estate.Listed{ID: w.ID, Leases: w.Leases})
		keep(w.ID)
		for _, l := range w.Leases {
			for _, c := range snap.Estate.Claims(l.Addr) {
				keep(snap.Estate.Workload(c.Workload).ID)
			}
		}
	}
	leases, conflicts := estate.Reassign(have, listing, in.Source, estate.InstantOf(time.Now()),
		func(source string) bool {
			r, known := rank[source]
			return known && r < rank[in.Source]
		})
	for _, c := range conflicts {
		file.Errors = append(file.Errors, ingest.RowError{Column: "addresses", Reason: c.Error()})
	}
	out.Rows, out.Bad, out.Warnings = file.Rows, len(file.Errors), append(out.Warnings, file.Warnings...)
	out.BadKinds = ingest.KindsOf(file.Errors)
	out.Errors = append(out.Errors, file.Errors[:min(ShownErrors, len(file.Errors))]...)
	words := map[string]bool{}
	for _, w := range snap.Estate.All() {
		for _, t := range w.Tags {
			words[t.Key+" = "+t.Value] = true
		}
	}
	example := func(ex ImportExample) {
		if len(out.Examples) < shownExamples {
			out.Examples = append(out.Examples, ex)
		}
	}
	for i := range file.Workloads {
		w := &file.Workloads[i]
		for _, t := range w.Tags {
			if word := t.Key + " = " + t.Value; !words[word] {
				words[word] = true
				out.NewWords = append(out.NewWords, word)
			}
		}
		k, ok := snap.Estate.ByID(w.ID)
		if !ok {
			ex := ImportExample{ID: w.ID, New: true}
			for _, l := range w.Leases {
				ex.What = append(ex.What, l.Addr.String())
			}
			for _, t := range w.Tags {
				ex.What = append(ex.What, t.Key+" = "+t.Value)
			}
			out.Added++
			example(ex)
			continue
		}
		ex := ImportExample{ID: w.ID}
		now := snap.Estate.Workload(k)
		var kept int
		ex.What, kept = differences(now, w, in.Source, file.Keys,
			func(source string) bool { return rank[source] < rank[in.Source] }, spokenFor[w.ID])
		out.Kept += kept
		ex.What = append(ex.What, leaseChanges(now.Leases, leases, w.ID)...)
		if !now.Retired.IsZero() {
			ex.What = append(ex.What, "is there again")
		}
		if len(ex.What) == 0 {
			out.Same++
			continue
		}
		out.Changed++
		example(ex)
	}
	for id := range leases {
		if !there[id] { // it gives an address up
			out.Changed++
			i, _ := snap.Estate.ByID(id)
			example(ImportExample{ID: id, What: leaseChanges(snap.Estate.Workload(i).Leases, leases, id)})
		}
	}
	if in.Complete {
		for _, id := range listed {
			if !there[id] {
				out.Missing++
				example(ImportExample{ID: id, What: []string{"is no longer listed"}})
			}
		}
	}
}

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

// differences says what a row of a source changes about a workload, and how many
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
