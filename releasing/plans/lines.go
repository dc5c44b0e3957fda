package plans

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/plan"
	"lucidorchard/core/rollout"
	"lucidorchard/point"
)

// line is the plans of points that are told the same, one after the other.
type line struct {
	release int
	of      *released       // that the last was made for
	stale   bool            // it may be another for what of is by now
	text    string          // what is guarded
	sets    map[string]bool // names of the plan's sets
	hash    string
	rules   string
	plan    *plan.Plan
	steps   []step
	size    int // elements that move in the steps
	// The plan before this one, if it had other rules.
	before     *plan.Plan
	beforeHash string
}

// uses reports whether the plan has one of some sets.
func (l *line) uses(sets map[string]bool) bool {
	for name := range sets {
		if l.sets[name] {
			return true
		}
	}
	return false
}

// lead fills a part with what leads on from one of the plans that are loaded, or with the
// whole plan. other is the line of the point's other release; nil: there is none.
func (l *line) lead(part *point.Assignment, loaded []string, other *line) {
	release := part.Release
	has := func(id string) bool { return slices.Contains(loaded, id) }
	if has(part.ID) {
		return
	}
	if i := slices.IndexFunc(l.steps, func(x step) bool { return has(partID(release, x.from)) }); i >= 0 {
		part.From = partID(release, l.steps[i].from)
		for _, x := range l.steps[i:] {
			part.Moves = append(part.Moves, x.moves)
		}
		return
	}
	part.Plan = l.plan
	short := func(id string, from *plan.Plan) {
		var moves plan.Moves
		part.From = id
		if part.Plan, moves = l.plan.Short(from); !moves.Nothing() {
			part.Moves = []plan.Moves{moves}
		}
	}
	if l.before != nil && has(partID(release, l.beforeHash)) {
		short(partID(release, l.beforeHash), l.before)
	} else if other != nil && has(partID(other.release, other.hash)) {
		short(partID(other.release, other.hash), other.plan)
	}
}

// partID names the plan of a release.
func partID(release int, hash string) string {
	sum := sha256.Sum256([]byte(fmt.Sprint(release, hash)))
	return hex.EncodeToString(sum[:12])
}

// idOf names what a point is to load: the plans that it enforces and observes, and how.
func idOf(p *Point, parts [2]*point.Assignment) string {
	var ids [2]string
	for k, part := range parts {
		if part != nil {
			ids[k] = part.ID
		}
	}
	sum := sha256.Sum256([]byte(fmt.Sprint(p.Again, p.Paired, p.Trial)))
	return ids[0] + "+" + ids[1] + "+" + hex.EncodeToString(sum[:4])
}

// partsOf reads the names of plans from what idOf made.
func partsOf(id string) []string {
	return slices.DeleteFunc(strings.Split(id, "+"), func(s string) bool { return s == "" })
}

// line returns the plans of a point, up to the one for the state.
func (t *Teller) line(p *Point, release int, all []Point) (*line, error) {
	r, err := t.release(release)
	if err != nil {
		return nil, err
	}
	l := t.told[p.key(release)]
	if l != nil && l.of == r && !l.stale {
		return l, nil
	}
	var among []string
	if _, found := r.guards[p.Guards]; !found {
		for i := range all {
			if all[i].Runs.Mode(release) != rollout.Off {
				among = append(among, all[i].Guards)
			}
		}
	}
	g, err := t.guards(r, p.Guards, among)
	if err != nil {
		return nil, err
	}
	if r.planner == nil {
		r.planner = plan.NewPlanner(r.compiled)
	}
	made := r.planner.Plan(g.In, p.Kind, p.Side)
	next := &line{of: r, release: release, text: p.Guards, plan: made, hash: made.Hash(), rules: made.RulesHash(),
		sets: map[string]bool{}}
	for _, s := range made.Sets {
		next.sets[s.Name] = true
	}
	if l != nil {
		next.follow(l)
	}
	t.told[p.key(release)] = next
	return next, nil
}

// follow notes how the plan came from the one before it.
func (l *line) follow(before *line) {
	l.steps, l.size = before.steps, before.size
	if before.hash == l.hash {
		return
	}
	m, same := before.plan.Difference(l.plan)
	if !same {
		l.steps, l.size = nil, 0
		l.before, l.beforeHash = before.plan, before.hash
		return
	}
	for _, s := range m.Sets {
		l.size += len(s.Added) + len(s.Removed)
	}
	for _, c := range m.Classes {
		l.size += len(c.Added) + len(c.Removed)
	}
	l.steps = append(slices.Clone(l.steps), step{before.hash, m})
	if len(l.steps) > mostSteps || l.size > mostMoves {
		l.steps, l.size = nil, 0
	}
}
