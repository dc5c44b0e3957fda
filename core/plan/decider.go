package plan

import (
	"net/netip"

	"lucidorchard/core/decide"
	"lucidorchard/core/service"
)

// Decider answers for many conversations what a plan does with them. It is not
// changed, and safe for use by several goroutines.
type Decider struct {
	plan  *Plan
	class map[netip.Addr]int // guarded address → index of Classes
}

// fate is what a plan does with the first packet of a conversation.
type fate struct {
	Verdict   decide.Verdict
	Line      int  // of the rule that decides; 0: none
	Concerned bool // whether the point polices it
}

// Decider prepares for many questions.
func (p *Plan) Decider() *Decider {
	d := &Decider{p, map[netip.Addr]int{}}
	for i := range p.Classes {
		for _, a := range p.Classes[i].Addresses {
			d.class[a] = i
		}
	}
	return d
}

// Decide returns the fate of a conversation at a second (Unix): rules that are over
// then match nothing. Where both ends are guarded, the server's rules decide.
func (d *Decider) Decide(client, server netip.Addr, pt service.Point, at int64) fate {
	p := d.plan
	if i, in := d.class[server]; in && p.Side != Client {
		return p.first(p.Classes[i].Server, client, pt, at)
	}
	if i, in := d.class[client]; in && p.Side != Server {
		return p.first(p.Classes[i].Client, server, pt, at)
	}
	return fate{Verdict: decide.Uncovered}
}

func (p *Plan) first(rules []Rule, peer netip.Addr, pt service.Point, at int64) fate {
	for i := range rules {
		r := &rules[i]
		if (r.Until == 0 || at < r.Until) && r.Points.Contains(pt) &&
			p.includes(r, peer) {
			if r.Verdict == Permit {
				return fate{decide.Permit, r.Line, true}
			}
			return fate{decide.Reject, r.Line, true}
		}
	}
	return fate{decide.Uncovered, 0, true}
}
