package assemblytest

import (
	"lucidorchard/drafting"
	draftingrest "lucidorchard/drafting/rest"
)

// OpenProposals returns the proposals of the balance that was asked for.
func OpenProposals(ps draftingrest.Proposals) (out []draftingrest.ProposalOut) {
	for _, at := range ps.Derived.Path {
		if at.Balance != ps.Derived.Balance {
			continue
		}
		for _, id := range at.IDs {
			for _, p := range ps.Derived.Proposals {
				if p.ID == id {
					out = append(out, p)
				}
			}
		}
	}
	return out
}

// Judgements is a request that judges proposals.
func Judgements(revision int, all ...drafting.Judgement) map[string]any {
	return map[string]any{"revision": revision, "judgements": all}
}

func Taking(p draftingrest.ProposalOut) drafting.Judgement {
	return drafting.Judgement{Proposal: p.ID, Do: "take"}
}
