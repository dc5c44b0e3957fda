package syntax_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/syntax"
)

// shown writes tokens with their places.
func shown(l syntax.Line) string {
	var parts []string
	for _, t := range l.Tokens {
		text := t.Text
		if t.Kind == syntax.Quoted {
			text = "«" + text + "»"
		}
		glue := ""
		if t.Glued {
			glue = "+"
		}
		parts = append(parts, fmt.Sprintf("%s%s@%d:%d", glue, text, t.Line, t.Col))
	}
	if l.Comment != "" {
		parts = append(parts, l.Comment)
	}
	if l.Err != nil {
		parts = append(parts, "ERROR "+l.Err.Error())
	}
	return strings.Join(parts, " ")
}

func TestLines(t *testing.T) {
	for _, c := range []struct {
		text string
		want []string
	}{
		{"", nil},
		{"\n\n", []string{"", ""}},
		{"a b\r\n  c", []string{"a@1:1 b@1:3", "c@2:3"}},
		{"\ufeffa", []string{"a@1:1"}},
		{"a \\\nb", []string{"a@1:1 b@2:1"}},
		{"a\\\r\nb", []string{"a@1:1 b@2:1"}}, // a continuation separates words
		{"a \\\n\nb", []string{"a@1:1", "b@3:1"}},
		{"a \\\n# c \\\nb", []string{"a@1:1 # c \\", "b@3:1"}},
		{"a # c \\\nb", []string{"a@1:1 # c \\", "b@2:1"}},
		{"a \\", []string{"a@1:1"}},
		{`"é" x`, []string{"«é»@1:1 x@1:5"}}, // columns count characters
		{`"a \" \\ #"b`, []string{"«a \" \\ #»@1:1 +b@1:12"}},
		{`tag:"x y"`, []string{"tag:@1:1 +«x y»@1:5"}},
		{"(a,b)=c->d", []string{"(@1:1 +a@1:2 +,@1:3 +b@1:4 +)@1:5 +=@1:6 +c-@1:7 ERROR 1:9: found >, expected -> " +
			"between blanks, as in: permit a -> b on tcp/443"}},
		{"a -> b", []string{"a@1:1 ->@1:3 b@1:6"}},
		{"a \"open\nb", []string{"a@1:1 ERROR 1:3: found no closing \", expected one on the same line", "b@2:1"}},
		{"a \"open\\\nb c\nd", []string{"a@1:1 ERROR 1:3: found no closing \", expected one on the same line",
			"d@3:1"}},
		{"a \\b", []string{"a@1:1 ERROR 1:3: found \\, expected it as the last character of a line that continues, " +
			"or inside quotes"}},
		{"::1 _x :y 0.0", []string{"::1@1:1 _x@1:5 :y@1:8 0.0@1:11"}},
	} {
		var got []string
		for _, l := range syntax.Lines(c.text) {
			got = append(got, shown(l))
		}
		require.Equal(t, c.want, got, "%q", c.text)
	}
}

func TestContinuedLinesKnowWhatTheyCover(t *testing.T) {
	ls := syntax.Lines("a \\\nb \\\nc\nd")
	require.Equal(t, [2]int{1, 3}, [2]int{ls[0].First, ls[0].Last})
	require.Equal(t, [2]int{4, 4}, [2]int{ls[1].First, ls[1].Last})
}

func TestQuoteSurvives(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.StringMatching(`[ a-zA-Z0-9"\\#é,()=>_.:/-]*`).Draw(t, "text")
		for _, printed := range []string{syntax.Quote(s), syntax.Name(s)} {
			ls := syntax.Lines(printed)
			require.Len(t, ls, 1)
			require.Nil(t, ls[0].Err)
			require.Len(t, ls[0].Tokens, 1)
			require.Equal(t, s, ls[0].Tokens[0].Text)
		}
		if syntax.IsKeyword(s) || !syntax.IsWord(s) {
			require.Equal(t, syntax.Quote(s), syntax.Name(s))
		}
	})
}

func TestCursorSaysWhatItFound(t *testing.T) {
	c := syntax.NewCursor(syntax.Lines(`on "" x`)[0])
	_, err := c.Name("a name")
	require.ErrorContains(t, err,
		"1:1: found the keyword on, expected a name; to use the word as one, write it in quotes")
	require.True(t, c.Take("on"))
	_, err = c.Name("a name")
	require.ErrorContains(t, err, `1:4: found "", expected a name that is not empty`)
	v, noErr := c.Value()
	require.Nil(t, noErr)
	require.Empty(t, v.Text)
	require.ErrorContains(t, c.Finish("the end"), "1:7: found x, expected the end")
	c.Next()
	require.Nil(t, c.Finish("the end"))
	require.ErrorContains(t, c.Expect("->"), "1:8: found the end of the statement, expected ->")
}
