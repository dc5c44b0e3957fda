package answers

import (
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/answers/answerstest"
	"lucidorchard/history"
)

func TestAnswersCarryWhatTheyAreMadeFrom(t *testing.T) {
	answerstest.Same(t, NewRevision)
	answerstest.Same(t, func(c history.Change) *Change { return NewChange(&c) })
	require.Nil(t, NewChange(nil), "there is nothing to undo")
}
