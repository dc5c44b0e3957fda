package estate

import (
	"cmp"
	"fmt"
	"math"
	"time"
)

// Instant is a point in time with the precision of a nanosecond and the range
// of RFC 3339 (years 0000 to 9999). The zero value is 1970-01-01T00:00:00Z.
type Instant struct {
	Sec  int64 // seconds since 1970-01-01T00:00:00Z
	Nsec int32 // 0 to 999,999,999
}

// Beginning and End stand for the bounds of a span that has none.
var (
	Beginning = Instant{Sec: math.MinInt64}
	End       = Instant{Sec: math.MaxInt64}
)

// Before reports whether i comes before j.
func (i Instant) Before(j Instant) bool {
	return i.Sec < j.Sec || i.Sec == j.Sec && i.Nsec < j.Nsec
}

// Compare returns −1, 0 or 1 as i comes before j, is the same, or comes after it.
func (i Instant) Compare(j Instant) int {
	return cmp.Or(cmp.Compare(i.Sec, j.Sec), cmp.Compare(i.Nsec, j.Nsec))
}

// InstantOf converts a time.
func InstantOf(t time.Time) Instant {
	return Instant{t.Unix(), int32(t.Nanosecond())}
}

// Time converts to a UTC time. The bounds of an open span have none: ask
// IsBound first.
func (i Instant) Time() time.Time { return time.Unix(i.Sec, int64(i.Nsec)).UTC() }

// IsBound reports whether i is a real instant, neither Beginning nor End.
func (i Instant) IsBound() bool { return i != Beginning && i != End }

func (i Instant) String() string {
	switch i {
	case Beginning:
		return "the beginning"
	case End:
		return "the end"
	}
	return i.Time().Format(time.RFC3339Nano)
}

// ParseInstant reads a date-time of RFC 3339 §5.6: "T" and "Z" in either case,
// any number of digits of a second (those after the ninth are dropped), no
// leap second.
func ParseInstant(s string) (Instant, error) {
	bad := func() (Instant, error) {
		return Instant{}, fmt.Errorf("found %q, expected a time of RFC 3339 such as 2026-11-20T14:02:00Z", s)
	}
	if len(s) < 20 || s[4] != '-' || s[7] != '-' || s[10]|0x20 != 't' || s[13] != ':' || s[16] != ':' {
		return bad()
	}
	year, ok0 := digits(s[0:4])
	month, ok1 := digits(s[5:7])
	day, ok2 := digits(s[8:10])
	hour, ok3 := digits(s[11:13])
	minute, ok4 := digits(s[14:16])
	sec, ok5 := digits(s[17:19])
	if !(ok0 && ok1 && ok2 && ok3 && ok4 && ok5) || !ValidDate(year, month, day) || hour > 23 || minute > 59 ||
		sec > 59 {
		return bad()
	}
	rest := s[19:]
	var nsec int32
	if rest[0] == '.' {
		n, unit := 1, int32(100_000_000)
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			nsec += int32(rest[n]-'0') * unit
			unit /= 10
			n++
		}
		if n == 1 || n == len(rest) {
			return bad()
		}
		rest = rest[n:]
	}
	offset := 0
	switch {
	case len(rest) == 1 && rest[0]|0x20 == 'z':
	case len(rest) == 6 && (rest[0] == '+' || rest[0] == '-') && rest[3] == ':':
		h, okh := digits(rest[1:3])
		m, okm := digits(rest[4:6])
		if !okh || !okm || h > 23 || m > 59 {
			return bad()
		}
		offset = h*3600 + m*60
		if rest[0] == '-' {
			offset = -offset
		}
	default:
		return bad()
	}
	t := time.Date(year, time.Month(month), day, hour, minute, sec, 0, time.UTC)
	return Instant{t.Unix() - int64(offset), nsec}, nil
}

// ValidDate reports whether the date exists in the proleptic Gregorian calendar.
func ValidDate(year, month, day int) bool {
	if month < 1 || month > 12 || day < 1 {
		return false
	}
	return day <= time.Date(year, time.Month(month)+1, 0, 0, 0, 0, 0, time.UTC).Day()
}

func digits(s string) (int, bool) {
	n := 0
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return 0, false
		}
		n = n*10 + int(s[i]-'0')
	}
	return n, true
}
