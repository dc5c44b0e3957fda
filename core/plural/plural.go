// Package plural says numbers of things.
package plural

import "strconv"

// Of returns "1 row" or "2,000 rows"; many is for those whose plural is another.
func Of(n int, one string, many ...string) string {
	switch {
	case n == 1:
		return "1 " + one
	case len(many) > 0:
		return N(n) + " " + many[0]
	}
	return N(n) + " " + one + "s"
}

// N writes a number as the interface does: its digits in threes.
func N(n int) string {
	digits := strconv.Itoa(n)
	for at := len(digits) - 3; at > 0 && digits[at-1] != '-'; at -= 3 {
		digits = digits[:at] + "," + digits[at:]
	}
	return digits
}
