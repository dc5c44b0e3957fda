package derive

// ThinFrom sets from how many edges a service is thinned out, until what it gives
// is called.
func ThinFrom(n int) (back func()) {
	was := thinFrom
	thinFrom = n
	return func() { thinFrom = was }
}

// RangesOf is rangesOf.
var RangesOf = rangesOf
