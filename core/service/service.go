// Package service holds sets of protocols and ports as sorted intervals over
// one line of points, so that union, intersection and look-up are those of
// plain numbers.
//
// Start reading at Point.
package service

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// IP protocols that have names, by their numbers in the IANA registry.
const (
	ICMP  = 1
	TCP   = 6
	UDP   = 17
	ICMP6 = 58
	SCTP  = 132
)

// Point is one service: the protocol times 2^17, plus the destination port;
// for ICMP type times 256 plus code, or UnknownType; for other protocols 0.
type Point uint32

// UnknownType is the port part of an ICMP message whose type is not known.
const UnknownType = 1 << 16

const protoShift = 17

// All holds every point of every protocol.
var All = Set{{0, 256<<protoShift - 1}}

// PointOf returns the point of a protocol and a port (or ICMP type × 256 + code,
// or UnknownType). The port of a protocol without ports is dropped.
func PointOf(proto uint8, port uint32) Point {
	if !HasPorts(proto) {
		port = 0
	}
	return Point(proto)<<protoShift | Point(port)
}

// Proto returns the protocol's number.
func (p Point) Proto() uint8 { return uint8(p >> protoShift) }

// Port returns the port part.
func (p Point) Port() uint32 { return uint32(p) & (1<<protoShift - 1) }

// HasPorts reports whether the protocol is divided into ports or types.
func HasPorts(proto uint8) bool {
	return proto == TCP || proto == UDP || proto == SCTP || IsICMP(proto)
}

// IsICMP reports whether the protocol has types and codes for ports.
func IsICMP(proto uint8) bool { return proto == ICMP || proto == ICMP6 }

// ProtoName returns the name of a protocol, or "proto/N".
func ProtoName(proto uint8) string {
	switch proto {
	case TCP:
		return "tcp"
	case UDP:
		return "udp"
	case SCTP:
		return "sctp"
	case ICMP:
		return "icmp"
	case ICMP6:
		return "icmp6"
	}
	return "proto/" + strconv.Itoa(int(proto))
}

// ProtoNumber returns the number of one of the five named protocols.
func ProtoNumber(name string) (uint8, bool) {
	switch name {
	case "tcp":
		return TCP, true
	case "udp":
		return UDP, true
	case "sctp":
		return SCTP, true
	case "icmp":
		return ICMP, true
	case "icmp6":
		return ICMP6, true
	}
	return 0, false
}

// String returns the spec that names the one point: tcp/443, icmp/8.0, proto/47.
func (p Point) String() string {
	proto, port := p.Proto(), p.Port()
	switch {
	case !HasPorts(proto):
		return ProtoName(proto)
	case IsICMP(proto) && port == UnknownType:
		return ProtoName(proto)
	case IsICMP(proto):
		return fmt.Sprintf("%s/%d.%d", ProtoName(proto), port>>8, port&255)
	}
	return fmt.Sprintf("%s/%d", ProtoName(proto), port)
}

// Range is the closed interval [Lo, Hi] of points.
type Range struct{ Lo, Hi Point }

// Whole returns all points of a protocol, ICMP messages of unknown type included.
func Whole(proto uint8) Range {
	switch {
	case IsICMP(proto):
		return Range{PointOf(proto, 0), PointOf(proto, UnknownType)}
	case HasPorts(proto):
		return Range{PointOf(proto, 0), PointOf(proto, 65535)}
	}
	return Range{PointOf(proto, 0), PointOf(proto, 0)}
}

// String returns the spec that names the range, which must lie in one protocol.
func (r Range) String() string {
	proto := r.Lo.Proto()
	lo, hi := r.Lo.Port(), r.Hi.Port()
	switch {
	case r == Whole(proto):
		return ProtoName(proto)
	case IsICMP(proto) && lo&255 == 0 && hi == lo|255:
		return fmt.Sprintf("%s/%d", ProtoName(proto), lo>>8)
	case lo == hi:
		return r.Lo.String()
	case IsICMP(proto):
		return fmt.Sprintf("%s to %s", r.Lo, r.Hi)
	}
	return fmt.Sprintf("%s/%d-%d", ProtoName(proto), lo, hi)
}

// Set is a set of points: intervals that are sorted, disjoint and not adjacent.
// The zero value is the empty set.
type Set []Range

// NewSet unites ranges in any order.
func NewSet(ranges ...Range) Set {
	rs := slices.Clone(ranges)
	slices.SortFunc(rs, func(a, b Range) int {
		switch {
		case a.Lo < b.Lo:
			return -1
		case a.Lo > b.Lo:
			return 1
		}
		return 0
	})
	var out Set
	for _, r := range rs {
		if n := len(out); n > 0 && r.Lo <= out[n-1].Hi+1 {
			out[n-1].Hi = max(out[n-1].Hi, r.Hi)
			continue
		}
		out = append(out, r)
	}
	return out
}

// Contains reports whether p is in the set.
func (s Set) Contains(p Point) bool {
	i, j := 0, len(s)
	for i < j {
		if m := (i + j) / 2; s[m].Hi < p {
			i = m + 1
		} else {
			j = m
		}
	}
	return i < len(s) && s[i].Lo <= p
}

// Union returns the points in either set.
func (s Set) Union(t Set) Set { return NewSet(append(slices.Clone(s), t...)...) }

// Intersect returns the points in both sets.
func (s Set) Intersect(t Set) Set {
	var out Set
	for i, j := 0, 0; i < len(s) && j < len(t); {
		lo, hi := max(s[i].Lo, t[j].Lo), min(s[i].Hi, t[j].Hi)
		if lo <= hi {
			out = append(out, Range{lo, hi})
		}
		if s[i].Hi < t[j].Hi {
			i++
		} else {
			j++
		}
	}
	return out
}

// Minus returns the points of s that are not in t.
func (s Set) Minus(t Set) Set {
	var out Set
	j := 0
	for _, r := range s {
		for j < len(t) && t[j].Hi < r.Lo {
			j++
		}
		lo := r.Lo
		k := j
		for ; k < len(t) && t[k].Lo <= r.Hi; k++ {
			if t[k].Lo > lo {
				out = append(out, Range{lo, t[k].Lo - 1})
			}
			lo = t[k].Hi + 1
		}
		if lo <= r.Hi {
			out = append(out, Range{lo, r.Hi})
		}
	}
	return out
}

// Equal reports whether both hold the same points.
func (s Set) Equal(t Set) bool { return slices.Equal(s, t) }

// Real drops what is not a point of its own: ICMP messages of unknown type,
// and the gaps between protocols.
func (s Set) Real() Set {
	return s.Intersect(realPoints)
}

var realPoints = func() Set {
	var rs []Range
	for proto := range 256 {
		r := Whole(uint8(proto))
		if IsICMP(uint8(proto)) {
			r.Hi--
		}
		rs = append(rs, r)
	}
	return NewSet(rs...)
}()

// ParseSpec reads a protocol with an optional range, or proto/N: the bare
// words that the grammar of SPEC takes besides a service's name. ok is false if
// the word does not begin like one, and is to be read as a name.
func ParseSpec(word string) (r Range, ok bool, err error) {
	head, tail, slash := strings.Cut(word, "/")
	if head == "proto" && slash {
		n, good := number(tail, 255)
		if !good {
			return r, true, fmt.Errorf("found %s, expected proto/ and a number from 0 to 255", word)
		}
		return Whole(uint8(n)), true, nil
	}
	proto, known := ProtoNumber(head)
	if !known {
		return r, false, nil
	}
	if !slash {
		return Whole(proto), true, nil
	}
	if IsICMP(proto) {
		typ, code, dot := strings.Cut(tail, ".")
		t, good := number(typ, 255)
		lo, hi := t<<8, t<<8|255
		if dot && good {
			var c int
			c, good = number(code, 255)
			lo, hi = t<<8|c, t<<8|c
		}
		if !good {
			return r, true, fmt.Errorf("found %s, expected %s/TYPE or %s/TYPE.CODE with numbers from 0 to 255", word,
				head, head)
		}
		return Range{PointOf(proto, uint32(lo)), PointOf(proto, uint32(hi))}, true, nil
	}
	from, to, dash := strings.Cut(tail, "-")
	lo, good := number(from, 65535)
	hi := lo
	if dash && good {
		hi, good = number(to, 65535)
	}
	if !good {
		return r, true, fmt.Errorf("found %s, expected %s/PORT or %s/PORT-PORT with ports from 0 to 65535", word,
			head, head)
	}
	if hi < lo {
		return r, true, fmt.Errorf("found %s, expected the lower port first: %s/%d-%d", word, head, hi, lo)
	}
	return Range{PointOf(proto, uint32(lo)), PointOf(proto, uint32(hi))}, true, nil
}

// number reads decimal digits, leading zeros allowed, up to most.
func number(s string, most int) (int, bool) {
	if s == "" {
		return 0, false
	}
	n := 0
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return 0, false
		}
		if n = n*10 + int(s[i]-'0'); n > most {
			return 0, false
		}
	}
	return n, true
}

// Administration, Databases and Copying are well-known services (IANA Service Name
// Registry, and the usual ports of databases) that deserve a second look before
// they are opened widely. Copying moves whole stores: ftp, rsync, nfs, iscsi-target, ndmp.
var (
	Administration = tcpPorts(22, 23, 3389, 5900, 5901, 5985, 5986)
	Databases      = tcpPorts(1433, 1521, 3306, 5432, 6379, 9042, 9200, 27017)
	Copying        = tcpPorts(20, 21, 873, 2049, 3260, 10000)
)

func tcpPorts(ports ...uint32) Set {
	var rs []Range
	for _, p := range ports {
		rs = append(rs, Range{PointOf(TCP, p), PointOf(TCP, p)})
	}
	return NewSet(rs...)
}
