package point

import (
	"regexp"
	"slices"
	"strings"
)

// What a device adds to a text, or writes in its own way: counts, handles, comments of
// the file, blanks.
var (
	counted  = regexp.MustCompile(`counter packets \d+ bytes \d+`)
	handle   = regexp.MustCompile(` # handle \d+$`)
	trailing = regexp.MustCompile(`[,\s]+$`)
	blanks   = regexp.MustCompile(`\s+`)
)

// CompareText returns the lines that a device should hold and does not, and those that
// it holds and should not; whatever their order, their blanks, and what it counted.
func CompareText(want, have string) (missing, extra []string) {
	a, b := textLines(want), textLines(have)
	count := map[string]int{}
	for _, l := range b {
		count[l]++
	}
	for _, l := range a {
		if count[l] == 0 {
			missing = append(missing, l)
		} else {
			count[l]--
		}
	}
	for _, l := range b {
		if count[l] > 0 {
			extra = append(extra, l)
			count[l]--
		}
	}
	return missing, extra
}

func textLines(text string) (out []string) {
	for line := range strings.Lines(text) {
		line = handle.ReplaceAllString(strings.TrimRight(line, "\r\n"), "")
		line = counted.ReplaceAllString(line, "counter")
		if line = trailing.ReplaceAllString(blanks.ReplaceAllString(strings.TrimSpace(line), " "), ""); line == "" ||
			line[0] == '#' || line == "table inet lucid_orchard" || line == "delete table inet lucid_orchard" {
			continue
		}
		// Elements stand several in a line, in what a device lists.
		if rest, ok := strings.CutPrefix(line, "elements = {"); ok {
			line = strings.TrimSuffix(rest, "}")
		} else if strings.Contains(line, "vmap") || strings.ContainsAny(line, "{}=\"") {
			out = append(out, line)
			continue
		}
		for _, part := range strings.Split(line, ",") {
			if part = strings.Trim(part, " }"); part != "" {
				out = append(out, part)
			}
		}
	}
	return slices.DeleteFunc(out, func(l string) bool { return l == "}" || l == "{" })
}
