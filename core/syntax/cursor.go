package syntax

// Cursor walks over the tokens of one statement. Errors after which the
// statement can still be read are noted with Note; those after which it cannot
// are returned.
type Cursor struct {
	tokens []Token
	next   int
	end    Token
	broken *Error
	noted  []*Error
}

// NewCursor starts at the first token of a line. If the line could not be cut
// into words to its end, the error stands where the words end.
func NewCursor(l Line) *Cursor {
	c := &Cursor{tokens: l.Tokens, broken: l.Err}
	c.end = Token{Kind: End, Pos: Pos{l.First, 1}}
	if n := len(l.Tokens); n > 0 {
		t := l.Tokens[n-1]
		width := len([]rune(t.Text))
		if t.Kind == Quoted {
			width = len([]rune(Quote(t.Text)))
		}
		c.end.Pos = Pos{t.Line, t.Col + width}
	}
	return c
}

// Peek returns the next token without moving on.
func (c *Cursor) Peek() Token { return c.peekAt(0) }

// peekAt returns the n-th token from here, 0 being the next.
func (c *Cursor) peekAt(n int) Token {
	if c.next+n < len(c.tokens) {
		return c.tokens[c.next+n]
	}
	return c.end
}

// Next returns the next token and moves on.
func (c *Cursor) Next() Token {
	t := c.Peek()
	if c.next < len(c.tokens) {
		c.next++
	}
	return t
}

// Take moves over the keyword or punctuation if it is next.
func (c *Cursor) Take(text string) bool {
	if c.Peek().Is(text) {
		c.next++
		return true
	}
	return false
}

// Expect moves over the keyword or punctuation, which has to be next.
func (c *Cursor) Expect(text string) *Error {
	if c.Take(text) {
		return nil
	}
	return c.Unexpected(c.Peek(), text)
}

// Unexpected is the error that t was found where something else was expected.
// Where the words end because one could not be read, that is the error.
func (c *Cursor) Unexpected(t Token, expected string) *Error {
	if t.Kind == End && c.broken != nil {
		return c.broken
	}
	return Errorf(t.Pos, "found %s, expected %s", t, expected)
}

// Name reads a word that is a name: bare but no keyword, or quoted and not
// empty.
func (c *Cursor) Name(what string) (Token, *Error) {
	t := c.Peek()
	if t.Kind == Word && !IsKeyword(t.Text) || t.Kind == Quoted {
		if t.Text == "" {
			return t, Errorf(t.Pos, `found "", expected %s that is not empty`, what)
		}
		return c.Next(), nil
	}
	return t, c.notAName(t, what)
}

func (c *Cursor) notAName(t Token, what string) *Error {
	if t.Kind == Word && IsKeyword(t.Text) {
		return Errorf(t.Pos, "found the keyword %s, expected %s; to use the word as one, write it in quotes", t.Text,
			what)
	}
	return c.Unexpected(t, what)
}

// Value reads a word that is a value: as Name, but it may be empty.
func (c *Cursor) Value() (Token, *Error) {
	t := c.Peek()
	if t.Kind == Word && !IsKeyword(t.Text) || t.Kind == Quoted {
		return c.Next(), nil
	}
	return t, c.notAName(t, "a value")
}

// Finish checks that the statement ends here.
func (c *Cursor) Finish(expected string) *Error {
	if t := c.Peek(); t.Kind != End || c.broken != nil {
		return c.Unexpected(t, expected)
	}
	return nil
}

// Note keeps an error after which reading goes on.
func (c *Cursor) Note(e *Error) { c.noted = append(c.noted, e) }

// Noted returns the errors kept so far.
func (c *Cursor) Noted() []*Error { return c.noted }
