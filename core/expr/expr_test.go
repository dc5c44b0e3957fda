package expr_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/expr"
	"lucidorchard/core/sample"
	"lucidorchard/core/syntax"
)

func parse(t require.TestingT, text string) *expr.Expr {
	e, errs := expr.ParseText(text)
	require.Empty(t, errs, text)
	return e
}

var machine = &estate.Workload{ID: "w-1", Name: "BE-01", OS: "Debian 12", Tags: []estate.Tag{
	{Key: "app", Value: "Booking"}, {Key: "cost centre", Value: "K 7"}, {Key: "empty", Value: ""},
	{Key: "name", Value: "tagged"}, {Key: "tag:odd", Value: "yes"},
}}

func TestTests(t *testing.T) {
	in := expr.Subject{Addr: netip.MustParseAddr("10.0.0.5"), Workload: machine}
	out := expr.Subject{Addr: netip.MustParseAddr("fd00::5")}
	members := func(g string) expr.Truth { return map[string]expr.Truth{"yes": expr.Yes, "no": expr.No}[g] }
	for text, want := range map[string][2]expr.Truth{ // of the machine, of outside
		"any":                                  {expr.Yes, expr.Yes},
		"outside":                              {expr.No, expr.Yes},
		"not outside":                          {expr.Yes, expr.No},
		"app is booking":                       {expr.Yes, expr.Undecided},
		"app is not booking":                   {expr.No, expr.Undecided},
		"app is fares":                         {expr.No, expr.Undecided},
		"app in (x, BOOKING)":                  {expr.Yes, expr.Undecided},
		"app not in (x, y)":                    {expr.Yes, expr.Undecided},
		"app starts BOO":                       {expr.Yes, expr.Undecided},
		"app ends ing":                         {expr.Yes, expr.Undecided},
		"app contains OK":                      {expr.Yes, expr.Undecided},
		`app starts ""`:                        {expr.Yes, expr.Undecided},
		`app is ""`:                            {expr.No, expr.Undecided},
		"app matches oki":                      {expr.Yes, expr.Undecided},
		"app matches \"^book\"":                {expr.No, expr.Undecided}, // matches minds case
		"tier is logic":                        {expr.Undecided, expr.Undecided},
		"tier is not logic":                    {expr.Undecided, expr.Undecided},
		"tier not in (a)":                      {expr.Undecided, expr.Undecided},
		"not tier is logic":                    {expr.Undecided, expr.Undecided},
		"empty is x":                           {expr.Undecided, expr.Undecided},
		"has empty":                            {expr.No, expr.Undecided},
		"lacks empty":                          {expr.Yes, expr.Undecided},
		"has app":                              {expr.Yes, expr.Undecided},
		"has kind":                             {expr.No, expr.Undecided},
		"name is be-01":                        {expr.Yes, expr.Undecided},
		"tag:name is tagged":                   {expr.Yes, expr.Undecided},
		`"name" is be-01`:                      {expr.Yes, expr.Undecided},
		`"tag:name" is tagged`:                 {expr.Yes, expr.Undecided},
		`tag:"cost centre" is "k 7"`:           {expr.Yes, expr.Undecided},
		`"cost centre" is "K  7"`:              {expr.No, expr.Undecided},
		"tag:tag:odd is YES":                   {expr.Yes, expr.Undecided},
		`os contains " "`:                      {expr.Yes, expr.Undecided},
		"id is W-1":                            {expr.Yes, expr.Undecided},
		"address in 10.0.0.0/8":                {expr.Yes, expr.No},
		"address in ::/0":                      {expr.No, expr.Yes},
		"address in ::ffff:10.0.0.0/104":       {expr.Yes, expr.No},
		"address in 10.0.0.5, fd00::5":         {expr.Yes, expr.Yes},
		"address in 0.0.0.0/0 and not outside": {expr.Yes, expr.No},
		"member of yes":                        {expr.Yes, expr.Yes},
		"not member of no":                     {expr.Yes, expr.Yes},
		"member of open":                       {expr.Undecided, expr.Undecided},
		"tier is a or any":                     {expr.Yes, expr.Yes},
		"tier is a and app is fares":           {expr.No, expr.Undecided},
		"tier is a and app is booking":         {expr.Undecided, expr.Undecided},
		"tier is a or app is fares":            {expr.Undecided, expr.Undecided},
		"not (tier is a or app is booking)":    {expr.No, expr.Undecided},
		"app is x or app is booking and any":   {expr.Yes, expr.Undecided}, // and binds tighter
		"(app is x or app is booking) and any": {expr.Yes, expr.Undecided},
		"not app is x and app is booking":      {expr.Yes, expr.Undecided}, // not binds tightest
	} {
		e := parse(t, text)
		require.Equal(t, want[0], e.Eval(in, members), text)
		require.Equal(t, want[1], e.Eval(out, members), text)
	}
	nowhere := expr.Subject{Workload: machine}
	require.Equal(t, expr.Undecided, parse(t, "address in 0.0.0.0/0").Eval(nowhere, members))
}

func TestKleene(t *testing.T) {
	all := []expr.Truth{expr.Yes, expr.No, expr.Undecided}
	rank := map[expr.Truth]int{expr.No: 0, expr.Undecided: 1, expr.Yes: 2}
	members := func(a, b expr.Truth) expr.Members {
		return func(g string) expr.Truth { return map[string]expr.Truth{"a": a, "b": b}[g] }
	}
	for _, a := range all {
		for _, b := range all {
			m := members(a, b)
			and, or := parse(t, "member of a and member of b").Eval(expr.Subject{}, m),
				parse(t, "member of a or member of b").Eval(expr.Subject{}, m)
			require.Equal(t, min(rank[a], rank[b]), rank[and])
			require.Equal(t, max(rank[a], rank[b]), rank[or])
			// De Morgan holds with three values too.
			require.Equal(t, and, parse(t, "not (not member of a or not member of b)").Eval(expr.Subject{}, m))
		}
		require.Equal(t, 2-rank[a], rank[a.Not()])
	}
}

func TestPrintingSurvives(t *testing.T) {
	for text, want := range map[string]string{
		"((app is a))":                                  "app is a",
		"app is a and (b is c and d is e)":              "app is a and b is c and d is e",
		"(a is b or c is d) or e is f":                  "a is b or c is d or e is f",
		"(a is b or c is d) and e is f":                 "(a is b or c is d) and e is f",
		"a is b or (c is d and e is f)":                 "a is b or c is d and e is f",
		"not (not any)":                                 "not (not any)",
		"not (a is b)":                                  "not a is b",
		`"in" is "off" and "x y" has`:                   "",
		`"in" is "off"`:                                 `"in" is "off"`,
		`tag:"x y" not in ("a b",c)`:                    `"x y" not in ("a b", c)`,
		`tag:in is a`:                                   `"in" is a`,
		`"tag:os" is a`:                                 "tag:os is a",
		`tag:"tag:a" is b`:                              "tag:tag:a is b",
		"address in 10.0.0.1/32,0:0:0:0:0:0:0:1/128":    "address in 10.0.0.1, ::1",
		"member of \"any\" or member of \"10.0.0.0/8\"": `member of "any" or member of 10.0.0.0/8`,
	} {
		e, errs := expr.ParseText(text)
		if want == "" {
			require.NotEmpty(t, errs, text)
			continue
		}
		require.Empty(t, errs, text)
		require.Equal(t, want, e.String(), text)
		require.Equal(t, want, parse(t, want).String())
	}
	rapid.Check(t, func(t *rapid.T) {
		text := sample.Expr(t, 4, 0)
		printed := parse(t, text).String()
		require.Equal(t, printed, parse(t, printed).String(), text)
	})
}

// Explain returns only reasons that have the answer which they explain, and
// always some; setting what MissingKeys names changes undecided answers only.
func TestExplainSettles(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := parse(t, sample.Expr(t, 3, 99))
		w := &estate.Workload{ID: "w1", Name: "be-1"}
		for _, k := range []string{"app", "env", "site", "tier"} {
			if v := rapid.SampledFrom([]string{"", "live", "booking", "store", "northquay"}).Draw(t, k); v != "" {
				w.SetTag(estate.Tag{Key: k, Value: v, Source: "sheet"})
			}
		}
		s := expr.Subject{Addr: netip.MustParseAddr("10.0.0.1"), Workload: w}
		m := func(string) expr.Truth { return expr.No }
		reasons := e.Explain(s, m, func(string) []expr.Reason { return nil })
		require.NotEmpty(t, reasons)
		answer := e.Eval(s, m)
		for _, key := range expr.MissingKeys(reasons) {
			require.Equal(t, expr.Undecided, answer)
			_, has := expr.KeyOf(key).Of(w)
			require.False(t, has, key)
		}
		if answer == expr.Undecided {
			require.NotEmpty(t, expr.MissingKeys(reasons), "%s of %v", e, w.Tags)
		}
		for _, r := range reasons {
			if r.Tag != nil {
				require.Equal(t, r.Value, r.Tag.Value)
				require.Equal(t, "sheet", r.Tag.Source)
			}
		}
	})
}

// Many tests on one key are asked as one, and say what they say one by one.
func TestManyTestsAreAskedAsOne(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		op := rapid.SampledFrom([]string{"or", "and"}).Draw(t, "op")
		parts := make([]string, rapid.SampledFrom([]int{1, 3, 20, 150}).Draw(t, "parts"))
		for i := range parts {
			key := rapid.SampledFrom([]string{"env", "name"}).Draw(t, "key")
			value := fmt.Sprint("v", rapid.IntRange(0, 300).Draw(t, "value"))
			parts[i] = rapid.SampledFrom([]string{key + " is " + value, key + " is not " + value, key + " is not " +
				value, key + " in (" + value + ", V5)",
				key + " not in (" + value + ")", "has " + key, key + " starts v1"}).Draw(t, "test")
			if len(parts) > 20 {
				parts[i] = map[string]string{"or": key + " is " + value, "and": key + " is not " + value}[op]
			}
		}
		w := &estate.Workload{ID: "w", Name: fmt.Sprint("V", rapid.IntRange(0, 35).Draw(t, "name"))}
		if rapid.Bool().Draw(t, "has") {
			w.SetTag(estate.Tag{Key: "env", Value: fmt.Sprint("v", rapid.IntRange(0, 35).Draw(t, "env"))})
		}
		s := expr.Subject{Workload: w}
		m := func(string) expr.Truth { return expr.No }
		want := map[string]expr.Truth{"or": expr.No, "and": expr.Yes}[op]
		for _, part := range parts {
			is := parse(t, part).Eval(s, m)
			switch {
			case op == "or" && is == expr.Yes, op == "and" && is == expr.No:
				want = is
			case is == expr.Undecided && want != map[string]expr.Truth{"or": expr.Yes, "and": expr.No}[op]:
				want = is
			}
		}
		e := parse(t, strings.Join(parts, " "+op+" "))
		require.Equal(t, want, e.Eval(s, m), e.String())
		require.NotEmpty(t, e.Explain(s, m, nil))
	})
}

// However deep an expression is, each part of it is asked once to explain it.
func TestExplainAsksEachPartOnce(t *testing.T) {
	const deep = 900
	text := "member of g"
	for i := range deep {
		text = []string{"member of g and (", "member of g or not ("}[i%2] + text + ")"
	}
	e := parse(t, text)
	asked := 0
	m := func(string) expr.Truth {
		asked++
		return expr.Undecided
	}
	require.NotEmpty(t, e.Explain(expr.Subject{}, m, func(string) []expr.Reason { return nil }))
	require.Equal(t, deep+1, asked)
}

func TestDeepParenthesesAreRefusedNotFatal(t *testing.T) {
	_, errs := expr.ParseText(strings.Repeat("(", 200_000) + "any" + strings.Repeat(")", 200_000))
	require.Len(t, errs, 1)
	require.Contains(t, errs[0].Message, "more than 1000 deep")
	parse(t, strings.Repeat("(", 900)+"any"+strings.Repeat(")", 900))
}

func TestFoldIsASCIIOnly(t *testing.T) {
	require.Equal(t, "aÉz", expr.Fold("AÉZ"))
	require.Equal(t, "\u212a", expr.Fold("\u212a"), "the Kelvin sign is no k")
}

func TestPatternsAreBounded(t *testing.T) {
	for _, text := range []string{strings.Repeat("(a|b)*", 500), "(((x{50}){50}){50})", strings.Repeat("a", 3000)} {
		_, errs := expr.ParseText("name matches " + syntax.Quote(text))
		require.Len(t, errs, 1)
		require.Contains(t, errs[0].Message, "expected an RE2 expression")
		require.Less(t, len(errs[0].Message), 500)
	}
	e, errs := expr.ParseText(`name matches "^(web|db)-([0-9]+)$"`)
	require.Empty(t, errs)
	require.True(t, e.Test("web-12"))
	require.False(t, e.Test("web-x"))
	e, errs = expr.ParseText(`name matches "(a)|(b)"`)
	require.Empty(t, errs)
	require.True(t, e.Test("xby"))
}
