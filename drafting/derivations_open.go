package drafting

import (
	"context"

	// The newest derivation as it stands under the draft.
	"encoding/json"
	"fmt"
	"slices"
	"sync"

	"lucidorchard/core/decide"
	"lucidorchard/core/derive"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// derivations remembers the newest derivation, which does not change once it is stored, and
// which of its conversations the draft that was asked about last leaves open.
type derivations struct {
	mu     sync.Mutex
	newest *keptDerivation
	under  *decide.Compiled
	open   []bool
	closed int // of those that are open, how many the closing layer decides
}

// keptDerivation is a derivation as it was stored.
type keptDerivation struct {
	Derived
	seen   []derive.Seen // nil: an earlier version derived, which did not keep them
	behind []behind      // of each proposal
}

// newestDerivation returns the newest derivation, nil if there is none, and which of its
// conversations the draft leaves open; closing of them only its closing layer decides. The caller must not change
// either.
func (a *Service) newestDerivation(ctx context.Context, m *model.Model) (d *keptDerivation, open []bool, closing int,
	err error) {
	id, err := a.Store.NewestDerivationID(ctx)
	if err != nil || id == 0 {
		return nil, nil, 0, err
	}
	k := &a.derivations
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.newest == nil || k.newest.ID != id {
		d, err := a.readDerivation(ctx, id)
		if err != nil {
			return nil, nil, 0, err
		}
		k.newest, k.under = d, nil
	}
	if k.under != m.Compiled {
		k.under = m.Compiled
		k.open, k.closed = derive.Open(m.Compiled, k.newest.seen)
	}
	return k.newest, k.open, k.closed, nil
}

func (a *Service) readDerivation(ctx context.Context, id int64) (*keptDerivation, error) {
	row, rows, err := a.Store.ReadDerivation(ctx, id)
	if err != nil {
		return nil, err
	}
	d := &keptDerivation{}
	if err := json.Unmarshal(row.Body, &d.Derived); err != nil {
		return nil, fmt.Errorf("derivation %d cannot be read: %w", id, err)
	}
	if row.Seen != nil {
		d.seen = []derive.Seen{}
		if err := unpacked(row.Seen, &d.seen); err != nil {
			return nil, fmt.Errorf("the conversations of derivation %d cannot be read: %w", id, err)
		}
	}
	d.ID = row.ID
	for _, row := range rows {
		p, err := readProposal(row)
		if err != nil {
			return nil, err
		}
		var b behind
		if row.Seen != nil {
			if err := unpacked(row.Seen, &b); err != nil {
				return nil, fmt.Errorf("the conversations of proposal %d cannot be read: %w", row.ID, err)
			}
		}
		d.Proposals, d.behind = append(d.Proposals, p), append(d.behind, b)
	}
	return d, nil
}

// Derived returns the newest derivation as far as the draft leaves it open, and all
// refusals, newest first; nil if there is no derivation yet. A proposal all of whose
// conversations are decided by now is not among its proposals.
func (a *Service) Derived(ctx context.Context, m *model.Model) (*Derived, []Refusal, error) {
	refused, err := a.Store.Refusals(ctx)
	if err != nil {
		return nil, nil, err
	}
	kept, open, closing, err := a.newestDerivation(ctx, m)
	if err != nil || kept == nil {
		return nil, refused, err
	}
	d := kept.Derived
	d.Proposals = []Proposal{}
	have := linesOf(m)
	counted := map[int64][2][]int{} // of each proposal, its evidence: to judge, or refused
	for i, p := range kept.Proposals {
		if have[p.Key] > 0 {
			continue
		}
		b := &kept.behind[i]
		p.Open, p.Choices = p.Conversations, slices.Clone(p.Choices)
		if kept.seen != nil {
			p.Open = derive.Still(open, b.Own)
		}
		if p.Open == 0 {
			continue
		}
		for k := range p.Choices {
			c := &p.Choices[k]
			c.Open = c.Conversations
			if kept.seen != nil {
				c.Open = derive.Still(open, b.Choices[k])
			}
		}
		if p.Refused = standing(refused, p.Key, have); p.Refused != nil {
			p.Again = muchMore(p.Refused, p.Conversations, p.CallerCount)
		}
		if p.toJudge() {
			counted[p.ID] = [2][]int{b.Own, nil}
		} else {
			counted[p.ID] = [2][]int{nil, b.Own}
		}
		d.Proposals = append(d.Proposals, p)
	}
	if kept.seen != nil {
		d.Path = slices.Clone(d.Path)
		for i := range d.Path {
			var toJudge, no [][]int
			for _, id := range d.Path[i].IDs {
				toJudge, no = append(toJudge, counted[id][0]), append(no, counted[id][1])
			}
			parts := derive.Count(kept.seen, open, toJudge, no)
			parts.Closing = closing
			d.Path[i].Parts = &parts
		}
		d.Aside = stillAside(kept, open)
	}
	// A tag that was set since is not worth setting any more.
	tags := []NamedTag{}
	for _, t := range d.Tags {
		i, ok := m.Estate.ByID(t.Workload)
		if !ok {
			continue
		}
		if tag, _ := m.Estate.Workload(i).Tag(t.Key); tag.Value == t.Was {
			tags = append(tags, t)
		}
	}
	d.Tags = tags
	gone := []GoneRule{}
	for _, g := range d.Gone {
		if line := have[g.Sentence]; line > 0 { // lines move
			g.Line = line
			gone = append(gone, g)
		}
	}
	d.Gone = gone
	return &d, refused, nil
}

// stillAside returns what was set aside and is open, by reason.
func stillAside(kept *keptDerivation, open []bool) []Aside {
	counts := make([]int, 1+len(kept.Aside))
	for i, s := range kept.seen {
		if open[i] {
			counts[s.Aside]++
		}
	}
	out := []Aside{}
	for k, x := range kept.Aside {
		if x.Conversations = counts[k+1]; x.Conversations == 0 {
			continue
		}
		examples := []Talk{}
		for _, t := range x.Examples {
			if open[t.Number] {
				examples = append(examples, t)
			}
		}
		x.Examples = examples
		out = append(out, x)
	}
	return out
}

// Waiting counts the proposals that are still to be judged at the balance that was
// derived for, with those that can only be narrowed.
func (a *Service) Waiting(ctx context.Context, m *model.Model) (int, error) {
	d, _, err := a.Derived(ctx, m)
	if err != nil || d == nil {
		return 0, err
	}
	shown := map[int64]bool{}
	for _, at := range d.Path {
		for _, id := range at.IDs {
			shown[id] = shown[id] || at.Balance == d.Balance
		}
	}
	n := 0
	for _, p := range d.Proposals {
		if (shown[p.ID] || p.Barred) && p.toJudge() {
			n++
		}
	}
	return n, nil
}

// linesOf returns the lines of the draft's rules by their sentences.
func linesOf(m *model.Model) map[string]int {
	have := map[string]int{}
	for _, r := range m.Policy.Rules {
		have[r.Sentence()] = r.Line
	}
	return have
}

// standing finds the refusal of a rule that holds; nil: none.
func standing(refused []Refusal, rule string, have map[string]int) *Refusal {
	for i := range refused {
		if r := &refused[i]; r.Rule == rule && (r.Instead == "" || have[r.Instead] > 0) {
			return r
		}
	}
	return nil
}

// muchMore reports whether the evidence has changed so much since a refusal that
// a person should look again: twice the conversations or callers, and not just a
// few.
func muchMore(r *Refusal, conversations, callers int) bool {
	return r.Conversations > 0 && (conversations >= 2*r.Conversations+5 || callers >= 2*r.Callers+3)
}

// AddAside adds the conversations that the newest derivation set aside for a reason.
func (a *Service) AddAside(ctx context.Context, reason string, add func(reach.Talk)) error {
	found, err := a.Store.SetAside(ctx, reason)
	for _, x := range found {
		add(reach.Talk{Client: x.Client, Server: x.Server, Point: x.Point})
	}
	return err
}
