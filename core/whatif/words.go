package whatif

import (
	"fmt"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
)

// named is how many ends an answer calls by name.
const named = 3

// Words says an answer in a sentence: "permit for 38 of 40; uncovered for 2:
// bkg-entry-03 (env missing)".
func (c *Census) Words(q *Question, a *Answer) string {
	if a.Pairs == 0 {
		return "no two endpoints match it"
	}
	var parts []string
	if v, one := a.One(); one {
		parts = append(parts, v.String()+all(a.Pairs))
	} else {
		for _, v := range []decide.Verdict{decide.Permit, decide.Reject, decide.Uncovered} {
			if n := a.Of[v]; n > 0 {
				parts = append(parts, fmt.Sprintf("%s for %d of %d%s", v, n, a.Pairs, c.fewer(a, v, n)))
			}
		}
		if a.Mixed > 0 {
			parts = append(parts, fmt.Sprintf("it depends on the port for %d of %d", a.Mixed, a.Pairs))
		}
	}
	for _, s := range []*Side{&q.Client, &q.Server} {
		if n := len(s.Undecided); n > 0 {
			parts = append(parts, fmt.Sprintf("%d more may be in %s: %s", n, s.Text, c.names(s.Undecided)))
		}
	}
	return strings.Join(parts, "; ")
}

func all(pairs int) string {
	if pairs == 1 {
		return ""
	}
	return fmt.Sprintf(" for all %d", pairs)
}

// fewer names those of which the lesser part of an answer speaks: by the side
// that has fewer of them.
func (c *Census) fewer(a *Answer, v decide.Verdict, n int) string {
	if 2*n > a.Pairs {
		return ""
	}
	for i := range a.Parts {
		p := &a.Parts[i]
		if p.Verdict != v || !p.Whole {
			continue
		}
		ends := p.Clients
		if len(p.Servers) < len(ends) || len(p.Servers) == len(ends) && v == decide.Uncovered &&
			c.lacking(p.Servers) && !c.lacking(ends) {
			ends = p.Servers
		}
		return ": " + c.names(ends)
	}
	return ""
}

func (c *Census) lacking(ends []End) bool { return len(ends) > 0 && len(c.Lacks(ends[0])) > 0 }

func (c *Census) names(ends []End) string {
	var out []string
	for _, e := range ends[:min(named, len(ends))] {
		name := c.Name(e)
		if lacks := c.Lacks(e); len(lacks) > 0 {
			name += " (" + strings.Join(lacks, ", ") + " missing)"
		}
		out = append(out, name)
	}
	if n := len(ends) - named; n > 0 {
		out = append(out, fmt.Sprintf("and %d more", n))
	}
	return strings.Join(out, ", ")
}

// Name calls an end by its workload, its address, or the prefix that it is in.
func (c *Census) Name(e End) string { return e.Name(c.compiled.Estate) }

// Name calls an end of an estate as Census.Name does.
func (e End) Name(of *estate.Estate) string {
	switch {
	case e.Workload != estate.Outside:
		return of.Workload(e.Workload).Label()
	case e.Prefix.IsValid() && e.Prefix.Bits() == 0:
		return "the rest of outside"
	case e.Prefix.IsValid():
		return e.Prefix.String()
	}
	return e.Addr.String()
}
