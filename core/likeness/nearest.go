package likeness

// Nearest gives the name that another is most likely a slip of the keyboard for:
// at most a third of its characters have to be changed (Levenshtein); blank: none
// is near. Of several, the first.
func Nearest(name string, names []string) string {
	best, at := "", len([]rune(name))/3+1
	for _, n := range names {
		if d := distance([]rune(name), []rune(n), at); d < at {
			best, at = n, d
		}
	}
	return best
}

// distance is how many characters have to be changed, put in or taken out; most,
// if it is as many or more.
func distance(a, b []rune, most int) int {
	if len(a)-len(b) >= most || len(b)-len(a) >= most {
		return most
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i, x := range a {
		corner := row[0]
		row[0] = i + 1
		for j, y := range b {
			here := corner
			if x != y {
				here = 1 + min(corner, row[j], row[j+1])
			}
			corner, row[j+1] = row[j+1], here
		}
	}
	return min(most, row[len(b)])
}
