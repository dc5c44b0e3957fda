package derive

// What a person should not be asked to bless, and by which signs.

import (
	"fmt"
	"slices"

	"lucidorchard/core/expr"
	"lucidorchard/core/plural"
	"lucidorchard/core/service"
)

// Reason is why a conversation was set aside.
type Reason string

// The reasons.
const (
	Scan     Reason = "scan"
	OneOff   Reason = "one-off"
	Lone     Reason = "only one pair"
	Few      Reason = "few of their kind"
	Crossing Reason = "crosses environments"
	Admin    Reason = "administration service"
	Unplaced Reason = "lacks a tag"
)

// Words reports what the reason means.
func (r Reason) Words() string {
	switch r {
	case Scan:
		return "its client tries many servers or services and rarely returns"
	case OneOff:
		return "seen only once or twice, and nothing similar"
	case Lone:
		return "a single pair that no similar machine repeats: likely an attack, and hardly a useful rule"
	case Few:
		return "too few similar machines do it to permit it for all"
	case Crossing:
		return "between environments, not to a shared service, and not daily"
	case Unplaced:
		return "one side lacks a tag that says where it belongs, so that no rule can speak of it: tag it first"
	case Admin:
		return "an administration service, from machines that administer no others"
	}
	return ""
}

var reasons = []Reason{Scan, OneOff, Lone, Few, Crossing, Unplaced, Admin}

// aside is what was set aside for one reason.
type aside struct {
	Reason        Reason
	Conversations []int
	Signs         []string // with Input.Judged: of each, why it is suspicious
}

// setAside returns what the rules leave, by reason.
func (d *deriver) setAside(rules []*draft) []aside {
	for svc := range d.edges {
		for i := range d.edges[svc] {
			d.edges[svc][i].covered = false
		}
	}
	for _, r := range rules {
		for _, x := range r.edges {
			x.covered = true
		}
	}
	by := map[Reason][]int{}
	signs := map[int]string{}
	for i := range d.ends {
		if d.scanned[i] && d.open[i] {
			by[Scan] = append(by[Scan], i)
			signs[i] = d.tried[d.ends[i][0]]
		}
	}
	for svc := range d.edges {
		// How many of their kind take part, of the kinds that something is left of.
		kinds := map[int32]*[2]map[int32]bool{}
		for i := range d.edges[svc] {
			if x := &d.edges[svc][i]; x.open && !x.covered && kinds[x.block] == nil {
				kinds[x.block] = &[2]map[int32]bool{{}, {}}
			}
		}
		if len(kinds) == 0 {
			continue
		}
		for i := range d.edges[svc] {
			x := &d.edges[svc][i]
			if k := kinds[x.block]; k != nil {
				k[0][x.client], k[1][x.server] = true, true
			}
		}
		for i := range d.edges[svc] {
			x := &d.edges[svc][i]
			if !x.open || x.covered {
				continue
			}
			k := kinds[x.block]
			why := d.doubt(x, d.points[svc], len(k[0]), len(k[1]))
			for _, c := range d.conversations(x) {
				by[why] = append(by[why], int(c))
				if d.in.Judged {
					signs[int(c)] = d.signs(x, len(k[0]), len(k[1]))
				}
			}
		}
	}
	var out []aside
	for _, why := range reasons {
		is := by[why]
		if len(is) == 0 {
			continue
		}
		slices.Sort(is)
		a := aside{Reason: why, Conversations: is}
		if d.in.Judged {
			for _, i := range is {
				a.Signs = append(a.Signs, signs[i])
			}
		}
		out = append(out, a)
	}
	return out
}

// doubt returns why an edge found no rule; clients and servers are how many of its
// kind take part.
func (d *deriver) doubt(x *edge, p service.Range, clients, servers int) Reason {
	a, b := d.tags(x.client), d.tags(x.server)
	lacks := func(m int32, t [3]string) bool { return !d.isOutside(m) && t[2] == "" }
	untold := func(m int32) bool {
		if d.isOutside(m) {
			return false
		}
		for k, key := range d.keys {
			if v := (proposer{d}).realTag(m, expr.Key{Name: key}); v == "" && d.meant[m][k] != "" {
				return true
			}
		}
		return false
	}
	switch {
	case x.crossing && a[2] != "" && b[2] != "":
		return Crossing
	case d.envCount > 1 && (lacks(x.client, a) || lacks(x.server, b)) || untold(x.client) || untold(x.server):
		return Unplaced
	case service.Administration.Contains(p.Lo):
		return Admin
	case d.connections(x) <= 2:
		return OneOff
	case clients == 1 && servers == 1:
		return Lone
	}
	return Few
}

func (d *deriver) connections(x *edge) (n int64) {
	for _, i := range d.order[x.first : x.first+x.n] {
		n += min(d.in.Conversations[i].Connections, 1<<40)
	}
	return n
}

// signs reports what speaks against an edge, or for it.
func (d *deriver) signs(x *edge, clients, servers int) string {
	kind := func(m int32) int {
		if d.isOutside(m) {
			return 0
		}
		return d.roleSize[d.roleOf[m]]
	}
	out := fmt.Sprintf("%s on %s of %d", plural.Of(int(min(d.connections(x), 1<<31)), "connection"),
		days(coverer{d}.daysOf(x).Count()), d.days)
	if n := kind(x.client); n > 1 {
		out += fmt.Sprintf("; %d of %d clients of its kind", clients, n)
	}
	if n := kind(x.server); n > 1 {
		out += fmt.Sprintf("; to %d of %d servers", servers, n)
	}
	return out
}
