package point

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/plan"
	"lucidorchard/core/plan/nft"
	"lucidorchard/core/plural"
)

// wanting is what a kernel should hold: of rules and chains what it made of them
// itself when they were loaded, of addresses what the plan says.
type wanting struct {
	Held
	words map[string]string // set → what it contains, in the words of the policy
	moved *plan.Loaded      // to which addresses have moved since; nil: they have not
}

func wantingOf(l plan.Loaded, loaded Held) *wanting {
	w := &wanting{Held: loaded}
	if l.Nothing() {
		w.Sets, w.Ways = nil, nil
		return w
	}
	w.Sets, w.Ways = nft.Contents(l)
	w.words = nft.Words(l)
	return w
}

// drift returns in words in what a kernel holds something other than it should; blank:
// in nothing.
func (w *wanting) drift(have *Held) string {
	if w.moved != nil {
		w.Sets, w.Ways = nft.Contents(*w.moved)
		w.moved = nil
	}
	out := slices.Clone(have.Odd)
	if have.nothing() && !w.nothing() {
		return "the table is missing"
	}
	for _, name := range slices.Sorted(maps.Keys(w.Rules)) {
		if _, there := have.Rules[name]; !there {
			out = append(out, ruleCalled(name, w.Rules[name])+" is missing")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(have.Rules)) {
		if _, meant := w.Rules[name]; !meant {
			out = append(out, ruleCalled(name, have.Rules[name])+" does not belong there")
		}
	}
	for _, chain := range slices.Sorted(maps.Keys(w.Order)) {
		is := have.Order[chain]
		if len(is) == len(w.Order[chain]) && !slices.Equal(is, w.Order[chain]) && sameItems(is, w.Order[chain]) {
			out = append(out, "the rules of chain "+chain+" stand in another order")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(w.Sets)) {
		is, there := have.Sets[name]
		if there && slices.Equal(is, w.Sets[name]) {
			continue
		}
		more, less := is.Minus(w.Sets[name]).Count(), w.Sets[name].Minus(is).Count()
		called := name
		if words := w.words[name]; words != "" {
			called = "“" + words + "”"
		}
		out = addressesDiffer(out, called, "set "+name, there, more, less)
	}
	for _, name := range slices.Sorted(maps.Keys(w.Ways)) {
		is, there := have.Ways[name]
		more, less := waysDiffer(is, w.Ways[name])
		out = addressesDiffer(out, "what is guarded ("+name+")", "map "+name, there, more, less)
	}
	for _, name := range slices.Sorted(maps.Keys(w.Other)) {
		switch is, there := have.Other[name]; {
		case !there:
			out = append(out, name+" is missing")
		case is != w.Other[name] && name == tableName:
			out = append(out, "the table has other flags ("+is+"): its rules may be switched off")
		case is != w.Other[name]:
			out = append(out, name+" says something else")
		}
	}
	for _, name := range slices.Concat(extra(have.Other, w.Other), extra(have.Sets, w.Sets), extra(have.Ways, w.Ways)) {
		out = append(out, name+" does not belong there")
	}
	if n := have.EndedMissing; n > 0 {
		out = append(out, plural.Of(n, "ended connection")+" may go on")
	}
	if n := have.EndedExtra; n > 0 {
		out = append(out, plural.Of(n, "connection")+" that nobody ended cannot go on")
	}
	const most = 5
	if n := len(out); n > most {
		out = append(out[:most], fmt.Sprintf("and %d more", n-most))
	}
	return strings.Join(out, "; ")
}

func sameItems(a, b []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(a)), slices.Sorted(slices.Values(b)))
}

// extra returns the names in have that are not in want, in their order.
func extra[T any](have, want map[string]T) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(have)) {
		if _, meant := want[name]; !meant {
			out = append(out, name)
		}
	}
	return out
}

func waysDiffer(is, want map[netip.Addr]string) (more, less int) {
	for a, chain := range is {
		if want[a] != chain {
			more++
		}
	}
	for a, chain := range want {
		if is[a] != chain {
			less++
		}
	}
	return more, less
}

func addressesDiffer(out []string, called, name string, there bool, more, less int) []string {
	switch {
	case !there:
		return append(out, name+" is missing")
	case more > 0 && less > 0:
		return append(out, fmt.Sprintf("%s too many and %d missing in %s", addresses(more), less, called))
	case more > 0:
		return append(out, addresses(more)+" too many in "+called)
	case less > 0:
		return append(out, addresses(less)+" missing in "+called)
	}
	return out
}

// ruleCalled names a rule for people.
func ruleCalled(name, comment string) string {
	if line, ok := lineOf(comment); ok && line.Line > 0 {
		return fmt.Sprintf("a rule of line %d", line.Line)
	}
	_, chain, _ := strings.Cut(name, " in ")
	chain, _, _ = strings.Cut(chain, " ")
	var line int
	if _, err := fmt.Sscanf(strings.TrimPrefix(strings.TrimPrefix(chain, "o_"), "n_"), "line_%d_reject",
		&line); err == nil {
		return fmt.Sprintf("a rule of line %d", line) // which logs what that rejects, and drops it
	}
	return "a rule of chain " + chain
}

func addresses(n int) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}
