package decide

import "math/bits"

// bitset is a set of small numbers. What is behind its end is not in it.
type bitset []uint64

func newBitset(n int) bitset      { return make(bitset, (n+63)/64) }
func (b bitset) set(i int32)      { b[i>>6] |= 1 << (i & 63) }
func (b bitset) has(i int32) bool { return int(i>>6) < len(b) && b[i>>6]>>(i&63)&1 != 0 }
func (b bitset) unite(other bitset) {
	for i, w := range other {
		b[i] |= w
	}
}

// each calls f for the members, in order.
func (b bitset) each(f func(i int32)) {
	for w, x := range b {
		for ; x != 0; x &= x - 1 {
			f(int32(w<<6 + bits.TrailingZeros64(x)))
		}
	}
}

// eachBoth calls f for the members of both sets, in order, until f says stop.
func eachBoth(a, b bitset, f func(i int32) (goOn bool)) {
	for w := range a {
		for x := a[w] & b[w]; x != 0; x &= x - 1 {
			if !f(int32(w<<6 + bits.TrailingZeros64(x))) {
				return
			}
		}
	}
}
