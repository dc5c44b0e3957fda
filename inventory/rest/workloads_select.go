package rest

import (
	"cmp"

	// Which workloads a filter means, and in what order they are shown.
	"context"
	"slices"
	"strings"

	"lucidorchard/inventory"
	"lucidorchard/model"
)

// selectGuarded is selectWorkloads, and looks at how they are guarded.
func (s *Selector) selectGuarded(ctx context.Context, snap *model.Model, f inventory.Filter) ([]int32, error) {
	out, err := inventory.Select(snap, f)
	if err != nil || f.Guard == "" {
		return out, err
	}
	side, err := s.Sides(ctx, snap)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(out, func(w int32) bool { return side(w) != f.Guard }), nil
}

// order returns all workloads by name, address or a tag, and remembers it for the
// estate.
func (s *Workloads) order(snap *model.Model, key string) []int32 {
	if have, ok := s.orders.Get(snap.Estate, key); ok {
		return have
	}
	type keyed struct {
		key string
		i   int32
	}
	all := make([]keyed, 0, snap.Estate.Len())
	for i, w := range snap.Estate.All() {
		k := ""
		switch key {
		case "name":
			k = inventory.Naturally(w.Label())
		case "address":
			if len(w.Leases) > 0 {
				b := w.Leases[len(w.Leases)-1].Addr.As16()
				k = string(b[:])
			}
		default:
			t, _ := w.Tag(key)
			k = inventory.Naturally(t.Value)
		}
		all = append(all, keyed{k, i})
	}
	slices.SortFunc(all, func(a, b keyed) int { return cmp.Or(strings.Compare(a.key, b.key), cmp.Compare(a.i, b.i)) })
	out := make([]int32, len(all))
	for k, x := range all {
		out[k] = x.i
	}
	s.orders.Put(snap.Estate, key, out)
	return out
}

// Selector finds the workloads that a filter selects.
type Selector struct {
	// Sides returns how workloads are guarded.
	Sides func(context.Context, *model.Model) (func(workload int32) string, error)
}
