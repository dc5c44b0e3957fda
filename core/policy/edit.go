package policy

import (
	"fmt"
	"slices"
	"strings"

	"lucidorchard/core/plural"
	"lucidorchard/core/syntax"
)

// Op is what an edit does.
type Op string

// The edits.
const (
	Add    Op = "add"
	Change Op = "change"
	Remove Op = "remove"
	Move   Op = "move"
	Switch Op = "switch" // on or off
)

// Edit is one change of a policy text in canonical layout, where each statement
// has a line of its own.
type Edit struct {
	Op     Op
	Line   int    // the statement that is changed, removed, moved or switched
	Text   string // the new statement; for Add one or more, a line each
	Before int    // Add, Move: the line to put it before; 0 is the end of Layer
	Layer  string // Add, Move of a rule: see Before
}

// EditError reports that an edit cannot be made.
type EditError struct {
	Message string
	Errors  []*syntax.Error // places in the edit's text, or in the text it would make
}

func (e *EditError) Error() string { return e.Message }

func refuse(format string, args ...any) *EditError {
	return &EditError{Message: fmt.Sprintf(format, args...)}
}

// Apply returns the text after the edit, in canonical layout, and the edit in
// words. Nothing is made that has errors.
func (e Edit) Apply(text string) (after, words string, err *EditError) {
	p, _ := Parse(text)
	after, _, words, err = e.ApplyTo(p, text)
	return after, words, err
}

// ApplyTo is Apply for those who have the text parsed, and returns the policy
// after the edit too.
func (e Edit) ApplyTo(p *Policy, text string) (after string, next *Policy, words string, err *EditError) {
	if after, words, err = e.on(p, text); err != nil {
		return "", nil, "", err
	}
	next, errs := Parse(after)
	if len(errs) > 0 {
		return "", nil, "", &EditError{"the policy would have " + plural.Of(len(errs), "error") + ": " +
			errs[0].Message, errs}
	}
	if canonical := next.Format(); canonical != after && canonical != after+"\n" {
		after = canonical
		next, _ = Parse(after)
	} else {
		after = canonical
	}
	return after, next, words, nil
}

// on returns the text after the edit as it comes.
func (e Edit) on(p *Policy, text string) (after, words string, err *EditError) {
	lines := Lines(text)
	if e.Op != Add {
		if e.Line < 1 || e.Line > len(lines) || statementAt(p, e.Line) == nil {
			return "", "", refuse("found no statement on line %d, expected the line of one", e.Line)
		}
	}
	switch e.Op {
	case Add:
		lines, words, err = e.add(p, lines)
	case Change:
		lines, words, err = e.change(p, lines)
	case Remove:
		words = "Remove " + brief(lines[e.Line-1])
		lines = slices.Delete(lines, e.Line-1, e.Line)
	case Move:
		lines, words, err = e.move(p, lines)
	case Switch:
		r, ok := statementAt(p, e.Line).(*Rule)
		if !ok {
			return "", "", refuse("found %s, expected a rule to turn on or off", brief(lines[e.Line-1]))
		}
		copied := *r
		copied.Off = !r.Off
		words = "Turn " + map[bool]string{true: "off ", false: "on "}[copied.Off] +
			brief(strings.TrimPrefix(lines[e.Line-1], "off "))
		lines[e.Line-1] = copied.String() + commentOf(p, e.Line)
	default:
		return "", "", refuse("found the edit %q, expected add, change, remove, move or switch", e.Op)
	}
	if err != nil {
		return "", "", err
	}
	return strings.Join(lines, "\n"), words, nil
}

// Lines returns the lines of a text.
func Lines(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(strings.TrimSuffix(text, "\n"), "\n")
}

func statementAt(p *Policy, line int) Statement {
	for _, item := range p.Items {
		if item.Statement != nil && item.Statement.At() == line {
			return item.Statement
		}
	}
	return nil
}

func commentOf(p *Policy, line int) string {
	for _, item := range p.Items {
		if item.First == line && item.Comment != "" {
			return "  " + item.Comment
		}
	}
	return ""
}

// read reads statements on their own; names that they use are checked later.
func read(text string) ([]Statement, *EditError) {
	// A rule needs a layer before it, which is not part of the text.
	loose, errs := ParseLoose("layer \"\\\\\"\n" + text)
	for _, e := range errs {
		e.Line--
	}
	if len(errs) > 0 {
		return nil, &EditError{errs[0].Message, errs}
	}
	var out []Statement
	for _, item := range loose.Items[1:] {
		if item.Statement != nil {
			out = append(out, item.Statement)
		}
	}
	if len(out) == 0 {
		return nil, refuse("found nothing, expected a statement")
	}
	return out, nil
}

func (e Edit) add(p *Policy, lines []string) ([]string, string, *EditError) {
	statements, err := read(e.Text)
	if err != nil {
		return nil, "", err
	}
	before := e.Before
	for _, s := range statements {
		behind := len(lines)
		if _, isRule := s.(*Rule); isRule && before > 0 {
			behind = min(before-1, len(lines))
		} else if isRule {
			last, ok := endOfLayer(p, e.Layer)
			if !ok {
				return nil, "", refuse("found no layer %q, expected one of the policy's", e.Layer)
			}
			behind = last
		} else if last := lastOfKind(p, s); last >= 0 {
			behind = last
		}
		lines = slices.Insert(lines, behind, s.String())
		if before > behind {
			before++ // the place moves down; what follows goes behind this one
		}
		p, _ = Parse(strings.Join(lines, "\n"))
	}
	words := "Add " + brief(statements[len(statements)-1].String())
	if n := len(statements) - 1; n > 0 {
		words += " and " + plural.Of(n, "statement") + " for it"
	}
	return lines, words, nil
}

// endOfLayer returns the last line of a layer's rules, or of its own statement.
func endOfLayer(p *Policy, name string) (int, bool) {
	for _, l := range p.Layers {
		if l.Name == name {
			last := l.Line
			for _, r := range l.Rules {
				last = r.Line
			}
			return last, true
		}
	}
	return 0, false
}

// lastOfKind returns the line behind which a definition belongs: the last of its
// kind; without one, the end of the definitions. -1 is the end of the text.
func lastOfKind(p *Policy, s Statement) int {
	last, definitions := -1, 0
	for _, item := range p.Items {
		if item.Statement == nil {
			continue
		}
		if fmt.Sprintf("%T", item.Statement) == fmt.Sprintf("%T", s) {
			last = item.Last
		}
		if _, isLayer := item.Statement.(*Layer); isLayer && definitions == 0 {
			definitions = item.First - 1
		}
	}
	if _, isAssert := s.(*Assert); last < 0 && !isAssert {
		if _, isLayer := s.(*Layer); !isLayer && len(p.Layers) > 0 {
			return definitions
		}
	}
	return last
}

func (e Edit) change(p *Policy, lines []string) ([]string, string, *EditError) {
	statements, err := read(e.Text)
	if err != nil {
		return nil, "", err
	}
	if len(statements) > 1 {
		return nil, "", refuse("found %d statements, expected one to put in the place of line %d", len(statements),
			e.Line)
	}
	words := "Change " + brief(lines[e.Line-1]) + " to " + brief(statements[0].String())
	if g, ok := statements[0].(*Group); ok {
		words = "Change group " + syntax.Name(g.Name) + " to " + g.Body()
	}
	lines[e.Line-1] = statements[0].String() + commentOf(p, e.Line)
	return lines, words, nil
}

func (e Edit) move(p *Policy, lines []string) ([]string, string, *EditError) {
	if _, ok := statementAt(p, e.Line).(*Rule); !ok {
		return nil, "", refuse("found %s, expected a rule to move", brief(lines[e.Line-1]))
	}
	behind := e.Before - 1
	if e.Before == 0 {
		last, ok := endOfLayer(p, e.Layer)
		if !ok {
			return nil, "", refuse("found no layer %q, expected one of the policy's", e.Layer)
		}
		behind = last
	}
	if behind < 0 || behind > len(lines) {
		return nil, "", refuse("found line %d to move to, expected one of the text's %d", e.Before, len(lines))
	}
	moved := lines[e.Line-1]
	words := "Move " + brief(moved)
	lines = slices.Delete(lines, e.Line-1, e.Line)
	if behind >= e.Line {
		behind--
	}
	return slices.Insert(lines, behind, moved), words, nil
}

// brief is a statement in few words, for the history: without its note.
func brief(line string) string {
	if i := strings.Index(line, ` "`); i > 0 {
		line = line[:i]
	}
	if r := []rune(line); len(r) > 90 {
		line = string(r[:89]) + "…"
	}
	return "“" + line + "”"
}

// Follow reports where each line of a text stands in a later one, as a number from
// 1 by the index of the old line; 0 where the line is no longer there as it was.
func Follow(before, after []string) []int {
	out := make([]int, len(before))
	a, b := 0, 0
	for a < len(before) && a < len(after) && before[a] == after[a] {
		out[a] = a + 1
		a++
	}
	b = a
	enda, endb := len(before), len(after)
	for enda > a && endb > b && before[enda-1] == after[endb-1] {
		out[enda-1] = endb
		enda--
		endb--
	}
	// The longest common subsequence of what is left.
	n, m := enda-a, endb-b
	if n == 0 || m == 0 || n*m > 16_000_000 {
		return out
	}
	length := make([][]int32, n+1)
	for i := range length {
		length[i] = make([]int32, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if before[a+i] == after[b+j] {
				length[i][j] = length[i+1][j+1] + 1
			} else {
				length[i][j] = max(length[i+1][j], length[i][j+1])
			}
		}
	}
	for i, j := 0, 0; i < n && j < m; {
		switch {
		case before[a+i] == after[b+j]:
			out[a+i] = b + j + 1
			i++
			j++
		case length[i+1][j] >= length[i][j+1]:
			i++
		default:
			j++
		}
	}
	return out
}

// ApplyAll makes edits one after the other, each on the text that the one
// before it left.
func ApplyAll(text string, edits []Edit) (string, *EditError) {
	for _, e := range edits {
		after, _, err := e.Apply(text)
		if err != nil {
			return "", err
		}
		text = after
	}
	return text, nil
}
