// Package plural says numbers of things.
package plural

import "strconv"

// Of gives "1 row" or "2 rows"; many is for those whose plural is another.
func Of(n int, one string, many ...string) string {
	switch {
	case n == 1:
		return "1 " + one
	case len(many) > 0:
		return strconv.Itoa(n) + " " + many[0]
	}
	return strconv.Itoa(n) + " " + one + "s"
}
