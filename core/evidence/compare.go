package evidence

import (
	"cmp"
	"slices"
	"strings"
)

// Comparison is the differences of two periods, of the same promise or of two.
type Comparison struct {
	Before  period   `json:"before"`
	After   period   `json:"after"`
	Same    bool     `json:"same" doc:"Whether both speak of the same promise"`
	May     []Move   `json:"may" doc:"Who may reach it at the end of one and not of the other, by rule; much is how many clients"`
	Did     []Move   `json:"did" doc:"Who reached it in one and not in the other"`
	Members []Move   `json:"members" doc:"Whom it protects at the end of one and not of the other"`
	Points  []Move   `json:"points" doc:"Points that guarded it in one and not in the other"`
	Rules   []string `json:"rules" doc:"By which one may reach it, in both"`
}

// period is evidence in short.
type period struct {
	Promise  Promise   `json:"promise"`
	From     string    `json:"from"`
	To       string    `json:"to"`
	Sentence string    `json:"sentence"`
	Counts   DayCounts `json:"counts"`
	Total    Sums      `json:"total"`
	Callers  int       `json:"callers"`
	Breaks   int       `json:"breaks"`
	Exempt   int       `json:"exempt" doc:"Exemptions"`
}

// Move is something that is in one of the two only.
type Move struct {
	What string `json:"what"`
	In   string `json:"in" enum:"before,after"`
	Much int64  `json:"much,omitempty" doc:"Connections"`
	// Names are those of clients, where it is a rule; the first of them.
	Names []string `json:"names,omitempty" doc:"Of clients, the first 20"`
}

// Compare reports how two periods differ.
func Compare(a, b *Evidence) Comparison {
	out := Comparison{Before: periodOf(a), After: periodOf(b), Same: a.Promise.Text == b.Promise.Text &&
		a.Promise.Kind == b.Promise.Kind, Rules: []string{}}
	did := func(e *Evidence) map[string]int64 {
		m := map[string]int64{}
		for i := range e.Callers {
			c := &e.Callers[i]
			m[c.Name+" → "+c.Server+" on "+c.Service+", "+c.Verdict] += c.Sums.All()
		}
		return m
	}
	of := func(list []string) map[string]int64 {
		m := map[string]int64{}
		for _, x := range list {
			m[x] = 0
		}
		return m
	}
	points := func(e *Evidence) map[string]int64 {
		m := map[string]int64{}
		for _, p := range e.Points {
			m[p.Name] = 0
		}
		return m
	}
	out.May, out.Did = append(ways(a, b, "before"), ways(b, a, "after")...), moves(did(a), did(b))
	out.Members, out.Points = moves(of(a.MembersLast), of(b.MembersLast)), moves(points(a), points(b))
	for _, w := range a.MayLast {
		if slices.ContainsFunc(b.MayLast, func(x mayWay) bool { return x.Rule == w.Rule }) &&
			!slices.Contains(out.Rules, w.Rule) {
			out.Rules = append(out.Rules, w.Rule)
		}
	}
	return out
}

func periodOf(e *Evidence) period {
	const day = "2006-01-02T15:04:05Z07:00"
	return period{e.Promise, e.From.Format(day), e.To.Format(day), e.Sentence, e.Counts, e.Total, len(e.Callers) +
		e.MoreCallers, len(e.Breaks), len(e.Exemptions)}
}

// ways returns the rules by which clients may reach it at the end of one, and not of the
// other.
func ways(of, other *Evidence, in string) []Move {
	clients := func(e *Evidence) map[string]map[string]bool {
		out := map[string]map[string]bool{}
		for _, w := range e.MayLast {
			if out[w.Rule] == nil {
				out[w.Rule] = map[string]bool{}
			}
			for _, c := range w.Clients {
				out[w.Rule][c] = true
			}
		}
		return out
	}
	mine, theirs := clients(of), clients(other)
	out := []Move{}
	for _, rule := range sortedKeys(mine) {
		if only := lacking(mine[rule], theirs[rule]); len(only) > 0 {
			out = append(out, Move{rule, in, int64(len(only)), only[:min(20, len(only))]})
		}
	}
	return out
}

func moves(a, b map[string]int64) []Move {
	out := []Move{}
	for what, much := range a {
		if _, both := b[what]; !both {
			out = append(out, Move{What: what, In: "before", Much: much})
		}
	}
	for what, much := range b {
		if _, both := a[what]; !both {
			out = append(out, Move{What: what, In: "after", Much: much})
		}
	}
	slices.SortFunc(out, func(x, y Move) int {
		return cmp.Or(strings.Compare(x.In, y.In), cmp.Compare(y.Much, x.Much), strings.Compare(x.What, y.What))
	})
	return out
}
