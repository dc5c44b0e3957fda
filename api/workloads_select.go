package api

// Which workloads a filter means, and in what order they are shown.

import (
	"cmp"
	"context"
	"fmt"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/prove"
	"lucidorchard/model"
)

// meant tells a broken expression from words that are looked for.
var meant = regexp.MustCompile(`(?i)[()=]|(^|\s)(is|in|has|lacks|starts|ends|contains|matches|member of|address in)(\s|$)|` +
	`\S\s+(and|or)(\s|$)|^not\s`)

// unknownKeys says which keys of an expression nothing has, with the nearest that
// something has; blank: none.
func unknownKeys(snap *model.Model, text string) string {
	e, errs := expr.ParseText(text)
	if text == "" || len(errs) > 0 {
		return ""
	}
	return strings.Join(prove.WordsOf(snap.Estate).Keys(e), ". ")
}

// WorkloadFilter selects workloads: those that agree with all of it.
type WorkloadFilter struct {
	Text  string   `query:"q" doc:"Words in the id, the name, an address or a tag; or an expression"`
	Tags  []string `query:"tag,explode" doc:"key=value; several of one key are alternatives; value (missing) is those without"`
	Group string   `query:"group" doc:"Only members of this group"`
	Gone  bool     `query:"retired" doc:"Those that are retired, instead of those that are there"`
	Guard string   `query:"guarded" enum:"both,server,client,none,exempt" doc:"Only those that enforcement points guard where they are called and where they call, only the one, only the other, not at all, or not because somebody said so"`
}

// selectGuarded is selectWorkloads, and looks at how they are guarded.
func (s *base) selectGuarded(ctx context.Context, snap *model.Model, f WorkloadFilter) ([]int32, error) {
	out, err := selectWorkloads(snap, f)
	if err != nil || f.Guard == "" {
		return out, err
	}
	side, err := s.Sides(ctx, snap)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(out, func(w int32) bool { return side(w) != f.Guard }), nil
}

// selectWorkloads gives the indexes of the workloads that a filter selects.
func selectWorkloads(snap *model.Model, f WorkloadFilter) ([]int32, error) {
	byKey := map[string][]string{}
	for _, t := range f.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	var words []string
	var test *expr.Expr
	if f.Text != "" {
		if e, errs := expr.ParseText(f.Text); len(errs) == 0 {
			test = e
		} else if meant.MatchString(f.Text) {
			return nil, huma.Error422UnprocessableEntity(fmt.Sprintf("q: character %d: %s", errs[0].Col,
				errs[0].Message),
				&huma.ErrorDetail{Location: "query.q", Message: errs[0].Message, Value: f.Text})
		} else {
			words = strings.Fields(strings.ToLower(f.Text))
		}
	}
	if f.Group != "" && snap.Policy.Groups[f.Group] == nil {
		return nil, huma.Error404NotFound("there is no group " + f.Group)
	}
	parts := make([][]int32, 2*runtime.GOMAXPROCS(0))
	bound := snap.Estate.Bound()
	decide.Parallel(len(parts), len(parts), func(_, part int) {
		walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
		for i := int32(part * bound / len(parts)); i < int32((part+1)*bound/len(parts)); i++ {
			w := snap.Estate.Workload(i)
			if w == nil || w.Retired.IsZero() == f.Gone || !hasTags(w, byKey) || !mentions(w, words) {
				continue
			}
			if test != nil || f.Group != "" {
				// Each filter by itself, as they are listed alone: with one address it may
				// be in the group, for another the expression may hold.
				holds, member := test == nil, f.Group == ""
				for _, ep := range endpointsOf(snap.Estate, i, snap.Compiled.AsOf) {
					members := func(g string) expr.Truth { return walk.Group(g, ep) }
					holds = holds || test.Eval(decide.Subject(snap.Estate, ep), members) == expr.Yes
					member = member || walk.Group(f.Group, ep) == expr.Yes
				}
				if !holds || !member {
					continue
				}
			}
			parts[part] = append(parts[part], i)
		}
	})
	out := slices.Concat(parts...)
	if out == nil {
		out = []int32{}
	}
	return out, nil
}

func hasTags(w *estate.Workload, byKey map[string][]string) bool {
	for key, values := range byKey {
		t, ok := w.Tag(key)
		if !ok {
			t.Value = Missing
		}
		if !slices.Contains(values, t.Value) {
			return false
		}
	}
	return true
}

// mentions reports whether every word, in lower case, is in the id, the name or a
// tag, or begins an address.
func mentions(w *estate.Workload, words []string) bool {
	for _, word := range words {
		found := containsFold(w.ID, word) || containsFold(w.Name, word)
		if !found && (strings.IndexByte("0123456789abcdef:", word[0]) >= 0) {
			for _, l := range w.Leases {
				found = found || strings.HasPrefix(l.Addr.String(), word)
			}
		}
		for i := 0; !found && i < len(w.Tags); i++ {
			found = containsFold(w.Tags[i].Value, word)
		}
		if !found {
			return false
		}
	}
	return true
}

// containsFold reports whether s has a word that is in lower case, whatever the
// case of its own letters.
func containsFold(s, word string) bool {
	for i := 0; i+len(word) <= len(s); i++ {
		k := 0
		for k < len(word) {
			c := s[i+k]
			if c >= 0x80 { // beyond ASCII the lengths may differ
				return strings.Contains(strings.ToLower(s), word)
			}
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			if c != word[k] {
				break
			}
			k++
		}
		if k == len(word) {
			return true
		}
	}
	return false
}

// order gives all workloads by name, address or a tag, and remembers it for the
// estate.
func (s *workloadsAPI) order(snap *model.Model, key string) []int32 {
	if have, ok := s.orders.get(snap.Estate, key); ok {
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
			k = naturally(w.Label())
		case "address":
			if len(w.Leases) > 0 {
				b := w.Leases[len(w.Leases)-1].Addr.As16()
				k = string(b[:])
			}
		default:
			t, _ := w.Tag(key)
			k = naturally(t.Value)
		}
		all = append(all, keyed{k, i})
	}
	slices.SortFunc(all, func(a, b keyed) int { return cmp.Or(strings.Compare(a.key, b.key), cmp.Compare(a.i, b.i)) })
	out := make([]int32, len(all))
	for k, x := range all {
		out[k] = x.i
	}
	s.orders.put(snap.Estate, key, out)
	return out
}

// inOrder puts the workloads that are selected in an order.
func inOrder(selected, order []int32, down bool) []int32 {
	most := int32(-1)
	for _, i := range selected {
		most = max(most, i)
	}
	bits := make([]bool, most+1)
	for _, i := range selected {
		bits[i] = true
	}
	out := selected[:0]
	for k := range order {
		i := order[k]
		if down {
			i = order[len(order)-1-k]
		}
		if i <= most && bits[i] {
			out = append(out, i)
		}
	}
	return out
}

// naturally gives a key by which numbers in texts sort by their size.
func naturally(s string) string {
	if !strings.ContainsAny(s, "0123456789") {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		j := i
		for j < len(s) && s[j] >= '0' && s[j] <= '9' {
			j++
		}
		if j == i {
			b.WriteByte(s[i])
			i++
			continue
		}
		digits := strings.TrimLeft(s[i:j], "0")
		b.WriteString("0000000000000000000"[:max(0, 19-len(digits))])
		b.WriteString(digits)
		i = j
	}
	return b.String()
}
