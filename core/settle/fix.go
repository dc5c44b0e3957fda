package settle

import (
	"lucidorchard/core/decide"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
)

// fix is an edit of the policy after which an assertion holds.
type fix struct {
	Words  string
	Lines  []string // statements, one each
	Before int      // see Option
	Text   string   // of the policy with it
}

// FixAssertion finds rules that make an assertion hold that does not: a reject
// for never, a permit for always, both for only. They stand before the first
// rule that decides otherwise. ok is false if that does not do.
func FixAssertion(c *decide.Compiled, text string, r prove.Result) (m fix, ok bool) {
	if r.Outcome == prove.Holds {
		return m, false
	}
	a := r.Assert
	rule := func(action policy.Action, left policy.List) string {
		return (&policy.Rule{Action: action, Left: left, Right: a.Right, On: a.On, Clauses: a.Clauses,
			Head: policy.Head{Note: a.Note}}).String()
	}
	switch a.Kind {
	case policy.Never:
		m.Words, m.Lines = "Reject all of it", []string{rule(policy.Reject, a.Left)}
	case policy.Always:
		m.Words, m.Lines = "Permit all of it", []string{rule(policy.Permit, a.Left)}
	case policy.Only:
		m.Words, m.Lines = "Permit the named ones and reject all others",
			[]string{rule(policy.Permit, a.Left), rule(policy.Reject, policy.List{Any: true})}
	}
	index := -1
	for i, x := range c.Policy.Asserts {
		if x == a {
			index = i
		}
	}
	for index >= 0 {
		if r.Rule != nil && (m.Before == 0 || r.Rule.Line < m.Before) {
			m.Before = r.Rule.Line
		} else if m.Text != "" {
			return m, false // it is decided so behind the new rules, or by them
		}
		after, bad := Apply(text, m.Lines, m.Before)
		if bad != nil {
			return m, false
		}
		p, errs := policy.Parse(after)
		if len(errs) > 0 {
			return m, false
		}
		m.Text = after
		next := prove.Assertions(c.WithPolicy(p, c.AsOf).After)[index]
		if next.Outcome == prove.Holds {
			return m, true
		}
		if next.Rule == nil {
			return m, false
		}
		r.Rule = next.Rule // its line is that of the new text: behind the new rules it is too late
	}
	return m, false
}
