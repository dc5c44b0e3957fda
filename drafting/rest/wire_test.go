package rest

import (
	"testing"

	"lucidorchard/answers/answerstest"
	"lucidorchard/drafting"
)

func TestAnswersCarryWhatTheyAreMadeFrom(t *testing.T) {
	answerstest.Same(t, newAside)
	answerstest.Same(t, func(p drafting.Proposal) ProposalOut {
		p.Own = 1
		return newProposal(p)
	}, "Own", "Rule")
	answerstest.Same(t, func(d drafting.Derived) *derivedOut {
		for i := range d.Proposals {
			d.Proposals[i].Own = 0
		}
		return newDerived(&d)
	}, "Own", "Rule")
}
