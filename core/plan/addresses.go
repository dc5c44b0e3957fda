package plan

import (
	"net/netip"
	"slices"
	"sort"
	"strings"
)

// Span is the addresses from First to Last.
type Span struct{ First, Last netip.Addr }

// Addresses is a set of addresses: spans in their order, IPv4 first, that do not
// touch each other.
type Addresses []Span

// addressesOf makes a set of spans that are in order and do not overlap.
func addressesOf(spans []Span) Addresses {
	var out Addresses
	for _, s := range spans {
		if n := len(out); n > 0 && out[n-1].Last.Next() == s.First {
			out[n-1].Last = s.Last
			continue
		}
		out = append(out, s)
	}
	return out
}

// Contains reports whether an address is in the set.
func (a Addresses) Contains(addr netip.Addr) bool {
	i, found := slices.BinarySearchFunc(a, addr, func(s Span, x netip.Addr) int { return s.First.Compare(x) })
	if found {
		return true
	}
	return i > 0 && a[i-1].Last.Compare(addr) >= 0 && a[i-1].Last.BitLen() == addr.BitLen()
}

// Family gives those that are IPv4, or IPv6.
func (a Addresses) Family(six bool) Addresses {
	i := sort.Search(len(a), func(i int) bool { return a[i].First.Is6() })
	if six {
		return a[i:]
	}
	return a[:i]
}

// Whole reports whether the set holds every address of a family.
func (a Addresses) Whole(six bool) bool {
	f := a.Family(six)
	return len(f) == 1 && !f[0].First.Prev().IsValid() && !f[0].Last.Next().IsValid()
}

// String gives one address, or the first and the last.
func (s Span) String() string {
	if s.First == s.Last {
		return s.First.String()
	}
	if p, ok := s.Prefix(); ok {
		return p.String()
	}
	return s.First.String() + "-" + s.Last.String()
}

// MarshalText writes the span as String does.
func (s Span) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Prefix gives the span as one prefix, if it is one.
func (s Span) Prefix() (netip.Prefix, bool) {
	for p := range s.Prefixes {
		return p, last(p) == s.Last
	}
	return netip.Prefix{}, false
}

// Prefixes calls yield with the prefixes that make up the span, in their order.
func (s Span) Prefixes(yield func(netip.Prefix) bool) {
	for a := s.First; ; {
		bits := a.BitLen()
		for bits > 0 {
			p := netip.PrefixFrom(a, bits-1).Masked()
			if p.Addr() != a || s.Last.Less(last(p)) {
				break
			}
			bits--
		}
		p := netip.PrefixFrom(a, bits)
		if !yield(p) {
			return
		}
		if a = last(p).Next(); !a.IsValid() || s.Last.Less(a) {
			return
		}
	}
}

// last gives the highest address of a prefix.
func last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// String gives the spans, with blanks between.
func (a Addresses) String() string {
	out := make([]string, len(a))
	for i, s := range a {
		out[i] = s.String()
	}
	return strings.Join(out, " ")
}

// Everywhere is every address.
var Everywhere = Addresses{
	{netip.IPv4Unspecified(), netip.AddrFrom4([4]byte{255, 255, 255, 255})},
	{netip.IPv6Unspecified(), last(netip.PrefixFrom(netip.IPv6Unspecified(), 0))},
}

// Intersect gives what is in both.
func (a Addresses) Intersect(b Addresses) Addresses {
	var out []Span
	for len(a) > 0 && len(b) > 0 {
		x, y := a[0], b[0]
		first, end := x.First, x.Last
		if first.Less(y.First) {
			first = y.First
		}
		if y.Last.Less(end) {
			end = y.Last
		}
		if first.Compare(end) <= 0 {
			out = append(out, Span{first, end})
		}
		if x.Last.Less(y.Last) {
			a = a[1:]
		} else {
			b = b[1:]
		}
	}
	return addressesOf(out)
}

// Minus gives what is in a and not in b.
func (a Addresses) Minus(b Addresses) Addresses {
	var out []Span
	for _, s := range a {
		for len(b) > 0 && b[0].Last.Less(s.First) {
			b = b[1:]
		}
		rest := b
		from := s.First
		for len(rest) > 0 && rest[0].First.Compare(s.Last) <= 0 {
			if from.Less(rest[0].First) {
				out = append(out, Span{from, rest[0].First.Prev()})
			}
			from = rest[0].Last.Next()
			rest = rest[1:]
			if !from.IsValid() || s.Last.Less(from) {
				break
			}
		}
		if from.IsValid() && from.BitLen() == s.Last.BitLen() && from.Compare(s.Last) <= 0 {
			out = append(out, Span{from, s.Last})
		}
	}
	return addressesOf(out)
}

// Union gives what is in either.
func (a Addresses) Union(b Addresses) Addresses {
	all := slices.Concat(a.Minus(b), b)
	slices.SortFunc(all, func(x, y Span) int { return x.First.Compare(y.First) })
	return addressesOf(all)
}
