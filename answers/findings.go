package answers

import (
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/model"
)

// FindingOut is something that a reader should know of a statement.
type FindingOut struct {
	Kind  string `json:"kind"`
	Words string `json:"words" doc:"The reason"`
	Fix   string `json:"fix,omitempty" doc:"What would settle it with one action, in words"`
	Turns bool   `json:"turns,omitempty" doc:"The fix decides something differently: look at the consequences first"`
}

func NewFindingOut(f prove.Finding) FindingOut {
	out := FindingOut{Kind: string(f.Kind), Words: f.Words}
	if f.Fix != nil {
		out.Fix, out.Turns = f.Fix.Words, f.Fix.Changes
	}
	return out
}

// FindingsAt returns what was found of the statement on a line.
func FindingsAt(snap *model.Model, line int) []FindingOut {
	out := []FindingOut{}
	for _, f := range snap.FindingsAt(line) {
		out = append(out, NewFindingOut(f))
	}
	return out
}

// EvidentAt returns what the window says of the rules, by their lines.
func EvidentAt(v *reach.View) map[int][]prove.Finding {
	out := map[int][]prove.Finding{}
	if v.Len() == 0 {
		return out
	}
	for _, f := range prove.Evident(v.Compiled, v.Evidence()) {
		out[f.Line] = append(out[f.Line], f)
	}
	return out
}

// RuleFindings adds to what is found over all points what the window says. That
// nothing hits a rule is no news where something else explains it.
func RuleFindings(r *policy.Rule, snap *model.Model, evident map[int][]prove.Finding) []FindingOut {
	if r.Off {
		return []FindingOut{{Kind: "off", Words: "It is off: it matches nothing."}}
	}
	out := FindingsAt(snap, r.Line)
	for _, f := range evident[r.Line] {
		if f.Kind != prove.NeverHit || len(out) == 0 {
			out = append(out, NewFindingOut(f))
		}
	}
	return out
}
