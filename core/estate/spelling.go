package estate

import (
	"cmp"
	"slices"
	"strings"
)

// UsualSpelling returns the value that a rarer one is probably a slip of: the
// same letters and digits but for case, blanks and punctuation, or one letter
// inserted, dropped or changed in a word of four or more. counts has how often
// each value is used; the empty string says that the value is as it should be.
func UsualSpelling(value string, counts map[string]int) string {
	return usual(value, counts[value], spellings(counts))
}

// UsualSpellings returns the UsualSpelling of each value that has one.
func UsualSpellings(counts map[string]int) map[string]string {
	all := spellings(counts)
	out := map[string]string{}
	for value, n := range counts {
		if to := usual(value, n, all); to != "" {
			out[value] = to
		}
	}
	return out
}

// misspelling is a value that looks like a slip of another.
type misspelling struct {
	Key   string
	Value string
	Like  string // the usual one
	Count int    // workloads that have it
}

// Misspellings finds the values of tags that look misspelt, by key and value.
func Misspellings(e *Estate) []misspelling {
	counts := map[string]map[string]int{}
	for _, w := range e.All() {
		for _, t := range w.Tags {
			if t.Value == "" || !w.Retired.IsZero() {
				continue
			}
			if counts[t.Key] == nil {
				counts[t.Key] = map[string]int{}
			}
			counts[t.Key][t.Value]++
		}
	}
	var out []misspelling
	for key, values := range counts {
		for v, like := range UsualSpellings(values) {
			out = append(out, misspelling{key, v, like, values[v]})
		}
	}
	slices.SortFunc(out, func(a, b misspelling) int {
		return cmp.Or(strings.Compare(a.Key, b.Key), strings.Compare(a.Value, b.Value))
	})
	return out
}

type spelling struct {
	value, letters string
	n              int
}

// spellings returns the values that others may be slips of.
func spellings(counts map[string]int) []spelling {
	var out []spelling
	for v, n := range counts {
		if n >= 3 {
			out = append(out, spelling{v, letters(v), n})
		}
	}
	return out
}

func usual(value string, count int, all []spelling) string {
	best := spelling{}
	a := letters(value)
	for _, o := range all {
		if o.n <= count || o.value == value {
			continue
		}
		b := o.letters
		if (a == b || count <= o.n/10 && len(b) >= 4 && OneSlip(a, b) && !hasDigit(a+b)) &&
			(best.n < o.n || best.n == o.n && o.value < best.value) {
			best = o
		}
	}
	return best.value
}

// letters keeps letters and digits, in lower case.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127 {
			return r
		}
		return -1
	}, strings.ToLower(s))
}

func hasDigit(s string) bool { return strings.ContainsAny(s, "0123456789") }

// OneSlip reports whether one inserted, dropped or changed byte, or two swapped
// neighbours, make b of a, in words of three bytes or more.
func OneSlip(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 || len(a) < 3 || a == b {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) < len(b) {
		return a[i:] == b[i+1:]
	}
	if a[i+1:] == b[i+1:] {
		return true
	}
	return i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
