package inventory

import (
	"fmt"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/prove"
	"lucidorchard/model"
	"lucidorchard/refuse"
)

// PerEstate remembers answers that hang on the estate alone, for the last one
// that was asked about.
type PerEstate[T any] struct {
	mu     sync.Mutex
	estate *estate.Estate
	by     map[string]T
}

// Get returns what was remembered for an estate under a name.
func (c *PerEstate[T]) Get(e *estate.Estate, name string) (T, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.estate != e {
		var none T
		return none, false
	}
	v, ok := c.by[name]
	return v, ok
}

// Put remembers an answer for an estate; what was kept for another one is dropped.
func (c *PerEstate[T]) Put(e *estate.Estate, name string, v T) {
	c.mu.Lock()
	defer c.mu.Unlock()
	const most = 64
	if c.estate != e || len(c.by) >= most {
		c.estate, c.by = e, map[string]T{}
	}
	c.by[name] = v
}

// meant tells a broken expression from words that are looked for.
var meant = regexp.MustCompile(
	`(?i)[()=]|(^|\s)(is|in|has|lacks|starts|ends|contains|matches|member of|address in)(\s|$)|` +
		`\S\s+(and|or)(\s|$)|^not\s`)

// UnknownKeys reports which keys of an expression nothing has, with the nearest that
// something has; blank: none.
func UnknownKeys(snap *model.Model, text string) string {
	e, errs := expr.ParseText(text)
	if text == "" || len(errs) > 0 {
		return ""
	}
	return strings.Join(prove.WordsOf(snap.Estate).Keys(e), ". ")
}

// Filter selects workloads: those that agree with all of it.
type Filter struct {
	Text  string   `query:"q" doc:"Words in the id, the name, an address or a tag; or an expression"`
	Tags  []string `query:"tag,explode" doc:"key=value; several of one key are alternatives; value (missing) is those without, (not applicable) those without that it does not apply to"`
	Group string   `query:"group" doc:"Only members of this group"`
	Gone  bool     `query:"retired" doc:"Those that are retired, instead of those that are there"`
	Guard string   `query:"guarded" enum:"both,server,client,none,exempt" doc:"Only those that enforcement points guard where they are called and where they call, only the one, only the other, not at all, or not because somebody said so"`
}

// Select returns the indexes of the workloads that a filter selects, rising.
func Select(snap *model.Model, f Filter) ([]int32, error) {
	byKey := map[string][]string{}
	for _, t := range f.Tags {
		key, value, ok := strings.Cut(t, "=")
		if !ok {
			return nil, refuse.Invalid(fmt.Sprintf("tag: found %q, expected key=value", t))
		}
		byKey[key] = append(byKey[key], value)
	}
	var words []string
	var test *expr.Expr
	if f.Text != "" {
		if e, errs := expr.ParseText(f.Text); len(errs) == 0 {
			test = e
		} else if meant.MatchString(f.Text) {
			return nil, &refuse.Problem{Kind: refuse.IsInvalid, Where: "query.q", Found: f.Text,
				Detail: fmt.Sprintf("q: character %d: %s", errs[0].Col, errs[0].Message)}
		} else {
			words = strings.Fields(strings.ToLower(f.Text))
		}
	}
	if f.Group != "" && snap.Policy.Groups[f.Group] == nil {
		return nil, refuse.Missing("there is no group " + f.Group)
	}
	parts := make([][]int32, 2*runtime.GOMAXPROCS(0))
	bound := snap.Estate.Bound()
	decide.Parallel(len(parts), len(parts), func(_, part int) {
		walk := decide.NewWalk(snap.Estate, snap.Policy, snap.Compiled.AsOf)
		for i := int32(part * bound / len(parts)); i < int32((part+1)*bound/len(parts)); i++ {
			w := snap.Estate.Workload(i)
			if w == nil || w.Retired.IsZero() == f.Gone || !hasTags(snap, i, byKey) || !Mentions(w, words) {
				continue
			}
			if test != nil || f.Group != "" {
				// Each filter by itself, as they are listed alone: with one address it may
				// be in the group, for another the expression may hold.
				holds, member := test == nil, f.Group == ""
				for _, ep := range snap.Estate.Endpoints(i, snap.Compiled.AsOf) {
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

func hasTags(m *model.Model, i int32, byKey map[string][]string) bool {
	for key, values := range byKey {
		if !slices.Contains(values, valueOf(m, i, key)) {
			return false
		}
	}
	return true
}

// valueOf returns what filters call the tag of a workload: its value, Missing or NotApplicable.
func valueOf(m *model.Model, i int32, key string) string {
	t, ok := m.Estate.Workload(i).Tag(key)
	switch {
	case ok:
		return t.Value
	case m.Missing(i, key):
		return Missing
	}
	return NotApplicable
}

// Mentions reports whether every word, in lower case, is in the id, the name or a
// tag, or begins an address.
func Mentions(w *estate.Workload, words []string) bool {
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

// InOrder puts the workloads that are selected in an order.
func InOrder(selected, order []int32, down bool) []int32 {
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

// Naturally returns a key by which numbers in texts sort by their size.
func Naturally(s string) string {
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

// What filters call a tag that a workload lacks: one that applies to it, and one that does not.
const (
	Missing       = "(missing)"
	NotApplicable = "(not applicable)"
)
