package likeness

// Nearest returns the name that another is most likely a slip of the keyboard for:
// at most a third of its characters have to be changed, or to change places with
// their neighbour (optimal string alignment); blank: none is near. Of several, the first.
func Nearest(name string, names []string) string {
	best, at := "", len([]rune(name))/3+1
	for _, n := range names {
		if d := distance([]rune(name), []rune(n), at); d < at {
			best, at = n, d
		}
	}
	return best
}

// distance is how many characters have to be changed, put in, taken out or swapped
// with the next one; most, if it is as many or more.
func distance(a, b []rune, most int) int {
	if len(a)-len(b) >= most || len(b)-len(a) >= most {
		return most
	}
	before, row, next := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i, x := range a {
		next[0] = i + 1
		for j, y := range b {
			switch {
			case x == y:
				next[j+1] = row[j]
			case i > 0 && j > 0 && a[i-1] == y && b[j-1] == x:
				next[j+1] = 1 + min(row[j], row[j+1], next[j], before[j-1])
			default:
				next[j+1] = 1 + min(row[j], row[j+1], next[j])
			}
		}
		before, row, next = row, next, before
	}
	return min(most, row[len(b)])
}
