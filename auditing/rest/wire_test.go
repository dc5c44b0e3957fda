package rest

import (
	"testing"

	"lucidorchard/answers/answerstest"
)

func TestAnswersCarryWhatTheyAreMadeFrom(t *testing.T) {
	answerstest.Same(t, newEvidenceKept)
}
