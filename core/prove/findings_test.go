package prove_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
	"lucidorchard/core/prove"
	"lucidorchard/core/sample"
	"lucidorchard/core/service"
)

// allPoints has every edge of the services that the sample's policies mention.
var allPoints = func() []service.Point {
	out := []service.Point{service.PointOf(service.TCP, 80), service.PointOf(service.TCP, 81),
		service.PointOf(service.SCTP, 10), service.PointOf(service.ICMP, 7<<8),
		service.PointOf(service.ICMP6, 127<<8)}
	for _, p := range sample.Points {
		if !service.IsICMP(p.Proto()) || p.Port() != service.UnknownType {
			out = append(out, p)
		}
	}
	return out
}()

// everything calls f with every pair of endpoints that are apart, and a point.
func everything(e *estate.Estate, at estate.Instant, f func(client, server estate.Endpoint, p service.Point)) {
	for _, a := range everywhere() {
		for _, b := range everywhere() {
			client, server := e.At(a, at), e.At(b, at)
			if client.Workload == server.Workload && client.Workload != estate.Outside {
				continue
			}
			for _, p := range allPoints {
				f(client, server, p)
			}
		}
	}
}

// Shadowed, redundant and matching nothing are what one finds by asking about
// every point; and a mend changes no verdict, but for those that say so: they
// settle what was found.
func TestFindingsAgreeWithAskingAboutEveryPoint(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e, at := sample.Estate(t), sample.Instant(t)
		raw, errs := policy.Parse(sample.Policy(t))
		require.Empty(t, errs)
		text := raw.Format()
		p, _ := policy.Parse(text)
		walk := decide.NewWalk(e, p, at)
		matches, decides, needed := map[*policy.Rule]bool{}, map[*policy.Rule]bool{}, map[*policy.Rule]bool{}
		without := map[*policy.Rule]*decide.Walk{}
		for _, r := range p.Rules {
			others := *p
			others.Rules = slices.DeleteFunc(slices.Clone(p.Rules), func(x *policy.Rule) bool { return x == r })
			without[r] = decide.NewWalk(e, &others, at)
		}
		everything(e, at, func(client, server estate.Endpoint, pt service.Point) {
			for _, r := range p.Rules {
				matches[r] = matches[r] || walk.Matches(r, client, server, pt)
			}
			if r := walk.Decide(client, server, pt); r != nil {
				decides[r] = true
				if !needed[r] {
					needed[r] = decide.VerdictOf(without[r].Decide(client, server, pt)) != decide.VerdictOf(r)
				}
			}
		})
		got := map[int][]prove.Kind{}
		findings := prove.Findings(decide.Compile(e, p, at))
		for _, f := range findings {
			require.NotEmpty(t, f.Words)
			got[f.Line] = append(got[f.Line], f.Kind)
		}
		for _, r := range p.Rules {
			kinds := got[r.Line]
			if r.Off || r.Until != nil && r.Until.Past(at) {
				continue
			}
			none := slices.Contains(kinds, prove.MatchesNone) || slices.Contains(kinds, prove.AreaMissed)
			require.Equal(t, !matches[r], none, "matches nothing: %s\n%s", r, text)
			require.Equal(t, matches[r] && !decides[r], slices.Contains(kinds, prove.Shadowed), "shadowed: %s\n%s", r,
				text)
			require.Equal(t, decides[r] && !needed[r], slices.Contains(kinds, prove.Redundant), "redundant: %s\n%s",
				r, text)
		}
		if len(findings) == 0 {
			return
		}
		f := rapid.SampledFrom(findings).Draw(t, "finding")
		if f.Fix == nil {
			return
		}
		mended, bad := policy.ApplyAll(text, f.Fix.Edits)
		if bad != nil {
			require.Contains(t, bad.Message, "unknown group", "a mend that cannot be made: %s", f.Words)
			return
		}
		after, errs := policy.Parse(mended)
		require.Empty(t, errs)
		if f.Fix.Changes {
			for _, left := range prove.Findings(decide.Compile(e, after, at)) {
				if f.Kind == prove.PinsNames || f.Kind == prove.NoClosing {
					require.False(t, left.Kind == f.Kind && left.Group == f.Group,
						"%s is still so after its mend:\n%s\n%s", f.Kind, text, mended)
				}
			}
			return
		}
		again := decide.NewWalk(e, after, at)
		everything(e, at, func(client, server estate.Endpoint, pt service.Point) {
			require.Equal(t, decide.VerdictOf(walk.Decide(client, server, pt)),
				decide.VerdictOf(again.Decide(client, server, pt)), "%s: %s\n%s\n%s", f.Kind, f.Words, text, mended)
		})
	})
}

func findings(t *testing.T, e *estate.Estate, text string) map[string][]prove.Kind {
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	out := map[string][]prove.Kind{}
	lines := policy.Lines(text)
	for _, f := range prove.Findings(decide.Compile(e, p, estate.Instant{Sec: 1_795_000_000})) {
		out[lines[f.Line-1]] = append(out[lines[f.Line-1]], f.Kind)
	}
	return out
}

func TestFindingsByExample(t *testing.T) {
	var ws []estate.Workload
	for i, tags := range [][2]string{{"booking", "live"}, {"booking", "live"}, {"fares", "live"}, {"fares", "trial"},
		{"tides", ""}} {
		w := estate.Workload{ID: string(rune('a' + i)), Name: "m-" + string(rune('a'+i)),
			Leases: []estate.Lease{{Addr: sample.LargeAddr(i), From: estate.Beginning, Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "app", Value: tags[0]})
		w.SetTag(estate.Tag{Key: "env", Value: tags[1]})
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	const groups = "group booking = app is booking\ngroup fares = app is fares\ngroup live = env is live\ngroup " +
		"machines = not outside\n"
	for _, c := range []struct {
		rules, line string
		want        []prove.Kind
	}{
		{"layer x\npermit booking -> fares on tcp\npermit booking -> fares on tcp/443\nreject any -> any on any",
			"permit booking -> fares on tcp/443", []prove.Kind{prove.Shadowed}},
		{"layer x\npermit booking -> fares on tcp/0-99\nreject booking -> fares on tcp/100-65535\npermit booking " +
			"-> fares on tcp\nreject any -> any on any", "permit booking -> fares on tcp",
			[]prove.Kind{prove.Shadowed}},
		{"layer x\nreject booking -> fares on tcp/1\nlayer y\nreject any -> any on any",
			"reject booking -> fares on tcp/1", []prove.Kind{prove.Redundant}},
		{"layer x\nreject booking -> fares on tcp/23\npermit booking -> fares on tcp\nlayer y\nreject any -> any " +
			"on any", "permit booking -> fares on tcp", []prove.Kind{prove.Contradicts}},
		{"layer x\npermit booking -> fares on tcp/443\npermit booking, live -> fares on tcp\nlayer y\nreject any " +
			"-> any on any", "permit booking, live -> fares on tcp", []prove.Kind{prove.PartShadow}},
		{"layer x\npermit booking -> fares on tcp/7 across app same env\npermit fares -> workload nobody on " +
			"tcp/9\nlayer y\nreject any -> any on any", "permit fares -> workload nobody on tcp/9",
			[]prove.Kind{prove.MatchesNone}},
		{"area a = booking\nlayer x\npermit fares -> fares on tcp/7 area a\nlayer y\nreject any -> any on any",
			"permit fares -> fares on tcp/7 area a", []prove.Kind{prove.AreaMissed}},
		{"layer x\npermit booking -> fares on tcp/7 until 2026-11-17\nlayer y\nreject any -> any on any",
			"permit booking -> fares on tcp/7 until 2026-11-17", []prove.Kind{prove.Expired}},
		{"layer x\npermit booking -> fares on tcp/7 until 2026-12-01\nlayer y\nreject any -> any on any",
			"permit booking -> fares on tcp/7 until 2026-12-01", []prove.Kind{prove.SoonExpired}},
		{"layer x\npermit any -> fares on tcp/20-30\nlayer y\nreject any -> any on any",
			"permit any -> fares on tcp/20-30", []prove.Kind{prove.WideAdmin}},
		{"layer x\npermit outside -> fares on tcp/5432\nlayer y\nreject any -> any on any",
			"permit outside -> fares on tcp/5432", []prove.Kind{prove.WideStore}},
		{"layer x\npermit booking -> fares on tcp/1\npermit booking -> fares on udp/2\nlayer y\nreject any -> any " +
			"on any", "permit booking -> fares on udp/2", []prove.Kind{prove.Mergeable}},
		{"layer x\npermit booking -> fares on tcp/1\npermit fares -> fares on tcp/1\nlayer y\nreject any -> any on " +
			"any", "permit fares -> fares on tcp/1", []prove.Kind{prove.Mergeable}},
		{"layer x\npermit booking -> fares on tcp/1\npermit fares -> booking on tcp/1\nlayer y\nreject any -> any " +
			"on any", "permit fares -> booking on tcp/1", nil},
		{"layer x\npermit booking -> fares on tcp/1\nlayer closing\noff reject any -> any on any", "layer closing",
			[]prove.Kind{prove.NoClosing}},
		{"group none = app is wharf\nlayer closing\npermit none -> any on any\nreject any -> any on any",
			"group none = app is wharf", []prove.Kind{prove.EmptyGroup}},
		{"group ten = address in 10.0.0.0/8\nlayer closing\nreject any -> any on any",
			"group ten = address in 10.0.0.0/8", []prove.Kind{prove.UnusedGroup}},
		{"group pins = name in (m-a, m-b)\nlayer closing\nreject pins -> any on any\npermit any -> any on any",
			"group pins = name in (m-a, m-b)", []prove.Kind{prove.PinsNames}},
		{"layer closing\nreject live -> any on any\npermit any -> any on any", "group live = env is live",
			[]prove.Kind{prove.Undecided}},
	} {
		require.Equal(t, c.want, findings(t, e, groups+c.rules)[c.line], c.rules)
	}
}

func TestShadowNamesTheRulesTogether(t *testing.T) {
	e, _ := estate.New(nil)
	p, _ := policy.Parse("layer x\npermit any -> any on tcp/0-99\nreject any -> any on tcp/100-65535\npermit any " +
		"-> any on tcp\nreject any -> any on any")
	for _, f := range prove.Findings(decide.Compile(e, p, estate.Instant{})) {
		if f.Kind == prove.Shadowed {
			require.Equal(t, "Nothing reaches it: lines 2, 3 together decide all that it matches.", f.Words)
			require.Len(t, f.Others, 2)
			require.True(t, strings.HasPrefix(f.Fix.Words, "Remove"))
			return
		}
	}
	require.Fail(t, "not found")
}

// Mends that decide something differently say so, and do what they say.
func TestMendsThatDecide(t *testing.T) {
	var ws []estate.Workload
	for i, tags := range [][4]string{{"fares", "store", "live", "north"}, {"fares", "store", "live", "south"},
		{"fares", "store", "live", "north"}, {"fares", "store", "trial", "north"},
		{"tides", "entry", "live", "north"}} {
		w := estate.Workload{ID: string(rune('a' + i)), Name: "store-" + string(rune('a'+i)),
			Leases: []estate.Lease{{Addr: sample.LargeAddr(i), From: estate.Beginning, Until: estate.End}}}
		for k, key := range []string{"app", "tier", "env", "site"} {
			w.SetTag(estate.Tag{Key: key, Value: tags[k]})
		}
		ws = append(ws, w)
	}
	e, _ := estate.New(ws)
	// The third of the live stores of fares was forgotten.
	const text = "group any-store = tier is store and has env and app is not tides\ngroup stores = name in " +
		"(store-a, store-b) \"for fares\"\n" +
		"group nobody-shares = id in (a, d, e)\n" +
		"\nlayer rules\nreject any -> stores on tcp/1-99\npermit any -> stores on tcp/50-200 until " +
		"2026-12-01\n\nlayer closing\n"
	p, errs := policy.Parse(text)
	require.Empty(t, errs)
	at := estate.Instant{Sec: 1_795_400_000}
	got := map[prove.Kind]prove.Finding{}
	for _, f := range prove.Findings(decide.Compile(e, p, at)) {
		if f.Fix != nil || f.Group == "nobody-shares" {
			got[prove.Kind(f.Group)+f.Kind] = f
		}
	}
	after := func(k prove.Kind) string {
		require.NotNil(t, got[k].Fix, k)
		require.True(t, got[k].Fix.Changes)
		mended, bad := policy.ApplyAll(p.Format(), got[k].Fix.Edits)
		require.Nil(t, bad)
		return mended
	}
	require.Contains(t, after("stores"+prove.PinsNames),
		"group stores = app is fares and env is live and tier is store \"for fares\"\n", "no group reads the site")
	require.Nil(t, got["nobody-shares"+prove.PinsNames].Fix, "what they share says too much")
	require.Contains(t, after(prove.SoonExpired), "permit any -> stores on tcp/50-200 until 2027-03-01\n")
	require.Less(t, strings.Index(after(prove.Contradicts), "permit any"),
		strings.Index(after(prove.Contradicts), "reject any"))
	require.Contains(t, after(prove.NoClosing), "layer closing\nreject any -> any on any\n")
}
