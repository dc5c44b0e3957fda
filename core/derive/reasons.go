package derive

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/service"
)

func (d proposer) evidence(r *draft, p *Proposal) {
	var days Days
	clients := map[int32]bool{}
	for _, x := range r.edges {
		if !x.open {
			continue
		}
		clients[x.client] = true
		for _, i := range d.conversations(x) {
			p.Conversations = append(p.Conversations, int(i))
		}
	}
	if !slices.IsSorted(p.Conversations) {
		slices.Sort(p.Conversations)
	}
	p.Conversations = slices.Compact(p.Conversations)
	for n, i := range p.Conversations {
		c := &d.in.Conversations[i]
		days |= c.Days
		p.Connections = flow.Sum(p.Connections, c.Connections)
		if n == 0 || c.First.Before(p.First) {
			p.First = c.First
		}
		if n == 0 || p.Last.Before(c.Last) {
			p.Last = c.Last
		}
	}
	p.Pairs, p.Days, p.Clients = len(p.Conversations), days.Count(), len(clients)
}

// why returns why a rule is as wide as it is.
func (d proposer) why(r *draft, p *Proposal) string {
	side := func(items []item, k int, verb string) string {
		took, members := map[int32]bool{}, map[int32]bool{}
		outside := false
		for _, x := range r.edges {
			took[[2]int32{x.client, x.server}[k]] = true
		}
		for i := range items {
			x := &items[i]
			switch {
			case x.set != nil:
				for _, m := range x.set.members {
					members[m] = true
				}
			case x.all, x.group != "", x.prefix.IsValid():
				outside = true
			default:
				members[x.m] = true
			}
		}
		switch {
		case outside && len(members) == 0:
			return plural.Of(len(took), "outside address", "outside addresses") + " " + verb
		case len(took) >= len(members) && len(members) == 1:
			return ""
		case len(took) >= len(members):
			return "all " + plural.N(len(members)) + " " + verb
		}
		return plural.N(len(took)) + " of " + plural.N(len(members)) + " " + verb
	}
	var parts []string
	if c := side(r.left, 0, "call"); c != "" && !r.anyone {
		parts = append(parts, c)
	}
	if s := side(r.right, 1, "are called"); s != "" {
		parts = append(parts, s)
	}
	parts = append(parts, fmt.Sprintf("on %s of %d", days(p.Days), d.days))
	for _, k := range r.same {
		parts = append(parts, "all within their "+k.String())
	}
	if env := mirror(d).onlyIn(r); env != "" {
		parts = append(parts, fmt.Sprintf("seen in %s only: environments are copies in %d of %d such cases",
			d.show(d.keys[2], env), d.copies[0], d.copies[1]))
	}
	return strings.Join(parts, ", ")
}

// shape is what rules of several applications have in common: their tiers, and the
// service.
func (d proposer) shape(r *draft) string {
	if len(r.left) != 1 || len(r.right) != 1 || r.left[0].set == nil || r.right[0].set == nil || r.alone != "" {
		return ""
	}
	of := func(s *set) (app, tier string) {
		for _, t := range s.tests {
			switch {
			case t.key.Field:
			case t.key.Name == d.keys[0]:
				app = t.value
			case t.key.Name == d.keys[1]:
				tier = t.value
			}
		}
		return app, tier
	}
	a, ta := of(r.left[0].set)
	b, tb := of(r.right[0].set)
	if a == "" || a != b || ta == "" || tb == "" {
		return ""
	}
	var on []string
	for _, p := range r.points {
		on = append(on, p.String())
	}
	return d.show(d.keys[1], tb) + " ← " + d.show(d.keys[1], ta) + " on " + strings.Join(on, ", ")
}

// warnings reports what a person should look at before taking a proposal.
func (d proposer) warnings(r *draft, p *Proposal) []string {
	var out []string
	crossing, database, untagged := false, false, false
	for _, x := range r.edges {
		a, b := d.tags(x.client), d.tags(x.server)
		crossing = crossing || x.crossing
		database = database || service.Databases.Contains(r.points[0].Lo) && a[0] != b[0]
	}
	for _, items := range [2][]item{r.left, r.right} {
		for i := range items {
			if x := &items[i]; x.set == nil && !x.all && x.group == "" && !x.prefix.IsValid() && !d.isOutside(x.m) {
				t := d.tags(x.m)
				untagged = untagged || slices.Contains(t[:], "")
			}
		}
	}
	if untagged {
		out = append(out, "names a machine without a tag; tag it instead")
	}
	if crossing {
		out = append(out, "crosses environments")
	}
	if service.Administration.Contains(r.points[0].Lo) {
		out = append(out, "administration service")
	}
	if p := r.points[0].Lo; len(r.right) == 1 && d.oneAddress(&r.right[0]) && p.Port() >= 1024 {
		out = append(out, "to one outside address, on an unusual port")
	}
	if database {
		out = append(out, "database reached from another application")
	}
	if d.days >= 3 && p.Days*3 <= d.days {
		out = append(out, fmt.Sprintf("seen on %s of %d only", days(p.Days), d.days))
	}
	switch f := p.Fill(); {
	case f < 0.05 && !r.anyone && p.Clients*4 < r.members[0]:
		out = append(out, fmt.Sprintf("wide: %s of what it opens was seen", percent(f)))
	case p.Opened >= mostTimes*p.Pairs && !r.anyone:
		out = append(out, fmt.Sprintf("opens %d × what was seen", p.Opened/max(1, p.Pairs)))
	}
	if quiet, all := d.notFromOutside(r); quiet > 0 {
		out = append(out, fmt.Sprintf("%d of %s never called from outside", quiet, plural.Of(all, "server was",
			"servers were")))
	}
	if n := d.droppedBy(r); n > 0 {
		out = append(out, fmt.Sprintf("permits %s that the network drops today", plural.Of(n, "conversation")))
	}
	return out
}

// mostTimes is from how many times what was seen on a rule is marked for what it opens.
const mostTimes = 10

// notFromOutside counts the servers of a rule for outside clients, and those of them that no such
// client called; 0, if the rule is for others.
func (d proposer) notFromOutside(r *draft) (quiet, all int) {
	if r.anyone || slices.ContainsFunc(r.left, func(x item) bool {
		return !x.all && x.group == "" && !x.prefix.IsValid() && (x.set != nil || !d.isOutside(x.m))
	}) {
		return 0, 0
	}
	called, servers := map[int32]bool{}, map[int32]bool{}
	for _, x := range r.edges {
		called[x.server] = true
	}
	for _, x := range r.right {
		if x.set != nil {
			for _, m := range x.set.members {
				servers[m] = true
			}
		}
	}
	for m := range servers {
		if !called[m] {
			quiet++
		}
	}
	return quiet, len(servers)
}

// droppedBy counts the conversations that a rule permits and of which the network let no connection
// through.
func (d proposer) droppedBy(r *draft) (n int) {
	for _, p := range r.points {
		from, _ := slices.BinarySearchFunc(d.dropped, p.Lo, func(i int32, lo service.Point) int {
			return cmp.Compare(d.in.Conversations[i].Point, lo)
		})
		for _, i := range d.dropped[from:] {
			if d.in.Conversations[i].Point > p.Hi {
				break
			}
			if d.permits(r, &edge{client: d.ends[i][0], server: d.ends[i][1]}) {
				n++
			}
		}
	}
	return n
}

// findDropped finds what the network let nothing of through, but for scans, by service.
func (d proposer) findDropped() {
	for i := range d.in.Conversations {
		if c := &d.in.Conversations[i]; c.Connections == 0 && c.Dropped > 0 && !d.scanned[i] {
			d.dropped = append(d.dropped, int32(i))
		}
	}
	slices.SortStableFunc(d.dropped, func(a, b int32) int {
		return cmp.Compare(d.in.Conversations[a].Point, d.in.Conversations[b].Point)
	})
}

// oneAddress reports whether an item is a single outside address.
func (d proposer) oneAddress(x *item) bool {
	if x.set != nil || x.all || x.group != "" {
		return false
	}
	return x.prefix.IsValid() && x.prefix.IsSingleIP() || !x.prefix.IsValid() && d.isOutside(x.m)
}

func (p *Proposal) note() string {
	return fmt.Sprintf("%s of %s seen, %s", plural.N(p.Pairs), plural.Of(p.Opened, "pair"), days(p.Days))
}

func days(n int) string { return plural.Of(n, "day") }

func percent(f float64) string {
	if f > 0 && f < 0.01 {
		return "under 1 %"
	}
	return fmt.Sprintf("%d %%", int(f*100))
}
