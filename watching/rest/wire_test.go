package rest

import (
	"testing"

	"lucidorchard/answers/answerstest"
	"lucidorchard/watching"
)

func TestAnswersCarryWhatTheyAreMadeFrom(t *testing.T) {
	answerstest.Same(t, newDestination)
	answerstest.Same(t, newNotice)
	answerstest.Same(t, func(m watching.Matter) Matter { return newMatter(&m) })
	answerstest.Same(t, newMatterDay)
}
