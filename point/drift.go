package point

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// drift says in words in what a kernel holds something other than it should; blank:
// in nothing.
func drift(want, have map[string]string) string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(want)) {
		switch is, there := have[name]; {
		case there && is == want[name]:
		case there:
			out = append(out, differs(name, want[name], is))
		default:
			out = append(out, called(name, want[name])+" is missing")
		}
	}
	for _, name := range slices.Sorted(maps.Keys(have)) {
		if _, meant := want[name]; !meant {
			out = append(out, called(name, have[name])+" does not belong there")
		}
	}
	const most = 5
	if n := len(out); n > most {
		out = append(out[:most], fmt.Sprintf("and %d more", n-most))
	}
	return strings.Join(out, "; ")
}

// called names a part for people.
func called(name, says string) string {
	if !strings.HasPrefix(name, "rule ") {
		return name
	}
	if line, ok := lineOf(says); ok && line.Line > 0 {
		return fmt.Sprintf("a rule of line %d", line.Line)
	}
	_, chain, _ := strings.Cut(name, " in ")
	chain, _, _ = strings.Cut(chain, " ")
	return "a rule of chain " + chain
}

// differs says in what a set has other addresses.
func differs(name, want, have string) string {
	elements := func(text string) map[string]bool {
		var x struct {
			Elem []json.RawMessage `json:"elem"`
		}
		_ = json.Unmarshal([]byte(text), &x)
		out := map[string]bool{}
		for _, e := range x.Elem {
			out[string(e)] = true
		}
		return out
	}
	a, b := elements(want), elements(have)
	more, less := 0, 0
	for e := range b {
		if !a[e] {
			more++
		}
	}
	for e := range a {
		if !b[e] {
			less++
		}
	}
	_, plain, _ := strings.Cut(name, " ")
	switch {
	case more+less == 0:
		return name + " says something else"
	case less == 0:
		return fmt.Sprintf("%s too many in %s", addresses(more), plain)
	case more == 0:
		return fmt.Sprintf("%s missing in %s", addresses(less), plain)
	}
	return fmt.Sprintf("%s too many and %d missing in %s", addresses(more), less, plain)
}

func addresses(n int) string {
	if n == 1 {
		return "1 address"
	}
	return fmt.Sprintf("%d addresses", n)
}
