package reach

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
)

// namer names the ends of conversations by what people chose.
type namer struct{ *View }

// Label is how an endpoint is called in the ledger.
type Label struct {
	Text string
	Kind string // group, tags, workload, outside
	Lack string // a structural tag that the workload lacks
	// Nobody is whether no area fits, where ends are called by areas.
	Nobody bool
}

// Key distinguishes labels that read alike: a group and tags of one name.
func (l Label) Key() string { return l.Kind + " " + l.Text + " " + l.Lack }

// Structural are the tag keys that say where a workload belongs, if nobody has
// chosen others.
var Structural = []string{"app", "tier", "env", "site"}

// Naming is how many of them, from the first on, name what lacks a group.
const Naming = 3

// naming is what the ends of a view are called.
type naming struct {
	of   []int32 // by end: index into all
	all  []Label
	keys []string // by label: its key
	rank []int32  // by label: its place in the order of texts and keys
}

// ready finds keys and ranks once all labels are known.
func (n *naming) ready() *naming {
	n.keys, n.rank = make([]string, len(n.all)), make([]int32, len(n.all))
	order := make([]int32, len(n.all))
	for i, l := range n.all {
		n.keys[i], order[i] = l.Key(), int32(i)
	}
	slices.SortFunc(order, func(a, b int32) int {
		return cmp.Or(strings.Compare(n.all[a].Text, n.all[b].Text), strings.Compare(n.keys[a], n.keys[b]))
	})
	for i, k := range order {
		n.rank[k] = int32(i)
	}
	return n
}

// What sides can be called by beside the tags of a key.
const (
	ByArea  = "~area"
	ByOwner = "~owner"
)

// naming returns what ends are called: by the tag of a key, by their areas, or by
// their groups.
func (v namer) naming(by string) *naming {
	return v.cache.namings.get(by, func() *naming {
		if by == "" {
			return v.name().ready()
		}
		if by == ByArea || by == ByOwner {
			return parter(v).nameByArea(by == ByOwner).ready()
		}
		return v.nameByTag(by).ready()
	})
}

// nameByTag calls each end by its value of a key.
func (v namer) nameByTag(key string) *naming {
	out := &naming{of: make([]int32, len(v.places))}
	index := map[Label]int32{}
	for i, p := range v.places {
		l := Label{Text: "outside", Kind: "outside"}
		if p.Workload != estate.Outside {
			l = Label{Text: "without " + key, Kind: "tags", Lack: key}
			if t, ok := v.Compiled.Estate.Workload(p.Workload).Tag(key); ok {
				l = Label{Text: t.Value, Kind: "tags"}
			}
		}
		out.of[i] = out.number(index, l)
	}
	return out
}

func (n *naming) number(index map[Label]int32, l Label) int32 {
	k, ok := index[l]
	if !ok {
		k = int32(len(n.all))
		index[l] = k
		n.all = append(n.all, l)
	}
	return k
}

// name calls each end by the narrowest group that fits, or by its tags.
func (v namer) name() *naming {
	c := v.Compiled
	sizes := c.GroupSizes()
	roles := map[[3]string]int{}
	for _, w := range c.Estate.All() {
		roles[v.role(w)]++
	}
	out := &naming{of: make([]int32, len(v.places))}
	index := map[Label]int32{}
	narrowest := map[int32]int32{} // by signature: index into the groups, or -1
	for i, p := range v.places {
		best, known := narrowest[p.Signature()]
		if !known {
			best = v.narrowest(p, sizes)
			narrowest[p.Signature()] = best
		}
		group, size := "", 1<<30
		if best >= 0 {
			group, size = c.Policy.GroupOrder[best].Name, sizes[best]
		}
		out.of[i] = out.number(index, v.label(p, group, size, roles))
	}
	return out
}

// narrowest returns the group with the fewest workloads that an endpoint is in.
func (v namer) narrowest(p decide.Placed, sizes []int) int32 {
	groups := v.Compiled.Policy.GroupOrder
	best := int32(-1)
	for i, t := range v.Compiled.Truths(p) {
		if t != expr.Yes {
			continue
		}
		if best < 0 || sizes[i] < sizes[best] || sizes[i] == sizes[best] && groups[i].Name < groups[best].Name {
			best = int32(i)
		}
	}
	return best
}

// role is what a workload has for the first three structural keys.
func (v namer) role(w *estate.Workload) (out [3]string) {
	for i, k := range v.Structural[:min(Naming, len(v.Structural))] {
		t, _ := w.Tag(k)
		out[i] = expr.Fold(t.Value)
	}
	return out
}

func (v namer) label(p decide.Placed, group string, size int, roles map[[3]string]int) Label {
	c := v.Compiled
	if p.Workload == estate.Outside {
		if group != "" && size < c.Estate.Len()/2+1 {
			return Label{Text: group, Kind: "group"}
		}
		return Label{Text: outsidePrefix(p.Addr).String(), Kind: "outside"}
	}
	w := c.Estate.Workload(p.Workload)
	r := v.role(w)
	// A group is a good name if it holds not many more than those that are alike.
	if group != "" && size <= 2*roles[r]+1 {
		return Label{Text: group, Kind: "group"}
	}
	var parts []string
	lack := ""
	for i, k := range v.Structural[:min(Naming, len(v.Structural))] {
		if r[i] != "" {
			parts = append(parts, r[i])
		} else if lack == "" && !v.Inapplicable.To(c.Estate, p.Workload, k, c.AsOf) {
			lack = k
		}
	}
	if len(parts) == 0 {
		return Label{Text: w.Label(), Kind: "workload", Lack: lack}
	}
	return Label{Text: strings.Join(parts, "-"), Kind: "tags", Lack: lack}
}

// outsidePrefix is what an address outside is called by, that no group names:
// the network that it is most likely part of.
func outsidePrefix(a netip.Addr) netip.Prefix {
	bits := 24
	if a.Is6() {
		bits = 48
	}
	p, _ := a.Prefix(bits)
	return p
}

// Labels returns how the two ends of a conversation are called.
func (v *View) Labels(i int) (client, server Label) {
	n := namer{v}.naming("")
	return n.all[n.of[v.cols.Client[i]]], n.all[n.of[v.cols.Server[i]]]
}

// Name calls an endpoint by its workload, or by its address.
func (v *View) Name(p decide.Placed) string {
	if p.Workload == estate.Outside {
		return p.Addr.String()
	}
	return v.Compiled.Estate.Workload(p.Workload).Label()
}
