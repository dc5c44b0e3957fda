package report_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/reach"
	"lucidorchard/core/report"
	"lucidorchard/core/sample"
)

func compile(t require.TestingT, e *estate.Estate, text string, at estate.Instant) *decide.Compiled {
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	return decide.Compile(e, p, at)
}

// What a report says of a part is what one finds by going through the
// conversations that it has an end of.
func TestEachPartIsToldItsOwn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, at := sample.Estate(t), sample.Instant(t)
		var b flow.Buckets
		for range rapid.IntRange(1, 40).Draw(t, "records") {
			when := sample.Instant(t)
			b.Add(flow.Record{Start: when, End: when, Client: rapid.SampledFrom(sample.Addresses).Draw(t, "client"),
				Server:      rapid.SampledFrom(sample.Addresses).Draw(t, "server"),
				Point:       rapid.SampledFrom(sample.Points).Draw(t, "point"),
				Connections: rapid.Int64Range(1, 4).Draw(t, "connections"),
				Outcome:     flow.Outcome(rapid.IntRange(0, 2).Draw(t, "outcome"))})
		}
		all := b.All()
		from, to := all[0].Hour, all[len(all)-1].Hour+1
		before, draft := sample.Policy(t), sample.Policy(t)
		c := compile(t, e, draft, at)
		was := reach.New(compile(t, e, before, at), all, from, to)
		v := reach.New(c, all, from, to).Compared(was)
		r := report.New(v, report.Options{By: "app", Before: before, Draft: draft, Asserts: prove.Assertions(c)})

		type sums struct {
			loses, gains, others, open int
			now, then                  decide.Counts
		}
		want := map[string]*sums{}
		changed := 0
		appOf := func(p decide.Placed) string {
			if p.Workload == estate.Outside {
				return "outside"
			}
			if app, ok := e.Workload(p.Workload).Tag("app"); ok {
				return app.Value
			}
			return "without app"
		}
		for i := range v.Len() {
			conv := v.At(i)
			then := was.Verdict(i)
			if then != conv.Verdict {
				changed++
			}
			parts := map[string]bool{appOf(conv.Client): true, appOf(conv.Server): true}
			for name := range parts {
				if want[name] == nil {
					want[name] = &sums{}
				}
				s := want[name]
				s.now[conv.Verdict]++
				s.then[then]++
				switch {
				case then == conv.Verdict:
				case then == decide.Permit:
					s.loses++
				case conv.Verdict == decide.Permit:
					s.gains++
				default:
					s.others++
				}
				if conv.Verdict == decide.Uncovered {
					s.open++
				}
			}
		}
		require.Equal(t, changed, r.Changed)
		delete(want, "outside")
		require.Len(t, r.Parts, len(want))
		count := func(list []report.FlowGroup, keep func(report.FlowGroup) bool) (n int) {
			for _, s := range list {
				if keep(s) {
					n += s.Conversations
				}
			}
			return n
		}
		anyOf := func(report.FlowGroup) bool { return true }
		for _, p := range r.Parts {
			s := want[p.Name]
			require.NotNil(t, s, p.Name)
			require.Equal(t, []any{report.CountsOf(s.now), report.CountsOf(s.then)}, []any{p.Now, p.Then})
			require.Equal(t, []int{s.loses, s.gains, s.others},
				[]int{count(p.Loses, anyOf), count(p.Gains, anyOf), count(p.Others, anyOf)}, p.Name)
			require.Equal(t, s.open, count(p.Open, func(x report.FlowGroup) bool { return x.Is == "uncovered" }))
			for _, x := range p.Open {
				require.True(t, x.Is == "uncovered" || x.Is == "reject" && x.Carried > 0)
			}
		}
		require.Len(t, r.Assertions, len(c.Policy.Asserts))
		text := r.Markdown("Saltmarsh Ferries")
		for _, p := range r.Parts {
			require.Contains(t, text, strings.ReplaceAll(p.Name, "_", `\_`))
		}
	})
}

// The statements are what one has to take out of the one text and put in to get
// the other.
func TestStatementsAreTheDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, errs := policy.Parse(sample.Policy(t))
		require.Empty(t, errs)
		before := p.Format()
		edited, errs := policy.Parse(sample.EditPolicy(t, before))
		require.Empty(t, errs)
		after := edited.Format()
		e, at := sample.Estate(t), sample.Instant(t)
		v := reach.New(compile(t, e, after, at),
			[]flow.Bucket{{Client: sample.Addresses[0], Server: sample.Addresses[1], Connections: 1}}, 0, 1)
		r := report.New(v, report.Options{By: "app", Before: before, Draft: after})
		left := map[string]int{}
		for _, l := range policy.Lines(before) {
			left[l]++
		}
		for _, s := range r.Statements {
			if s.Change == "added" {
				left[s.Text]++
			} else {
				left[s.Text]--
			}
		}
		for _, l := range policy.Lines(after) {
			left[l]--
		}
		for l, n := range left {
			require.True(t, n == 0 || strings.TrimSpace(l) == "", "%q %d", l, n)
		}
	})
}

func TestMarkdownTakesNothingForItsOwn(t *testing.T) {
	r := report.Report{
		Draft: report.Version{No: 3, Author: "a_b", Words: "x"}, Before: report.Version{No: 1, Words: "Start *here*"},
		Statements: []report.Statement{{Change: "added", Text: "permit a -> b on any # ``` fence"}},
		Parts: []report.Part{
			{Name: "booking|fares", Owner: "the <crew>", Loses: []report.FlowGroup{{Client: "a", Server: "b",
				Service: "tcp/443 https", Was: "permit", Is: "reject", Conversations: 2, Rule: "reject a -> b on any",
				Why: "line\nbreak | bar"}}},
			{Name: "tides"},
		},
		Assertions: []report.Assertion{{Sentence: "never a -> b on any", Result: "broken", Example: "x → y on tcp/1"}},
		Probes:     []report.Probe{{Question: "a -> b any", Want: "permit", Words: "reject", Reason: "why"}},
		Changed:    2,
	}
	text := r.Markdown("Salt [marsh]")
	for _, want := range []string{
		`# What the draft changes: Salt \[marsh\]`, `Start \*here\*`, "## booking\\|fares (the \\<crew\\>)",
		"| a | b | tcp/443 https | permit | reject | 2 | 0 | reject a -\\> b on any — line break \\| bar |",
		"+ permit a -> b on any # ''' fence", "No change and no open question for tides.",
		"- **broken** never a -\\> b on any: x → y on tcp/1",
		"- **NOT as expected** a -\\> b any, expected permit: reject — why",
		"The draft changes the verdict of 2 conversations: 1 part loses traffic that was permitted, 0 parts gain " +
			"more than before; 0 parts have open questions. 1 assertion does not hold. 1 probe is not as expected.",
	} {
		require.Contains(t, text, want)
	}
	require.Equal(t, 2, strings.Count(text, "```"), "the text of the policy does not end its fence")
}
