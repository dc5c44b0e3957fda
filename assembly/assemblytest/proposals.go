package assemblytest

import (
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
func Judgements(revision int, all ...draftingrest.Judgement) map[string]any {
	return map[string]any{"revision": revision, "judgements": all}
}

func Taking(p draftingrest.ProposalOut) draftingrest.Judgement {
	return draftingrest.Judgement{Proposal: p.ID, Do: "take"}
}
