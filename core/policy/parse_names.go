package policy

// Names: those that are unknown, their nearest, and definitions in a circle.

import (
	"slices"
	"strings"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/syntax"
)

// unknown reports the names that are used and not defined.
func (p *parser) unknown() {
	for _, u := range p.uses {
		if _, ok := p.declared[u.kind+" "+u.Name]; !ok {
			article := "a "
			if u.kind == "area" {
				article = "an "
			}
			hint := ""
			if near := p.nearest(u.kind, u.Name); near != "" {
				hint = "; the nearest name is " + syntax.Name(near)
			}
			p.errs = append(p.errs, syntax.Errorf(u.Pos,
				"found the unknown %s %s, expected %s%s that a line of this policy defines%s", u.kind,
				syntax.Name(u.Name), article, u.kind, hint))
		}
	}
}

// nearest returns the declared name that begins or folds alike, if there is one.
func (p *parser) nearest(kind, name string) string {
	best := ""
	for key := range p.declared {
		have, ok := strings.CutPrefix(key, kind+" ")
		if !ok {
			continue
		}
		alike := strings.EqualFold(have, name) || estate.OneSlip(have, name)
		if alike && (best == "" || have < best) {
			best = have
		}
	}
	return best
}

// cycles reports groups that ask themselves and services that name themselves,
// and puts the groups in an order in which they can be evaluated.
func (p *parser) cycles() {
	groups := walker[*Group]{kind: "groups", next: func(g *Group) []edge[*Group] {
		var out []edge[*Group]
		g.Expr.Walk(func(e *expr.Expr) {
			if to := p.policy.Groups[e.Group]; e.Op == expr.MemberOf && to != nil {
				out = append(out, edge[*Group]{to, e.Pos})
			}
		})
		return out
	}, name: func(g *Group) string { return g.Name }, state: map[*Group]int{}}
	services := walker[*Service]{kind: "services", next: func(s *Service) []edge[*Service] {
		var out []edge[*Service]
		for _, spec := range s.Specs {
			if to := p.policy.Services[spec.Service]; spec.Service != "" && to != nil {
				out = append(out, edge[*Service]{to, spec.Pos})
			}
		}
		return out
	}, name: func(s *Service) string { return s.Name }, state: map[*Service]int{}}
	for _, item := range p.policy.Items {
		switch s := item.Statement.(type) {
		case *Group:
			if p.policy.Groups[s.Name] == s {
				groups.visit(s)
			}
		case *Service:
			if p.policy.Services[s.Name] == s {
				services.visit(s)
			}
		}
	}
	p.policy.GroupOrder = groups.done
	p.errs = append(append(p.errs, groups.errs...), services.errs...)
}

// walker visits definitions depth first, each after those it names.
type walker[T comparable] struct {
	kind  string
	next  func(T) []edge[T]
	name  func(T) string
	state map[T]int // 0 new, 1 on the path, 2 done
	path  []T
	done  []T
	errs  []*syntax.Error
}

type edge[T any] struct {
	to  T
	pos syntax.Pos
}

func (w *walker[T]) visit(n T) {
	if w.state[n] != 0 {
		return
	}
	w.state[n] = 1
	w.path = append(w.path, n)
	for _, e := range w.next(n) {
		if w.state[e.to] != 1 {
			w.visit(e.to)
		} else {
			var names []string
			for _, on := range w.path[slices.Index(w.path, e.to):] {
				names = append(names, syntax.Name(w.name(on)))
			}
			names = append(names, names[0])
			w.errs = append(w.errs, syntax.Errorf(e.pos,
				"found a cycle of %s: %s; expected %s that do not lead back to themselves", w.kind,
				strings.Join(names, " → "), w.kind))
		}
	}
	w.path = w.path[:len(w.path)-1]
	w.state[n] = 2
	w.done = append(w.done, n)
}
