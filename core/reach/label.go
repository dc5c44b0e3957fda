package reach

import (
	"strings"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/policy"
)

// Label is how an endpoint is called in the ledger.
type Label struct {
	Text string
	Kind string // group, tags, workload, outside
	Lack string // a structural tag that the workload lacks
}

// Key tells labels apart that read alike: a group and tags of one name.
func (l Label) Key() string { return l.Kind + " " + l.Text + " " + l.Lack }

// labeler calls endpoints by the narrowest group that fits, or by their tags.
type labeler struct {
	c     *decide.Compiled
	sizes map[string]int          // workloads in each group
	roles map[[3]string]int       // workloads with the same tags
	cache map[decide.Placed]Label // by workload and address
}

// Structural are the tag keys that say where a workload belongs.
var Structural = []string{"app", "tier", "env", "site"}

func newLabeler(c *decide.Compiled) *labeler {
	l := &labeler{c: c, sizes: map[string]int{}, roles: map[[3]string]int{}, cache: map[decide.Placed]Label{}}
	for i := range c.Estate.Workloads {
		w := &c.Estate.Workloads[i]
		l.roles[role(w)]++
		if p, ok := first(c, w); ok {
			c.EachGroup(p, func(g *policy.Group, t expr.Truth) {
				if t == expr.Yes {
					l.sizes[g.Name]++
				}
			})
		}
	}
	return l
}

// first places a workload by the first lease that holds anything.
func first(c *decide.Compiled, w *estate.Workload) (decide.Placed, bool) {
	for _, l := range w.Leases {
		if !l.Empty() {
			return c.At(l.Addr, l.From), true
		}
	}
	return decide.Placed{}, false
}

func role(w *estate.Workload) (out [3]string) {
	for i, k := range Structural[:3] {
		t, _ := w.Tag(k)
		out[i] = expr.Fold(t.Value)
	}
	return out
}

func (l *labeler) of(p decide.Placed) Label {
	if have, ok := l.cache[p]; ok {
		return have
	}
	out := l.find(p)
	l.cache[p] = out
	return out
}

func (l *labeler) find(p decide.Placed) Label {
	best, size := "", 1<<30
	l.c.EachGroup(p, func(g *policy.Group, t expr.Truth) {
		if t != expr.Yes {
			return
		}
		if n := l.sizes[g.Name]; n < size || n == size && g.Name < best {
			best, size = g.Name, n
		}
	})
	if p.Workload == estate.Outside {
		if best != "" && size < len(l.c.Estate.Workloads)/2+1 {
			return Label{Text: best, Kind: "group"}
		}
		return Label{Text: "outside", Kind: "outside"}
	}
	w := &l.c.Estate.Workloads[p.Workload]
	r := role(w)
	// A group is a good name if it holds not many more than those that are alike.
	if best != "" && size <= 2*l.roles[r]+1 {
		return Label{Text: best, Kind: "group"}
	}
	var parts []string
	lack := ""
	for i, k := range Structural[:3] {
		if r[i] != "" {
			parts = append(parts, r[i])
		} else if lack == "" {
			lack = k
		}
	}
	if len(parts) == 0 {
		return Label{Text: w.Label(), Kind: "workload", Lack: lack}
	}
	return Label{Text: strings.Join(parts, "-"), Kind: "tags", Lack: lack}
}
