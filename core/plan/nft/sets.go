package nft

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/plan"
)

// set writes a set for each family that is guarded; that it is empty now is no reason
// to leave it out.
func (r *renderer) set(s *plan.Set) {
	for _, f := range families {
		if !guarded(r.p, f.six) || whole(r.p, s, f.six) {
			continue
		}
		have := s.Addresses.Family(f.six)
		r.say(1, "set %s {", r.prefix+setName(s, f.six))
		r.say(2, "# %s", printable(s.Words))
		r.say(2, "type %s", f.typed)
		r.say(2, "flags interval")
		if len(have) > 0 {
			r.say(2, "elements = {")
			_, _ = r.b.WriteString(s.Elements(f.six))
			_ = r.b.WriteByte('\n')
			r.say(2, "}")
		}
		r.say(1, "}")
	}
}

// guarded reports whether there is a guarded address of a family.
func guarded(p *plan.Plan, six bool) bool {
	return slices.ContainsFunc(p.Classes, func(c plan.Class) bool { return c.Has(six) })
}

// whole reports whether a rule asks for the family instead of a set. Those of parcels
// are asked for always: addresses come and go in them while the rules stay.
func whole(p *plan.Plan, s *plan.Set, six bool) bool {
	return s.Addresses.Whole(six) && !strings.HasPrefix(s.Name, parcelPrefix)
}

// Ended are the names of the sets of ended connections, for IPv4 and IPv6: source and
// destination address, protocol, source and destination port.
var Ended = [2]string{"ended_4", "ended_6"}

// EndedFor is how long a connection that was ended stays dropped after its last packet:
// as long as the kernel remembers an idle TCP connection.
const EndedFor = 5 * 24 * time.Hour

// Element is one direction of an ended connection.
type Element struct {
	From, To netip.AddrPort
	Proto    uint8
}

// mostEnded is how many directions of ended connections a set has room for.
const mostEnded = 1 << 20

func (r *renderer) ended() {
	for i, f := range families {
		r.say(1, "set %s {", Ended[i])
		r.say(2, "type %s . %s . inet_proto . inet_service . inet_service", f.typed, f.typed)
		r.say(2, "flags dynamic,timeout")
		r.say(2, "size %d", mostEnded)
		r.say(2, "timeout %ds", int(EndedFor.Seconds()))
		sep := "elements = {"
		for _, e := range r.o.Ended {
			if e.From.Addr().Is6() == f.six {
				r.say(2, "%s %s . %s . %d . %d . %d", sep, e.From.Addr(), e.To.Addr(), e.Proto, e.From.Port(),
					e.To.Port())
				sep = ","
			}
		}
		if sep == "," {
			r.say(2, "}")
		}
		r.say(1, "}")
	}
}

// Contents returns what the sets and maps of loaded plans contain, by their names in the
// kernel: addresses, and the chain that each guarded address leads to.
func Contents(l plan.Loaded) (sets map[string]plan.Addresses, ways map[string]map[netip.Addr]string) {
	sets = map[string]plan.Addresses{}
	for _, x := range loadedOf(l) {
		for _, f := range families {
			if !guarded(x.plan, f.six) {
				continue
			}
			for _, s := range setsOf(x.plan) {
				if !whole(x.plan, s, f.six) {
					sets[x.prefix+setName(s, f.six)] = s.Addresses.Family(f.six)
				}
			}
		}
	}
	return sets, Ways(l)
}

// Ways returns what the maps of loaded plans contain.
func Ways(l plan.Loaded) map[string]map[netip.Addr]string {
	ways := map[string]map[netip.Addr]string{}
	for _, x := range loadedOf(l) {
		for _, w := range waysOf(x.plan.Side) {
			for _, f := range families {
				ways[x.prefix+w.name+f.name] = map[netip.Addr]string{}
			}
			for i := range x.plan.Classes {
				for _, a := range x.plan.Classes[i].Addresses {
					ways[x.prefix+w.name+familyOf(a)][a] = x.prefix + w.prefix + x.plan.Classes[i].Name
				}
			}
		}
	}
	return ways
}

type wayNames struct{ name, prefix string }

func waysOf(side plan.Side) (out []wayNames) {
	if side != plan.Client {
		out = append(out, wayNames{"servers_", "s_"}, wayNames{"answering_", "as_"})
	}
	if side != plan.Server {
		out = append(out, wayNames{"clients_", "d_"}, wayNames{"answered_", "ad_"})
	}
	return out
}

func familyOf(a netip.Addr) string {
	if a.Is6() {
		return families[1].name
	}
	return families[0].name
}

func setName(s *plan.Set, six bool) string {
	if six {
		return s.Name + "_6"
	}
	return s.Name + "_4"
}

// ways writes the maps from guarded addresses to chains.
func (r *renderer) ways(name, prefix string) {
	for _, f := range families {
		r.say(1, "map %s%s%s {", r.prefix, name, f.name)
		r.say(2, "type %s : verdict", f.typed)
		var elements []string
		for i := range r.p.Classes {
			for _, a := range r.p.Classes[i].Addresses {
				if a.Is6() == f.six {
					elements = append(elements, fmt.Sprintf("%s : goto %s%s%s", a, r.prefix, prefix,
						r.p.Classes[i].Name))
				}
			}
		}
		if len(elements) > 0 {
			r.say(2, "elements = {")
			r.say(3, "%s", strings.Join(elements, ",\n\t\t\t"))
			r.say(2, "}")
		}
		r.say(1, "}")
	}
}
