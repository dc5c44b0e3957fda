package plan

import (
	"cmp"
	"fmt"
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

// Joined makes a set of spans that are in order and do not overlap: those that touch
// become one.
func Joined(spans []Span) Addresses { return addressesOf(spans) }

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

// moved returns the set with an address more, or less. What that does to the spans is
// counted: −1 for each that goes, and 1 for each that comes.
func (a Addresses) moved(x netip.Addr, in bool, spans map[Span]int) Addresses {
	i := sort.Search(len(a), func(i int) bool { return x.Less(a[i].First) })
	from, to := i, i // the spans that go
	var come []Span
	if in {
		s := Span{x, x}
		if i > 0 && a[i-1].Last.Next() == x {
			from, s.First = i-1, a[i-1].First
		}
		if i < len(a) && x.Next() == a[i].First {
			to, s.Last = i+1, a[i].Last
		}
		come = append(come, s)
	} else {
		from = i - 1
		s := a[from]
		if s.First != x {
			come = append(come, Span{s.First, x.Prev()})
		}
		if s.Last != x {
			come = append(come, Span{x.Next(), s.Last})
		}
	}
	for _, s := range a[from:to] {
		spans[s]--
	}
	for _, s := range come {
		spans[s]++
	}
	return slices.Concat(a[:from], come, a[to:])
}

// Near returns the spans that overlap another one, or stand beside it.
func (a Addresses) Near(s Span) Addresses {
	first, last := s.First, s.Last
	if p := first.Prev(); p.IsValid() {
		first = p
	}
	if n := last.Next(); n.IsValid() {
		last = n
	}
	from := sort.Search(len(a), func(i int) bool { return !a[i].Last.Less(first) })
	to := sort.Search(len(a), func(i int) bool { return last.Less(a[i].First) })
	return a[from:max(from, to)]
}

// UnionSince returns the spans that come to a union of sets, and go from it, when some of
// them change in places that moved tells. Only what is near to these is looked at.
func UnionSince(before, after []Addresses, moved []Span) (added, removed Addresses) {
	var done Addresses // all that was looked at
	for _, w := range moved {
		if done.contains(w) {
			continue
		}
		for grown := true; grown; { // until nothing sticks out
			grown = false
			for _, list := range [][]Addresses{before, after} {
				for _, a := range list {
					near := a.Near(w)
					if len(near) == 0 || near[0].First.BitLen() != w.First.BitLen() {
						continue
					}
					if first := near[0].First; first.Less(w.First) {
						w.First, grown = first, true
					}
					if last := near[len(near)-1].Last; w.Last.Less(last) && last.BitLen() == w.Last.BitLen() {
						w.Last, grown = last, true
					}
				}
			}
		}
		if done.contains(w) {
			continue
		}
		done = done.union(Addresses{w})
		of := func(list []Addresses) Addresses {
			some := make([]Addresses, len(list))
			for i, a := range list {
				some[i] = a.Near(w).Family(w.First.Is6())
			}
			return Union(some...)
		}
		more, less := apart(of(before), of(after), compareSpans)
		added, removed = append(added, more...), append(removed, less...)
	}
	slices.SortFunc(added, compareSpans)
	slices.SortFunc(removed, compareSpans)
	return added, removed
}

func (a Addresses) contains(s Span) bool {
	near := a.Near(Span{s.First, s.First})
	return slices.ContainsFunc(near, func(x Span) bool { return !s.First.Less(x.First) && !x.Last.Less(s.Last) })
}

func compareSpans(a, b Span) int { return cmp.Or(a.First.Compare(b.First), a.Last.Compare(b.Last)) }

// Contains reports whether an address is in the set.
func (a Addresses) Contains(addr netip.Addr) bool {
	i, found := slices.BinarySearchFunc(a, addr, func(s Span, x netip.Addr) int { return s.First.Compare(x) })
	if found {
		return true
	}
	return i > 0 && a[i-1].Last.Compare(addr) >= 0 && a[i-1].Last.BitLen() == addr.BitLen()
}

// Family returns those that are IPv4, or IPv6.
func (a Addresses) Family(six bool) Addresses {
	i := sort.Search(len(a), func(i int) bool { return a[i].First.Is6() })
	if six {
		return a[i:]
	}
	return a[:i]
}

// Count returns how many addresses there are, at most 2³⁰.
func (a Addresses) Count() int {
	n := 0
	for _, s := range a {
		for p := range s.Prefixes {
			if n += 1 << min(30, p.Addr().BitLen()-p.Bits()); n >= 1<<30 {
				return 1 << 30
			}
		}
	}
	return n
}

// Whole reports whether the set holds every address of a family.
func (a Addresses) Whole(six bool) bool {
	f := a.Family(six)
	return len(f) == 1 && !f[0].First.Prev().IsValid() && !f[0].Last.Next().IsValid()
}

// String returns one address, or the first and the last.
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

// UnmarshalText reads what MarshalText writes.
func (s *Span) UnmarshalText(text []byte) (err error) {
	first, end, two := strings.Cut(string(text), "-")
	if strings.Contains(first, "/") {
		p, err := netip.ParsePrefix(first)
		if err == nil {
			s.First, s.Last = p.Masked().Addr(), last(p.Masked())
		}
		return err
	}
	if s.First, err = netip.ParseAddr(first); err != nil {
		return err
	}
	if s.Last = s.First; two {
		s.Last, err = netip.ParseAddr(end)
	}
	if err == nil && (s.First.BitLen() != s.Last.BitLen() || s.Last.Less(s.First)) {
		err = fmt.Errorf("found %q, expected the lower address first", text)
	}
	return err
}

// Prefix returns the span as one prefix, if it is one.
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

// last returns the highest address of a prefix.
func last(p netip.Prefix) netip.Addr {
	b := p.Addr().AsSlice()
	for i := p.Bits(); i < len(b)*8; i++ {
		b[i/8] |= 0x80 >> (i % 8)
	}
	a, _ := netip.AddrFromSlice(b)
	return a
}

// String returns the spans, with blanks between.
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

// Intersect returns what is in both.
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

// Minus returns what is in a and not in b.
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

// Union returns what is in any of several.
func Union(several ...Addresses) Addresses {
	switch len(several) {
	case 0:
		return nil
	case 1:
		return several[0]
	case 2:
		return several[0].union(several[1])
	}
	half := len(several) / 2
	return Union(several[:half]...).union(Union(several[half:]...))
}

func (a Addresses) union(b Addresses) Addresses {
	if len(a) == 0 {
		return b
	}
	out := make(Addresses, 0, len(a)+len(b))
	for len(a) > 0 || len(b) > 0 {
		if len(a) == 0 || len(b) > 0 && b[0].First.Less(a[0].First) {
			a, b = b, a
		}
		s, n := a[0], len(out)
		a = a[1:]
		if n == 0 || out[n-1].Last.Less(s.First) && out[n-1].Last.Next() != s.First {
			out = append(out, s)
		} else if out[n-1].Last.Less(s.Last) {
			out[n-1].Last = s.Last
		}
	}
	return out
}
