package decide_test

import (
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
)

func TestAWorkersPanicReachesTheCaller(t *testing.T) {
	defer func() {
		failure, ok := recover().(*decide.Failure)
		require.True(t, ok)
		require.Equal(t, "seven", failure.Value)
		require.Contains(t, string(failure.Stack), "parallel_test.go")
	}()
	decide.Parallel(4, 20, func(_, part int) {
		if part == 7 {
			panic("seven")
		}
	})
	t.Fatal("the caller went on")
}

func TestParallelDoesEachPartOnce(t *testing.T) {
	var done [100]atomic.Int32
	decide.Parallel(3, len(done), func(_, part int) { done[part].Add(1) })
	for i := range done {
		require.Equal(t, int32(1), done[i].Load())
	}
}
