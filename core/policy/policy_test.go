package policy_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

func TestErrorsSayWhere(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"group a = app is is", "1:18: found the keyword is"},
		{"group a = not not any", "1:15: found a second not"},
		{"group a = app", "1:14: found the end of the statement, expected a test"},
		{"group a = (app is x", "1:20: found the end of the statement, expected and, or, or )"},
		{"group a = app matches \"(\"", "1:23: found \"(\", expected an RE2 expression"},
		{"group a = address in 10.0.0.5/8",
			"1:22: found 10.0.0.5/8, whose host bits are set, expected the network address: 10.0.0.0/8"},
		{"group a = address in ::ffff:10.0.0.5/104", "expected the network address: 10.0.0.0/8"},
		{"group a = address in \"10.0.0.0/8\"", "1:22: found \"10.0.0.0/8\", expected an address"},
		{"group a = any\n\ngroup a = any",
			"3:7: found a second group a, expected another name: it is defined on line 1"},
		{"group a = member of b\ngroup b = member of a", "2:21: found a cycle of groups: a → b → a"},
		{"service a = b\nservice b = a, tcp/1", "2:13: found a cycle of services: a → b → a"},
		{"permit any -> any on any", "1:1: found a rule before the first layer"},
		{"layer l\npermit any -> any", "2:18: found the end of the statement, expected on"},
		{"layer l\npermit any, any -> any on any", "2:11: found ,, expected ->"},
		{"layer l\npermit \\\n  nobody -> any on any", "3:3: found the unknown group nobody"},
		{"layer l\npermit 10.0.0.0/33 -> any on any", "2:8: found the unknown group 10.0.0.0/33"},
		{"layer l\npermit any -> any on tcp/99999", "2:22: found tcp/99999"},
		{"layer l\npermit any -> any on tcp/443-80",
			"2:22: found tcp/443-80, expected the lower port first: tcp/80-443"},
		{"layer l\npermit any -> any on proto/256", "2:22: found proto/256"},
		{"layer l\npermit any -> any on icmp/8.256", "2:22: found icmp/8.256"},
		{"layer l\npermit any -> any on any until 2027-02-30", "2:32: found 2027-02-30, expected a day that exists"},
		{"layer l\npermit any -> any on any log log", "2:30: found a second log"},
		{"layer l\npermit any -> any on any note", "2:26: found note, expected within"},
		{"layer l\napart a", "2:8: found the end of the statement, expected , and a second group"},
		{"layer l\npermit a->b on any", "2:10: found >, expected -> between blanks"},
		{"layer l\nlayer l", "2:7: found a second layer l"},
		{"layer \"\"", "1:7: found \"\", expected the name of a layer that is not empty"},
		{"layer l \"unclosed", "1:9: found no closing \""},
		{`layer l "bad \n"`, `1:9: found \ in quotes`},
		{"layer l \\ ", `1:9: found \, expected it as the last`},
		{"assert never any -> any on any log", "1:32: found log"},
		{"assert never any -> any on any same a same b", "1:39: found a second same"},
		{"group a = app is x exclude w include v", "1:30: found include, expected include before exclude"},
		{"group é = any", "1:7: found 'é', expected a word"},
		{"group \"é\" = any  x", "1:18: found x, expected and, or, include"},
		{"layer \xff", "1:7: found a byte that is not UTF-8"},
		{"off group a = any", "1:5: found group, expected permit, reject or apart"},
		{"hello", "1:1: found hello, expected a statement"},
		{"group is = any", "1:7: found the keyword is"},
		{"group a = tag: is x", "1:11: found no key after tag:"},
	} {
		_, errs := policy.Parse(c.text)
		require.NotEmpty(t, errs, c.text)
		var all []string
		for _, e := range errs {
			all = append(all, e.Error())
		}
		require.Contains(t, strings.Join(all, "\n"), c.want, c.text)
	}
}

func TestOneMistakeIsReportedOnce(t *testing.T) {
	_, errs := policy.Parse("group a = app is\nservice s = tcp/x\nlayer l\npermit a -> a on s\nlayer\npermit a -> " +
		"any on s")
	require.Len(t, errs, 3)
	_, errs = policy.Parse("layer l\npermit x, y -> z on s area q within w")
	require.Len(t, errs, 6, "every unknown name of a line is reported")
}

func TestWordsAndQuotes(t *testing.T) {
	p, errs := policy.Parse("\ufeffgroup \"10.0.0.1\" = \"tag:cost centre\" is \"a \\\"b\\\" \\\\\" and tag:\"os\" " +
		"is x and \"os\" is y # c \\\r\n" +
		"service \"tcp/443\" = tcp/444, PROTO \r\nservice PROTO = proto/6, proto/047, tcp/0080-0080, " +
		"icmp/003\r\nlayer \"off\"\r\npermit \"10.0.0.1\", 10.0.0.1/32, ::ffff:10.0.0.0/104 -> outside on " +
		"\"tcp/443\"log\r\n")
	require.Empty(t, errs)
	require.Equal(t, `group 10.0.0.1 = "cost centre" is "a \"b\" \\" and tag:os is x and os is y  # c \
service tcp/443 = tcp/444, PROTO
service PROTO = tcp, proto/47, tcp/80, icmp/3
layer "off"
permit "10.0.0.1", 10.0.0.1, 10.0.0.0/8 -> outside on "tcp/443" log
`, p.Format())
}

func TestFormatKeepsMeaning(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := sample.Policy(t)
		p, errs := policy.Parse(text)
		require.Empty(t, errs, text)
		once := p.Format()
		again, errs := policy.Parse(once)
		require.Empty(t, errs, once)
		require.Equal(t, once, again.Format())
		require.Equal(t, meaning(p), meaning(again))
	})
}

// meaning is the policy without places and layout, down to each node.
func meaning(p *policy.Policy) string {
	var b strings.Builder
	for _, g := range p.GroupOrder {
		fmt.Fprintf(&b, "%q %s %v %v %q\n", g.Name, g.Expr, g.Include, g.Exclude, g.Note)
	}
	for _, r := range p.Rules {
		fmt.Fprintf(&b, "%v %v %v %v %v %s %q %q\n", r.Off, r.Action, r.Left, r.Right, p.Points(r.On), r.Clauses,
			r.Note, r.Layer.Name)
		for _, g := range r.Groups {
			b.WriteString(g.Name + ",")
		}
	}
	for _, a := range p.Asserts {
		fmt.Fprintf(&b, "%v %v %v %v %s\n", a.Kind, a.Left, a.Right, p.Points(a.On), a.Clauses)
	}
	return b.String()
}

func FuzzParse(f *testing.F) {
	f.Add("group a = app is \"x\" and not (has os)\nlayer l \\\n\"n\"\npermit a -> outside on tcp/1-2, icmp/8.0 " +
		"same env until 2027-01-01 log # c")
	f.Add("\ufeffassert only any -> 10.0.0.0/8 on any across tag:\"a b\"\r\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, errs := policy.ParseLoose(text)
		lines := strings.Count(text, "\n") + 1
		for _, e := range errs {
			require.True(t, e.Line >= 1 && e.Line <= lines && e.Col >= 1, "%s of %q", e, text)
		}
		if len(errs) > 0 {
			return
		}
		once := p.Format()
		again, errs := policy.ParseLoose(once)
		require.Empty(t, errs, "%q became %q", text, once)
		require.Equal(t, once, again.Format())
		require.Equal(t, meaning(p), meaning(again))
	})
}
