package reach

import (
	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
)

// Contradictions returns the conversations of the window that a statement would make
// unwanted, as indexes in rising order: for an assertion with never, those that it speaks
// of; for a rule that rejects, those that it decides. Conversations of which every
// connection was dropped are left out: they run no longer.
//
// line is the line of the statement in the view's policy. Other statements have none.
func (v *View) Contradictions(line int) (out []int) {
	speaks := speaksOf(v, line)
	if speaks == nil {
		return nil
	}
	for i := range v.rules {
		if (v.dropped[i] == 0 || v.dropped[i] < v.cols.Connections[i]) && speaks(i) {
			out = append(out, i)
		}
	}
	return out
}

// speaksOf returns which conversations a statement is about; nil for one of another kind.
func speaksOf(v *View, line int) func(i int) bool {
	for r, rule := range v.Compiled.Policy.Rules {
		if rule.Line == line && decide.VerdictOf(rule) == decide.Reject {
			return func(i int) bool { return v.rules[i] == int32(r) }
		}
	}
	for k, a := range v.Compiled.Policy.Asserts {
		if a.Line != line || a.Kind != policy.Never {
			continue
		}
		left, right, agrees, points := v.Compiled.AssertClasses(k)
		return func(i int) bool {
			client, server := v.Client(i), v.Server(i)
			return left(client.Class) && right(server.Class) && agrees(client.Class, server.Class) &&
				points.Contains(v.Point(i)) &&
				(client.Workload == estate.Outside || client.Workload != server.Workload)
		}
	}
	return nil
}
