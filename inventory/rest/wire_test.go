package rest

import (
	"testing"

	"lucidorchard/answers/answerstest"
)

func TestAnswersCarryWhatTheyAreMadeFrom(t *testing.T) {
	answerstest.Same(t, newSource)
	answerstest.Same(t, newSourceValue)
	answerstest.Same(t, newFormerValue)
	answerstest.Same(t, newSuggestion)
	answerstest.Same(t, newSuggestions, "Total")
}
