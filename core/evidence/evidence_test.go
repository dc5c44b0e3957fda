package evidence_test

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"lucidorchard/core/estate"
	"lucidorchard/core/evidence"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
)

func day(n int) time.Time { return time.Date(2026, 11, 1+n, 0, 0, 0, 0, time.UTC) }

const ferries = `group logic = app is fares and tier is logic
group stores = app is fares and tier is store
layer allowances
permit logic -> stores on tcp/5432
layer closing
reject any -> stores on any
`

const promise = "assert only logic -> stores on tcp/5432"

// machine is a workload with its tags since long ago.
func machine(id, addr string, tags ...estate.TagSpan) estate.Past {
	return estate.Past{ID: id, Added: estate.Beginning, Were: []estate.Was{{Name: id, Until: estate.End}}, Said: tags,
		Leases: []estate.Lease{{Addr: netip.MustParseAddr(addr), From: estate.Beginning, Until: estate.End}}}
}

func tag(key, value string, from, until time.Time) estate.TagSpan {
	s := estate.TagSpan{Tag: estate.Tag{Key: key, Value: value, Source: "inventory", By: "the crew", At: from},
		Until: estate.End}
	if !until.IsZero() {
		s.Until = estate.InstantOf(until)
	}
	return s
}

// seen is a connection in an hour.
func seen(at time.Time, client, server string, outcome flow.Outcome) flow.Bucket {
	return flow.Bucket{Hour: flow.Hour(at.Unix() / 3600), Client: netip.MustParseAddr(client),
		Server: netip.MustParseAddr(server),
		Point:  service.PointOf(service.TCP, 5432), Outcome: outcome, Connections: 1, First: estate.InstantOf(at),
		Last: estate.InstantOf(at.Add(time.Second))}
}

// fares is ten days of the fares store: in force since the second day, enforced since the
// third, by a point that was silent on the eighth.
func fares() *evidence.Case {
	long := day(-100)
	return &evidence.Case{Promise: promise, From: day(0), To: day(10), Made: day(10), By: "harbour office",
		History: &estate.History{Ranks: map[string][]estate.Rank{"inventory": {{Rank: 1, Until: estate.End}}},
			Past: []estate.Past{
				machine("logic-01", "10.0.0.1", tag("app", "fares", long, time.Time{}),
					tag("tier", "logic", long, time.Time{})),
				machine("store-01", "10.0.0.2", tag("app", "fares", long, time.Time{}),
					tag("tier", "store", long, time.Time{})),
				machine("other-01", "10.0.0.3", tag("app", "fares", long, time.Time{}),
					tag("tier", "entry", long, day(5).Add(6*time.Hour)),
					tag("tier", "logic", day(5).Add(6*time.Hour), day(5).Add(9*time.Hour)),
					tag("tier", "entry", day(5).Add(9*time.Hour), time.Time{})),
			}},
		Drafts: []evidence.PolicyState{{No: 1, Text: ferries + promise + "\n", Author: "a", At: day(-3),
			Words: "begin"},
			{No: 2, Text: strings.Replace(ferries, "permit logic",
				"permit any -> stores on tcp/5432 \"all of it\"\npermit logic", 1) + promise + "\n", Author: "b",
				At: day(3), Words: "let all in"}},
		Releases: []evidence.Release{{No: 1, Revision: 1, Title: "First", Author: "a", At: day(1), Text: ferries +
			promise + "\n"},
			{No: 2, Revision: 2, Title: "Wide", Author: "b", At: day(4),
				Text: strings.Replace(ferries, "permit logic",
					"permit any -> stores on tcp/5432 \"all of it\"\npermit logic", 1) + promise + "\n"}},
		Points: []evidence.Point{{Name: "gate", Kind: "gate", Side: "both", Guards: "app is fares", Made: day(-5),
			Held: []evidence.Holding{{At: day(1), Release: 1, Mode: "observe"},
				{At: day(2), Release: 1, Mode: "enforce"},
				{At: day(4), Release: 2, Mode: "enforce"}, {At: day(4).Add(6 * time.Hour), Release: 1,
					Mode: "enforce"}},
			Silent: []evidence.Span{{From: day(7).Add(time.Hour), Until: day(7).Add(2 * time.Hour)}}}},
		Traffic: flow.Pack([]flow.Bucket{
			seen(day(0).Add(time.Hour), "10.0.0.3", "10.0.0.2", flow.Carried),       // before anything was in force
			seen(day(2).Add(5*time.Hour), "10.0.0.1", "10.0.0.2", flow.Carried),     // as permitted
			seen(day(3).Add(5*time.Hour), "10.0.0.3", "10.0.0.2", flow.Dropped),     // held
			seen(day(6).Add(5*time.Hour), "198.51.100.7", "10.0.0.2", flow.Carried), // a leak
			seen(day(6).Add(5*time.Hour), "10.0.0.1", "10.0.0.3", flow.Carried),     // of nobody who is protected
		}),
		Seen: func(h flow.Hour) bool { return h != flow.Hour(day(8).Add(4*time.Hour).Unix()/3600) },
	}
}

func TestTenDaysOfAStore(t *testing.T) {
	lines := map[string][]string{}
	e, err := evidence.Make(t.Context(), fares(), func(float64) {}, func(input,
		text string) {
		lines[input] = append(lines[input], text)
	})
	require.NoError(t, err)
	require.Equal(t, "Only logic may reach stores on tcp/5432", e.Promise.Words)
	var states []evidence.State
	for _, d := range e.Days {
		states = append(states, d.State)
	}
	require.Equal(t, []evidence.State{"none", "partly", "held", "held", "broken", "held", "leaked", "partly",
		"unknown", "held"}, states)
	require.Equal(t, evidence.DayCounts{Days: 10, Held: 4, Broken: 1, Leaked: 1, None: 1, Partly: 2, Unknown: 1},
		e.Counts)
	require.Equal(t, "It was kept on 4 of 10 days; on 1 what was in force broke it, on 1 something leaked, on 1 it was not in force all day, "+
		"on 2 it was not enforced everywhere all day, on 1 of some hours nothing is known. 2 connections were carried that it speaks against.", e.Sentence)

	require.Len(t, e.Breaks, 1)
	b := e.Breaks[0]
	require.Equal(t, []any{day(4), day(4).Add(6 * time.Hour), "broken", 2, `permit any -> stores on tcp/5432`},
		[]any{b.From, *b.Until, b.Outcome, b.Release, b.Rule})
	require.Equal(t, []string{"gate: release 2, enforce"}, b.Cause)
	require.Equal(t, []string{"gate: release 1, enforce"}, b.Ended)

	// Who may: for three hours a machine had the tag of another tier.
	require.Len(t, e.MayFirst, 1)
	require.Equal(t, []string{"logic-01"}, e.MayFirst[0].Clients)
	require.Equal(t, []string{"logic-01"}, e.MayLast[0].Clients)
	changes := map[string]string{}
	for _, c := range e.MayChanges {
		if c.At.Day() == day(5).Day() {
			changes[strings.Join(c.Added, ",")+"/"+strings.Join(c.Removed, ",")] = strings.Join(c.Cause, "; ")
		}
	}
	require.Equal(t, map[string]string{"other-01/": "tier of other-01 is logic, by the crew",
		"/other-01": "tier of other-01 is entry, by the crew"}, changes)

	// Who did.
	require.Equal(t, evidence.Sums{Permitted: 1, Held: 1, Leaks: 2}, e.Total)
	require.EqualValues(t, 2, e.Against)
	require.Len(t, e.Callers, 4)
	require.EqualValues(t, 1, e.Days[6].Sums.Leaks)
	require.Equal(t, []string{"198.51.100.7", "other-01"}, []string{e.Callers[0].Name, e.Callers[1].Name})
	require.True(t, e.Callers[0].Against && e.Callers[1].Against)
	require.Equal(t, []int{1, 0}, []int{e.Callers[0].Release, e.Callers[1].Release},
		"the second was before anything was in force: the draft says so")

	require.Equal(t, []string{"store-01"}, e.MembersLast)
	require.Len(t, e.Points, 1)
	require.Len(t, e.Points[0].Held, 7)
	require.Equal(t, "silent", e.Points[0].Held[5].Mode)
	require.Equal(t, []int{1, 2}, []int{e.Versions[0].Release, e.Versions[1].Release})

	// The inputs are what was handed out, line by line.
	for _, in := range e.Inputs {
		sum := sha256.Sum256([]byte(strings.Join(lines[in.Name], "\n") + "\n"))
		require.Equal(t, hex.EncodeToString(sum[:]), in.SHA256, in.Name)
		require.Len(t, lines[in.Name], in.Lines)
	}
	require.Len(t, lines["traffic"], 4)
}

// What happens after the period, or is learnt of it later, changes nothing.
func TestLaterChangesDoNotMatter(t *testing.T) {
	before, err := evidence.Make(t.Context(), fares(), func(float64) {}, nil)
	require.NoError(t, err)
	c := fares()
	late := day(12)
	c.History.Past[1].Said[1].Until = estate.InstantOf(late)
	c.History.Past = append(c.History.Past, machine("new-01", "10.0.0.9", tag("app", "fares", late, time.Time{})))
	c.History.Past[3].Added = estate.InstantOf(late)
	c.Points[0].Held = append(c.Points[0].Held, evidence.Holding{At: late, Mode: "off"})
	c.Points[0].Dropped = day(13)
	after, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	require.Equal(t, before, after)
}

// A group, instead of an assertion: who reaches it.
func TestEvidenceOfAGroup(t *testing.T) {
	c := fares()
	c.Promise = "group stores"
	e, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	require.Equal(t, "Who reaches stores", e.Promise.Words)
	require.Equal(t, 5, e.Counts.Held, "the release that let all in broke no promise")
	require.Empty(t, e.Breaks)
	require.Zero(t, e.Against)
	require.Len(t, e.MayFirst, 1)

	named := fares()
	named.Promise = "group the stores"
	for i := range named.Drafts {
		named.Drafts[i].Text = strings.Replace(named.Drafts[i].Text, "group stores",
			"group \"the stores\" = app is fares and tier is store\ngroup stores", 1)
	}
	_, err = evidence.Make(t.Context(), named, func(float64) {}, nil)
	require.NoError(t, err, "a name that needs quotes")

	c.Promise = "group nobody"
	_, err = evidence.Make(t.Context(), c, func(float64) {}, nil)
	var unreadable *evidence.UnreadableError
	require.ErrorAs(t, err, &unreadable)
}

// Many changes are looked at together, and that is said.
func TestManyChangesAreLookedAtTogether(t *testing.T) {
	c := fares()
	p := &c.History.Past[2]
	p.Said = p.Said[:1]
	for i := range 3000 {
		at := day(2).Add(time.Duration(i) * time.Minute)
		p.Said = append(p.Said, tag("owner", "team "+string(rune('a'+i%20)), at, at.Add(time.Minute)))
	}
	e, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	require.Contains(t, strings.Join(e.Notes, " "), "those of the same 5 minutes are looked at together")
	require.Equal(t, 1, e.Counts.Broken)
}

func TestTwoPeriodsAreCompared(t *testing.T) {
	c := fares()
	c.To = day(4)
	before, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	c = fares()
	c.From = day(4)
	after, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	x := evidence.Compare(before, after)
	require.True(t, x.Same)
	require.Empty(t, x.May, "the same may reach it at the end of both")
	require.Equal(t, []string{"permit logic -> stores on tcp/5432"}, x.Rules)
	var did []string
	for _, m := range x.Did {
		did = append(did, m.In+": "+m.What)
	}
	require.Equal(t, []string{"after: 198.51.100.7 → stores on tcp/5432 postgres, reject",
		"before: other-01 → stores on tcp/5432 postgres, reject",
		"before: logic-01 → stores on tcp/5432 postgres, permit"}, did)
	require.Equal(t, 1, x.After.Breaks)
	c = fares()
	c.To = day(4).Add(3 * time.Hour) // while all were let in
	wide, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	require.Equal(t, []evidence.Move{{What: "permit logic -> stores on tcp/5432", In: "before", Much: 1,
		Names: []string{"logic-01"}},
		{What: "permit any -> stores on tcp/5432", In: "after", Much: 3,
			Names: []string{"logic-01", "other-01", "the rest of outside"}}}, evidence.Compare(before, wide).May)
	same := evidence.Compare(before, before)
	require.Empty(t, same.Did)
}

// What is signed can be laid out anew, and not changed: whatever is.
func TestTamperedEvidenceIsFound(t *testing.T) {
	e, err := evidence.Make(t.Context(), fares(), func(float64) {}, nil)
	require.NoError(t, err)
	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	text, err := evidence.Sign(e, key)
	require.NoError(t, err)
	back, by, err := evidence.Verify(text)
	require.NoError(t, err)
	require.Equal(t, public, by)
	require.Equal(t, e.Sentence, back.Sentence)

	var loose map[string]any
	require.NoError(t, json.Unmarshal(text, &loose))
	again, err := json.MarshalIndent(loose, "\t", "   ")
	require.NoError(t, err)
	_, _, err = evidence.Verify(again)
	require.NoError(t, err, "members in another order, other blanks")

	rapid.Check(t, func(t *rapid.T) {
		var all map[string]any
		_ = json.Unmarshal(text, &all)
		path := tamper(t, all["evidence"], "evidence")
		changed, err := json.Marshal(all)
		require.NoError(t, err)
		_, _, err = evidence.Verify(changed)
		require.Error(t, err, path)
	})
	for name, bad := range map[string]string{"nothing": "", "no JSON": "evidence", "no members": "{}", "a text": `"x"`,
		"another way of signing": strings.Replace(string(text), `"Ed25519"`, `"none"`, 1),
		"a short key":            strings.Replace(string(text), `"key": "`, `"key": "AA==`, 1)} {
		_, _, err := evidence.Verify([]byte(bad))
		require.Error(t, err, name)
	}
	body := strings.TrimSpace(string(text))
	opened := strings.TrimSuffix(body, "}")
	for name, bad := range map[string]string{
		"a member beside it":        opened + `, "remark": "all was well"}`,
		"evidence a second time":    opened + `, "evidence": {"sentence": "all was well"}}`,
		"in other letters":          opened + `, "Evidence": {"sentence": "all was well"}}`,
		"a second text":             body + body,
		"a member of the signature": strings.Replace(body, `"algorithm"`, `"by": "an auditor", "algorithm"`, 1),
		"evidence with a member more": strings.Replace(body, `"evidence": {`,
			`"evidence": {"remark": "all was well",`, 1),
		"evidence with a member twice": strings.Replace(body, `"sentence":`,
			`"sentence": "all was well", "sentence":`, 1),
		"in other letters, a part of it": strings.Replace(body, `"sentence":`,
			`"Sentence": "all was well", "sentence":`, 1),
	} {
		require.NotEqual(t, body, bad, name)
		_, _, err := evidence.Verify([]byte(bad))
		require.Error(t, err, name)
	}
	_, other, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	require.NotEqual(t, evidence.Fingerprint(public), evidence.Fingerprint(other.Public().(ed25519.PublicKey)))
}

// tamper changes something in a value, and says where.
func tamper(t *rapid.T, v any, path string) string {
	m, ok := v.(map[string]any)
	if !ok {
		panic(path)
	}
	k := rapid.SampledFrom(slices.Sorted(maps.Keys(m))).Draw(t, "member")
	path += "." + k
	switch x := m[k].(type) {
	case map[string]any:
		return tamper(t, x, path)
	case []any:
		if len(x) == 0 {
			m[k] = []any{"more"}
			return path
		}
		i := rapid.IntRange(0, len(x)-1).Draw(t, "item")
		if inner, ok := x[i].(map[string]any); ok {
			return tamper(t, inner, path)
		}
		m[k] = x[:i]
	case string:
		m[k] = x + "."
	case float64:
		m[k] = x + 1
	case bool:
		m[k] = !x
	default:
		delete(m, k)
	}
	return path
}

// What changed is said as it is on record: also that a machine was called otherwise, or
// that another source counts first.
func TestCausesAreWhatIsOnRecord(t *testing.T) {
	c := fares()
	at := day(5).Add(3 * time.Hour)
	other := &c.History.Past[2]
	other.Said = other.Said[:1]
	other.Were = []estate.Was{{Name: "store-02", Until: estate.InstantOf(at)}, {Name: "other-01", Until: estate.End}}
	for i := range c.Drafts {
		c.Drafts[i].Text = strings.Replace(c.Drafts[i].Text, "tier is store", "(tier is store or name is store-02)", 1)
	}
	for i := range c.Releases {
		c.Releases[i].Text = strings.Replace(c.Releases[i].Text, "tier is store",
			"(tier is store or name is store-02)", 1)
	}
	e, err := evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	require.Equal(t, []evidence.MemberChange{{At: at, Name: "store-02",
		Cause: []string{"other-01, until then store-02"}}}, e.MemberChanges)

	c = fares()
	c.History.Past[2].Said = []estate.TagSpan{tag("app", "fares", day(-100), time.Time{}),
		tag("tier", "entry", day(-100), time.Time{}), tag("tier", "store", day(-100), time.Time{})}
	c.History.Past[2].Said[2].Source = "rival"
	c.History.Ranks = map[string][]estate.Rank{"inventory": {{Rank: 1, Until: estate.InstantOf(at)},
		{Rank: 3, Until: estate.End}}, "rival": {{Rank: 2, Until: estate.End}}}
	e, err = evidence.Make(t.Context(), c, func(float64) {}, nil)
	require.NoError(t, err)
	require.Equal(t, []evidence.MemberChange{{At: at, Name: "other-01", Joined: true,
		Cause: []string{"the source inventory was ranked 3, until then 1"}}}, e.MemberChanges)
}
