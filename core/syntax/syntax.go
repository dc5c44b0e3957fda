// Package syntax cuts policy text and expressions into words, each with its
// place, and collects errors that say what was found and what was expected.
//
// It knows the shape of words, quotes, comments and continued lines; what the
// words mean is for the packages expr and policy. Start reading at Lines.
package syntax

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Pos is a place in a text: line and column, in characters, counted from 1.
type Pos struct{ Line, Col int }

// Kind distinguishes words from quoted words and from punctuation.
type Kind uint8

// The kinds of token. End stands for the end of the statement.
const (
	End Kind = iota
	Word
	Quoted
	punct // = , ( ) ->
)

// Token is a word of the text. Text is without quotes and escapes.
type Token struct {
	Kind Kind
	Text string
	Pos
	// Glued is whether nothing stands between this token and the one before.
	Glued bool
}

// Is reports whether the token is this bare keyword or punctuation.
func (t Token) Is(text string) bool {
	return (t.Kind == Word || t.Kind == punct) && t.Text == text
}

// String reports what was found, for an error.
func (t Token) String() string {
	switch t.Kind {
	case End:
		return "the end of the statement"
	case Quoted:
		return Quote(t.Text)
	}
	return t.Text
}

// Error is what is wrong at one place.
type Error struct {
	Pos
	Message string
}

func (e Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Col, e.Message) }

// Errorf makes an Error at a place.
func Errorf(at Pos, format string, args ...any) *Error {
	return &Error{at, fmt.Sprintf(format, args...)}
}

// Line is one logical line: a statement, a comment, both, or neither.
type Line struct {
	Tokens      []Token
	Comment     string // with its #; empty if there is none
	First, Last int    // the physical lines it covers
	Err         *Error // why the words could not be read; Tokens end before the place
}

// Lines cuts a text into logical lines. A byte order mark at its start is
// dropped. Each line that cannot be cut into words carries its error.
func Lines(text string) []Line {
	text = strings.TrimPrefix(text, "\ufeff")
	var out []Line
	physical := strings.Split(text, "\n")
	if n := len(physical); physical[n-1] == "" {
		physical = physical[:n-1]
	}
	for i := 0; i < len(physical); i++ {
		l := Line{First: i + 1}
		for {
			more := l.add(strings.TrimSuffix(physical[i], "\r"), i+1)
			if !more || i+1 == len(physical) {
				break
			}
			i++
		}
		l.Last = i + 1
		out = append(out, l)
	}
	return out
}

// add reads one physical line into l and reports whether the next belongs to it.
func (l *Line) add(s string, line int) (more bool) {
	col, i := 1, 0
	glued := false
	fail := func(at int, format string, args ...any) bool {
		if l.Err == nil {
			l.Err = Errorf(Pos{line, at}, format, args...)
		}
		return strings.HasSuffix(s, `\`)
	}
	push := func(kind Kind, text string, at int) {
		if l.Err == nil {
			if l.Tokens == nil {
				l.Tokens = make([]Token, 0, 2+len(s)/5)
			}
			l.Tokens = append(l.Tokens, Token{kind, text, Pos{line, at}, glued})
		}
		glued = true
	}
	for i < len(s) {
		c := s[i]
		switch {
		case c == ' ' || c == '\t':
			i++
			col++
			glued = false
		case c == '#':
			if !utf8.ValidString(s[i:]) {
				return fail(col, "found a comment that is not UTF-8, expected text in UTF-8")
			}
			l.Comment = strings.TrimRight(s[i:], " \t\r")
			return false
		case c == '\\' && i == len(s)-1:
			return true
		case c == '\\':
			return fail(col, `found \, expected it as the last character of a line that continues, or inside quotes`)
		case c == '=' || c == ',' || c == '(' || c == ')':
			push(punct, s[i:i+1], col)
			i++
			col++
		case strings.HasPrefix(s[i:], "->"):
			push(punct, "->", col)
			i += 2
			col += 2
		case c == '"':
			text, bytes, chars, err := unquote(s[i:])
			if err != nil {
				return fail(col, "%s", err)
			}
			push(Quoted, text, col)
			i += bytes
			col += chars
		case wordStart(c):
			j := i + 1
			for j < len(s) && wordPart(s[j]) {
				j++
			}
			push(Word, s[i:j], col)
			col += j - i
			i = j
		default:
			r, size := utf8.DecodeRuneInString(s[i:])
			if r == utf8.RuneError && size == 1 {
				return fail(col, "found a byte that is not UTF-8 (0x%02x), expected text in UTF-8", c)
			}
			if r == '>' {
				return fail(col, "found >, expected -> between blanks, as in: permit a -> b on tcp/443")
			}
			return fail(col, "found %q, expected a word; a word with other characters than A-Z a-z 0-9 _ . : / - "+
				"is written in quotes", r)
		}
	}
	return false
}

// unquote reads the quoted text that s begins with, and how many bytes and
// characters it takes, quotes included.
func unquote(s string) (text string, bytes, chars int, err error) {
	var b strings.Builder
	i, chars := 1, 1
	for i < len(s) {
		switch c := s[i]; {
		case c == '"':
			return b.String(), i + 1, chars + 1, nil
		case c == '\\':
			if i+1 == len(s) {
				return "", 0, 0, fmt.Errorf(`found no closing ", expected one on the same line`)
			}
			if s[i+1] != '"' && s[i+1] != '\\' {
				return "", 0, 0, fmt.Errorf(`found \ in quotes, expected only \" or \\`)
			}
			b.WriteByte(s[i+1])
			i += 2
			chars += 2
		default:
			r, size := utf8.DecodeRuneInString(s[i:])
			if r == utf8.RuneError && size == 1 {
				return "", 0, 0, fmt.Errorf("found a byte that is not UTF-8 (0x%02x), expected text in UTF-8", c)
			}
			b.WriteString(s[i : i+size])
			i += size
			chars++
		}
	}
	return "", 0, 0, fmt.Errorf(`found no closing ", expected one on the same line`)
}

func wordStart(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == ':'
}

func wordPart(c byte) bool { return wordStart(c) || c == '.' || c == '/' || c == '-' }

// IsWord reports whether s can stand without quotes.
func IsWord(s string) bool {
	if s == "" || !wordStart(s[0]) {
		return false
	}
	for i := 1; i < len(s); i++ {
		if !wordPart(s[i]) {
			return false
		}
	}
	return true
}

var keywords = func() map[string]bool {
	m := map[string]bool{}
	for _, k := range strings.Fields(`service group area layer permit reject apart off assert never always only any
		outside workload on within until log include exclude owner same across or and not has lacks address in member
		of is starts ends contains matches tcp udp sctp icmp icmp6`) {
		m[k] = true
	}
	return m
}()

// IsKeyword reports whether the bare word is one of the language's own.
func IsKeyword(word string) bool { return keywords[word] }

// Quote puts s in quotes.
func Quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// Name prints a name, a value or an id: bare where it can be, else in quotes.
func Name(s string) string {
	if IsWord(s) && !IsKeyword(s) {
		return s
	}
	return Quote(s)
}
