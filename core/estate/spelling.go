package estate

import "strings"

// UsualSpelling gives the value that a rarer one is probably a slip of: the
// same letters and digits but for case, blanks and punctuation, or one letter
// inserted, dropped or changed in a word of four or more. counts has how often
// each value is used; the empty string says that the value is as it should be.
func UsualSpelling(value string, counts map[string]int) string {
	best := ""
	for other, n := range counts {
		if other == value || n <= counts[value] || n < 3 {
			continue
		}
		a, b := letters(value), letters(other)
		if (a == b || counts[value] <= n/10 && len(b) >= 4 && OneSlip(a, b) && !hasDigit(a+b)) && (best == "" || n > counts[best] || n == counts[best] && other < best) {
			best = other
		}
	}
	return best
}

// letters keeps letters and digits, in lower case.
func letters(s string) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r > 127 {
			return r
		}
		return -1
	}, strings.ToLower(s))
}

func hasDigit(s string) bool { return strings.ContainsAny(s, "0123456789") }

// OneSlip reports whether one inserted, dropped or changed byte, or two swapped
// neighbours, make b of a, in words of three bytes or more.
func OneSlip(a, b string) bool {
	if len(a) > len(b) {
		a, b = b, a
	}
	if len(b)-len(a) > 1 || len(a) < 3 || a == b {
		return false
	}
	i := 0
	for i < len(a) && a[i] == b[i] {
		i++
	}
	if len(a) < len(b) {
		return a[i:] == b[i+1:]
	}
	if a[i+1:] == b[i+1:] {
		return true
	}
	return i+1 < len(a) && a[i] == b[i+1] && a[i+1] == b[i] && a[i+2:] == b[i+2:]
}
