package rest

import (
	"testing"

	"lucidorchard/answers/answerstest"
)

func TestAnswersCarryWhatTheyAreMadeFrom(t *testing.T) {
	answerstest.Same(t, newPointState)
	answerstest.Same(t, newWaveState)
	answerstest.Same(t, newOrdered)
}
