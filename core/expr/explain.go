package expr

import (
	"fmt"
	"net/netip"

	"lucidorchard/core/estate"
)

// Reason is why an expression answered as it did: the smallest part of the
// expression that settles the answer, with what it read.
type Reason struct {
	Text    string      // the part of the expression, printed
	Truth   Truth       // its answer
	Key     string      // the key it read, if it read one
	Value   string      // what the workload has for the key
	Tag     *estate.Tag // the tag it read, with its source
	Missing bool        // the workload does not have the key: setting it settles the answer
	Group   string      // the group it asked, whose own reasons follow in Kids
	Kids    []Reason
}

// Explain returns the reasons for Eval's answer. For a yes of "and" all its
// parts are reasons, for a no only those that say no, for undecided those that
// are undecided; for "or" the other way round. groups explains "member of".
// Each part is asked once.
func (e *Expr) Explain(s Subject, m Members, groups func(name string) []Reason) []Reason {
	return e.because(e.judge(s, m), s, groups)
}

// judged is what an expression and its parts answer.
type judged struct {
	truth Truth
	parts []judged
}

func (e *Expr) judge(s Subject, m Members) judged {
	if e.Op != And && e.Op != or && e.Op != not {
		return judged{truth: e.Eval(s, m)}
	}
	out := judged{parts: make([]judged, len(e.Kids))}
	var has [Yes + 1]bool
	for i, k := range e.Kids {
		out.parts[i] = k.judge(s, m)
		has[out.parts[i].truth] = true
	}
	switch {
	case e.Op == not:
		out.truth = out.parts[0].truth.Not()
	case e.Op == And && has[No], e.Op == or && !has[Yes] && !has[Undecided]:
		out.truth = No
	case e.Op == or && has[Yes], e.Op == And && !has[Undecided]:
		out.truth = Yes
	default:
		out.truth = Undecided
	}
	return out
}

func (e *Expr) because(j judged, s Subject, groups func(name string) []Reason) []Reason {
	switch e.Op {
	case And, or:
		var out []Reason
		for i, k := range e.Kids {
			if len(out) < mostReasons && j.parts[i].truth == j.truth {
				out = append(out, k.because(j.parts[i], s, groups)...)
			}
		}
		return out
	case not:
		k := e.Kids[0]
		out := k.because(j.parts[0], s, groups)
		if k.Op == And || k.Op == or || k.Op == not {
			return out
		}
		for i := range out {
			out[i].Text, out[i].Truth = "not "+out[i].Text, j.truth
		}
		return out
	}
	r := Reason{Text: e.shortly(s), Truth: j.truth}
	switch {
	case e.Op == MemberOf:
		r.Group = e.Group
		r.Kids = groups(e.Group)
	case e.IsTest():
		r.Key = e.Key.Text()
		if s.Workload != nil {
			v, has := e.Key.Of(s.Workload)
			r.Value, r.Missing = v, !has
			if t, ok := s.Workload.Tag(e.Key.Name); ok && !e.Key.Field {
				r.Tag = &t
			}
		}
	}
	return []Reason{r}
}

// mostReasons is up to how many parts of one expression are told.
const mostReasons = 200

// tellPrefixes is up to how many prefixes and values are told in a reason.
const tellPrefixes = 20

// shortly is the expression as a reason tells it: of many prefixes the one that
// holds the address, of many values the first few.
func (e *Expr) shortly(s Subject) string {
	if len(e.Prefixes) <= tellPrefixes && len(e.Values) <= tellPrefixes {
		return e.String()
	}
	short := *e
	rest := 0
	if len(e.Prefixes) > tellPrefixes {
		short.Prefixes = e.Prefixes[:3]
		for _, p := range e.Prefixes {
			if p.Contains(s.Addr) {
				short.Prefixes = []netip.Prefix{p}
				break
			}
		}
		rest = len(e.Prefixes) - len(short.Prefixes)
	} else {
		short.Values = e.Values[:3]
		rest = len(e.Values) - 3
	}
	return fmt.Sprintf("%s … and %d more", short.String(), rest)
}

// MissingKeys returns the keys that a workload lacks and whose values would settle
// an undecided answer, in the order of the expression, each once.
func MissingKeys(reasons []Reason) []string {
	var out []string
	seen := map[string]bool{}
	var visit func([]Reason)
	visit = func(rs []Reason) {
		for _, r := range rs {
			if r.Truth != Undecided {
				continue
			}
			if r.Missing && !seen[r.Key] {
				seen[r.Key] = true
				out = append(out, r.Key)
			}
			visit(r.Kids)
		}
	}
	visit(reasons)
	return out
}
