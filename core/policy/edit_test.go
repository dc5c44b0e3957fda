package policy_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/policy"
	"lucidorchard/core/sample"
)

const draft = `# the draft
service web = tcp/443
group live = env is live
group trial = env is trial

layer guardrails
reject any -> outside on tcp/23  # no telnet
layer allowances
permit live -> live on web "first"
off permit trial -> trial on web
layer closing

assert never trial -> live on any
`

func TestEdits(t *testing.T) {
	for _, c := range []struct {
		edit        policy.Edit
		words, want string // want: old → new, parts of the text
	}{
		{policy.Edit{Op: policy.Add, Layer: "allowances", Text: "permit trial->live on tcp/1"}, "", ""},
		{policy.Edit{Op: policy.Add, Layer: "allowances", Text: "permit trial -> live on   tcp/01"},
			"Add “permit trial -> live on tcp/1”",
			"off permit trial -> trial on web\n→off permit trial -> trial on web\npermit trial -> live on tcp/1\n"},
		{policy.Edit{Op: policy.Add, Before: 9, Text: "reject any -> any on udp"}, "Add “reject any -> any on udp”",
			"layer allowances\n→layer allowances\nreject any -> any on udp\n"},
		{policy.Edit{Op: policy.Add, Layer: "closing", Text: "reject any -> live on any"},
			"Add “reject any -> live on any”",
			"layer closing\n→layer closing\nreject any -> live on any\n"},
		{policy.Edit{Op: policy.Add, Text: "group bench = env is bench"}, "Add “group bench = env is bench”",
			"group trial = env is trial\n→group trial = env is trial\ngroup bench = env is bench\n"},
		{policy.Edit{Op: policy.Add, Text: "area a = live"}, "Add “area a = live”",
			"\nlayer guardrails→\narea a = live\nlayer guardrails"},
		{policy.Edit{Op: policy.Add, Text: "assert always live -> live on web"},
			"Add “assert always live -> live on web”",
			"assert never trial -> live on any\n→assert never trial -> live on any\nassert always live -> live on " +
				"web\n"},
		{policy.Edit{Op: policy.Add, Text: "layer last"}, "Add “layer last”",
			"layer closing\n→layer closing\nlayer last\n"},
		{policy.Edit{Op: policy.Add, Layer: "allowances",
			Text: "group a = app is a\ngroup b = app is b\npermit a -> b on web \"n\""},
			"Add “permit a -> b on web” and 2 statements for it",
			"group trial = env is trial\n→group trial = env is trial\ngroup a = app is a\ngroup b = app is b\n"},
		{policy.Edit{Op: policy.Change, Line: 7, Text: "reject any -> outside on tcp/22-23"},
			"Change “reject any -> outside on tcp/23  # no telnet” to “reject any -> outside on tcp/22-23”",
			"tcp/23  # no telnet→tcp/22-23  # no telnet"},
		{policy.Edit{Op: policy.Change, Line: 3, Text: "group live = env in (live, prod)"},
			"Change group live to env in (live, prod)", "env is live→env in (live, prod)"},
		{policy.Edit{Op: policy.Switch, Line: 7}, "Turn off “reject any -> outside on tcp/23  # no telnet”",
			"reject any→off reject any"},
		{policy.Edit{Op: policy.Switch, Line: 10}, "Turn on “permit trial -> trial on web”", "off permit→permit"},
		{policy.Edit{Op: policy.Remove, Line: 9}, "Remove “permit live -> live on web”",
			"permit live -> live on web \"first\"\n→"},
		{policy.Edit{Op: policy.Move, Line: 9, Layer: "closing"}, "Move “permit live -> live on web”",
			"permit live -> live on web \"first\"\noff permit trial -> trial on web\nlayer closing\n→off permit " +
				"trial -> trial on web\nlayer closing\npermit live -> live on web \"first\"\n"},
		{policy.Edit{Op: policy.Move, Line: 10, Before: 9}, "Move “off permit trial -> trial on web”",
			"permit live -> live on web \"first\"\noff permit trial -> trial on web\n→off permit trial -> trial on " +
				"web\npermit live -> live on web \"first\"\n"},
		{policy.Edit{Op: policy.Move, Line: 7, Before: 10}, "Move “reject any -> outside on tcp/23  # no telnet”",
			"reject any -> outside on tcp/23  # no telnet\nlayer allowances\npermit live -> live on web " +
				"\"first\"\n→layer allowances\npermit live -> live on web \"first\"\nreject any -> outside on " +
				"tcp/23  # no telnet\n"},
	} {
		after, words, err := c.edit.Apply(draft)
		if c.words == "" {
			require.NotNil(t, err, c.edit)
			require.Empty(t, after)
			continue
		}
		require.Nil(t, err, "%+v: %v", c.edit, err)
		require.Equal(t, c.words, words)
		old, now, _ := strings.Cut(c.want, "→")
		want := strings.Replace(draft, old, now, 1)
		if strings.Contains(c.words, "statements for it") {
			want = strings.Replace(want, "off permit trial -> trial on web\n",
				"off permit trial -> trial on web\npermit a -> b on web \"n\"\n", 1)
		}
		require.Equal(t, want, after, "%+v", c.edit)
	}
}

func TestEditsThatCannotBe(t *testing.T) {
	for _, c := range []struct {
		edit policy.Edit
		want string
	}{
		{policy.Edit{Op: policy.Remove, Line: 1}, "found no statement on line 1"},
		{policy.Edit{Op: policy.Remove, Line: 99}, "found no statement on line 99"},
		{policy.Edit{Op: policy.Remove, Line: 3}, "unknown group live"},
		{policy.Edit{Op: policy.Remove, Line: 6}, "before the first layer"},
		{policy.Edit{Op: policy.Switch, Line: 3}, "expected a rule to turn on or off"},
		{policy.Edit{Op: policy.Move, Line: 3, Layer: "closing"}, "expected a rule to move"},
		{policy.Edit{Op: policy.Move, Line: 7, Layer: "nowhere"}, `found no layer "nowhere"`},
		{policy.Edit{Op: policy.Move, Line: 7, Before: 99}, "found line 99 to move to"},
		{policy.Edit{Op: policy.Add, Text: " # only a comment"}, "found nothing, expected a statement"},
		{policy.Edit{Op: policy.Add, Text: "group live = any"}, "a second group live"},
		{policy.Edit{Op: "paint", Line: 7}, `found the edit "paint"`},
	} {
		after, _, err := c.edit.Apply(draft)
		require.NotNil(t, err, c.edit)
		require.Contains(t, err.Message, c.want)
		require.Empty(t, after)
	}
	_, _, err := policy.Edit{Op: policy.Change, Line: 9, Text: "permit live -> live on web, tcp/99999"}.Apply(draft)
	require.Equal(t, 1, err.Errors[0].Line, "places are in the edit's own text")
	require.Equal(t, 29, err.Errors[0].Col)
}

// Whatever is edited, the other statements stay as they are and in order.
func TestEditsLeaveTheRestAlone(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, _ := policy.Parse(sample.Policy(t))
		text := p.Format()
		lines := policy.Lines(text)
		edit := policy.Edit{
			Op: rapid.SampledFrom([]policy.Op{policy.Add, policy.Change, policy.Remove, policy.Move,
				policy.Switch}).Draw(t, "op"),
			Line: rapid.IntRange(1, len(lines)).Draw(t, "line"), Text: sample.Rule(t), Layer: "closing",
		}
		after, words, err := edit.Apply(text)
		if err != nil {
			require.NotEmpty(t, err.Message)
			return
		}
		require.NotEmpty(t, words)
		gone := 0
		for i, to := range policy.Follow(lines, policy.Lines(after)) {
			if to == 0 && lines[i] != "" {
				gone++
			}
		}
		require.LessOrEqual(t, gone, map[policy.Op]int{policy.Add: 0, policy.Change: 1, policy.Remove: 1,
			policy.Move: 1, policy.Switch: 1}[edit.Op], "%+v\n%s", edit, after)
		again, errs := policy.Parse(after)
		require.Empty(t, errs)
		require.Equal(t, after, again.Format(), "what is stored is canonical")
	})
}

func TestFollow(t *testing.T) {
	letters := func(s string) []string { return strings.Split(s, "") }
	require.Equal(t, []int{1, 2, 0, 3}, policy.Follow(letters("abxc"), letters("abc")))
	require.Equal(t, []int{1, 3, 4}, policy.Follow(letters("abc"), letters("a.bc")))
	require.Equal(t, []int{0, 1, 2, 0}, policy.Follow(letters("xbcy"), letters("bcd")))
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.SliceOfN(rapid.SampledFrom(letters("abc")), 0, 12).Draw(t, "a")
		b := rapid.SliceOfN(rapid.SampledFrom(letters("abc")), 0, 12).Draw(t, "b")
		last := 0
		for i, to := range policy.Follow(a, b) {
			if to > 0 {
				require.Equal(t, a[i], b[to-1])
				require.Greater(t, to, last, "in order")
				last = to
			}
		}
		if slices.Equal(a, b) {
			require.Equal(t, len(a), last)
		}
	})
}

func TestInsertAllowances(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", "layer allowances\nNEW\n"},
		{"layer closing\nreject any -> any on any\n",
			"layer allowances\nNEW\nlayer closing\nreject any -> any on any\n"},
		{"layer a\n\n# about closing\n# and more\nlayer closing\n",
			"layer a\n\nlayer allowances\nNEW\n# about closing\n# and more\nlayer closing\n"},
		{"layer allowances\n", "layer allowances\nNEW\n"},
		{"layer allowances # c", "layer allowances # c\nNEW\n"},
		{"layer allowances\r\npermit any -> any \\\r\n on any\r\n\r\nassert never any -> any on any\r\nlayer z\r\n",
			"layer allowances\r\npermit any -> any \\\r\n on any\r\nNEW\r\n\r\nassert never any -> any on " +
				"any\r\nlayer z\r\n"},
		{"layer closing\nlayer allowances\npermit any -> any on tcp\ngroup g = any\n",
			"layer closing\nlayer allowances\npermit any -> any on tcp\nNEW\ngroup g = any\n"},
		{"layer allowances\npermit any -> any on tcp \\", "layer allowances\npermit any -> any on tcp \\\n\nNEW\n"},
		{"layer x\nreject any -> any on udp", "layer x\nreject any -> any on udp\nlayer allowances\nNEW\n"},
	} {
		const rule = "permit any -> any on sctp/7"
		got := policy.InsertAllowances(c.text, []string{rule})
		require.Equal(t, strings.Replace(c.want, "NEW", rule, 1), got, "%q", c.text)
		p, errs := policy.Parse(got)
		require.Empty(t, errs)
		found := p.Rules[slices.IndexFunc(p.Rules, func(r *policy.Rule) bool { return r.String() == rule })]
		require.Equal(t, policy.Allowances, found.Layer.Name)
	}
	require.Equal(t, "x", policy.InsertAllowances("x", nil))
}
