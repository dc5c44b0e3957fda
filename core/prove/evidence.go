package prove

import (
	"fmt"
	"slices"
	"strings"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// Findings that need to know what was seen in a window.
const (
	NeverHit Kind = "never hit in the window"
	TooWide  Kind = "wider than its evidence"
)

// Evidence is what was seen of the conversations that one rule decides.
type Evidence struct {
	Conversations    int
	Pairs            int             // different pairs of client and server
	Clients, Servers []decide.Placed // each once
}

// A permit is wider than its evidence if one of its sides lets in at least
// wideFrom workloads, of which at most one in wideShare took part. Pairs do not
// tell: nobody expects that each of many clients calls each of many servers.
const (
	wideFrom  = 8
	wideShare = 4
)

// partOf reports how few of those whom a side lets in took part; blank: enough did.
func partOf(size int, seen []decide.Placed, may, did string) string {
	took := map[int32]bool{}
	for _, p := range seen {
		if p.Workload == estate.Outside {
			return "" // nobody can say how many there are
		}
		took[p.Workload] = true
	}
	if size < wideFrom || len(took)*wideShare > size {
		return ""
	}
	return fmt.Sprintf("Of %d machines that may %s, %d %s in the window.", size, may, len(took), did)
}

// Evident returns the findings that follow from what was seen of each rule, by its
// index, in the order of the rules.
func Evident(c *decide.Compiled, seen []Evidence) []Finding {
	held := make([]int, len(c.Population(c.AsOf))) // workloads of each class, each once
	counted := map[int32]bool{}
	c.Estate.Held(c.AsOf, func(ep estate.Endpoint) {
		if !counted[ep.Workload] {
			counted[ep.Workload] = true
			held[c.At(ep.Addr, c.AsOf).Class]++
		}
	})
	sizes := sync.OnceValue(func() map[string]int {
		out := map[string]int{}
		for g, n := range c.GroupSizes() {
			out[c.Policy.GroupOrder[g].Name] = n
		}
		return out
	})
	var out []Finding
	for i, r := range c.Policy.Rules {
		if r.Off || r.Until != nil && r.Until.Past(c.AsOf) {
			continue
		}
		e := &seen[i]
		if e.Conversations == 0 {
			off := turnOff(r)
			off.Changes = true // of what was not seen
			out = append(out, Finding{Kind: NeverHit, Line: r.Line, Fix: off,
				Words: "No conversation of the window is decided by it."})
			continue
		}
		if r.Action != policy.Permit {
			continue
		}
		clients, servers := c.Sides(int32(i), held)
		words := strings.TrimSpace(partOf(clients, e.Clients, "call", "did") + " " +
			partOf(servers, e.Servers, "be called", plainly(len(e.Servers))))
		if words != "" {
			out = append(out, Finding{Kind: TooWide, Line: r.Line, Fix: narrow(c, r, e, sizes()), Words: words})
		}
	}
	return out
}

func plainly(n int) string {
	if n == 1 {
		return "was"
	}
	return "were"
}

// narrow proposes sides that hold what was seen and not much more: the smallest
// group that has it all; or, of clients, the workloads by id if they are few.
// Servers are not listed: one that is added tomorrow is to be reached too.
func narrow(c *decide.Compiled, r *policy.Rule, e *Evidence, sizes map[string]int) *Fix {
	less := *r
	var words []string
	for _, s := range []struct {
		list *policy.List
		seen []decide.Placed
		name string
	}{{&less.Left, e.Clients, "left"}, {&less.Right, e.Servers, "right"}} {
		if to, text, ok := narrower(c, *s.list, s.seen, sizes, s.name == "left"); ok {
			*s.list = to
			words = append(words, "its "+s.name+" side to "+text)
		}
	}
	if len(words) == 0 {
		return nil
	}
	text := "Narrow " + words[0]
	if len(words) > 1 {
		text += " and " + words[1]
	}
	return &Fix{text, []policy.Edit{{Op: policy.Change, Line: r.Line, Text: less.String()}}, true}
}

// fewWorkloads is up to how many workloads a side lists by id.
const fewWorkloads = 3

func narrower(c *decide.Compiled, l policy.List, seen []decide.Placed, sizes map[string]int, byID bool) (policy.List,
	string, bool) {
	for _, p := range seen {
		if p.Workload == estate.Outside {
			return l, "", false
		}
	}
	now := c.Estate.Len()
	if !l.Any {
		now = 0
		for _, o := range l.Items {
			switch o.Kind {
			case policy.InGroup:
				now += sizes[o.Name]
			case policy.IsWorkload:
				now++
			default:
				now += c.Estate.Len()
			}
		}
	}
	best, least := -1, 0
	for g := range c.Policy.GroupOrder {
		size := sizes[c.Policy.GroupOrder[g].Name]
		if size >= now/2 || best >= 0 && size >= least {
			continue
		}
		if !slices.ContainsFunc(seen, func(p decide.Placed) bool { return c.Truths(p)[g] != expr.Yes }) {
			best, least = g, size
		}
	}
	if best >= 0 {
		name := c.Policy.GroupOrder[best].Name
		to := policy.List{Items: []policy.Operand{{Kind: policy.InGroup, Name: name}}}
		return to, to.String(), true
	}
	workloads := map[int32]bool{}
	var to policy.List
	for _, p := range seen {
		if !workloads[p.Workload] {
			workloads[p.Workload] = true
			to.Items = append(to.Items, policy.Operand{Kind: policy.IsWorkload,
				Name: c.Estate.Workload(p.Workload).ID})
		}
	}
	if !byID || len(to.Items) > fewWorkloads || len(to.Items)*2 > now {
		return l, "", false
	}
	return to, to.String(), true
}
