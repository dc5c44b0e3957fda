package sql_test

import (
	"encoding/json"
	"errors"
	"io"
	"net/netip"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/drafting"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/transfer"
)

func load(t *testing.T, s *assembly.Store) *estate.Estate {
	ws, err := s.Workloads(t.Context())
	require.NoError(t, err)
	e, conflicts := estate.New(ws)
	require.Empty(t, conflicts)
	return e
}

func holder(e *estate.Estate, addr string, at time.Time) string {
	if ep := e.At(netip.MustParseAddr(addr), estate.InstantOf(at)); ep.Workload != estate.Outside {
		return e.Workload(ep.Workload).ID
	}
	return ""
}

func TestAnAddressGoesFromOneToAnother(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	take := func(day time.Time, ws ...estate.Workload) inventory.Taken {
		out, err := s.Take(ctx, inventory.Listing{Source: "inventory", Workloads: ws, At: day})
		require.NoError(t, err)
		return out
	}
	require.Equal(t, 2, take(day, assemblytest.Leased("a", "10.0.0.1"), assemblytest.Leased("b", "10.0.0.2")).Changed)
	require.Equal(t, 2, take(day.AddDate(0, 0, 1), assemblytest.Leased("c", "10.0.0.1")).Changed,
		"c, and a that gave it up")
	require.Zero(t, take(day.AddDate(0, 0, 2), assemblytest.Leased("c", "10.0.0.1")).Changed)
	e := load(t, s)
	require.Equal(t, "a", holder(e, "10.0.0.1", day))
	require.Equal(t, "c", holder(e, "10.0.0.1", day.AddDate(0, 0, 1)))

	// Both move in one list.
	take(day.AddDate(0, 0, 3), assemblytest.Leased("b", "10.0.0.1"), assemblytest.Leased("c", "10.0.0.2"))
	e = load(t, s)
	require.Equal(t, [2]string{"b", "c"}, [2]string{holder(e, "10.0.0.1", day.AddDate(0, 0, 4)),
		holder(e, "10.0.0.2", day.AddDate(0, 0, 4))})
	require.Equal(t, [2]string{"c", "b"}, [2]string{holder(e, "10.0.0.1", day.AddDate(0, 0, 2)),
		holder(e, "10.0.0.2", day.AddDate(0, 0, 2))})
}

func TestACompleteListRetiresWhatIsMissing(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	take := func(source string, day time.Time, complete bool, ws ...estate.Workload) inventory.Taken {
		l := inventory.Listing{Source: source, Workloads: ws, At: day, Complete: complete}
		out, err := s.Take(ctx, l)
		var lacks *inventory.LacksError
		if errors.As(err, &lacks) {
			l.Confirm = lacks.Missing
			out, err = s.Take(ctx, l)
		}
		require.NoError(t, err)
		return out
	}
	take("plan", day, true, assemblytest.Leased("a", "10.0.0.1", "env", "live"),
		assemblytest.Leased("b", "10.0.0.2", "env", "live"),
		assemblytest.Leased("c", "10.0.0.3"))
	take("directory", day, true, assemblytest.Leased("b", "10.0.0.2", "owner", "crew"))
	out := take("plan", day.AddDate(0, 0, 1), true, assemblytest.Leased("c", "10.0.0.3"))
	require.Equal(t, []string{"a"}, out.Retired, "b is still in the directory")
	e := load(t, s)
	i, _ := e.ByID("a")
	require.Equal(t, day.AddDate(0, 0, 1), e.Workload(i).Retired.UTC())
	require.Equal(t, "live", e.Workload(i).Tags[0].Value, "what was seen of it keeps its name")
	require.Equal(t, [2]string{"a", ""}, [2]string{holder(e, "10.0.0.1", day),
		holder(e, "10.0.0.1", day.AddDate(0, 0, 1))})
	i, _ = e.ByID("b")
	require.Equal(t, []string{"owner"}, []string{e.Workload(i).Tags[0].Key})
	require.Zero(t, take("plan", day.AddDate(0, 0, 2), true, assemblytest.Leased("c", "10.0.0.3")).Changed)

	// It comes back.
	take("plan", day.AddDate(0, 0, 3), false, assemblytest.Leased("a", "10.0.0.1", "env", "trial"))
	e = load(t, s)
	i, _ = e.ByID("a")
	require.True(t, e.Workload(i).Retired.IsZero())
	require.Equal(t, [2]string{"", "a"}, [2]string{holder(e, "10.0.0.1", day.AddDate(0, 0, 2)),
		holder(e, "10.0.0.1", day.AddDate(0, 0, 4))})
	history, err := s.TagHistory(ctx, "a")
	require.NoError(t, err)
	require.Len(t, history, 1)
	require.Equal(t, "live", history[0].Value)
}

// An export restores elsewhere exactly: exporting again gives the same lines.
// from opens an export; sound takes it as it is.
func from(text string) func() (io.ReadCloser, error) {
	return func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader(text)), nil }
}

func sound(*model.State, map[string]json.RawMessage) error { return nil }

func TestARestoreThatIsRefusedLeavesNothing(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	require.NoError(t, s.ImportWorkloads(t.Context(), "plan", nil,
		[]estate.Workload{assemblytest.Leased("a", "10.0.0.1", "env", "live")}))
	var out strings.Builder
	require.NoError(t, s.Export(t.Context(), &out))
	other, _ := assemblytest.Fresh(t)
	_, err := other.Restore(t.Context(), from(out.String()), func(int) {},
		func(st *model.State, _ map[string]json.RawMessage) error {
			require.Len(t, st.Workloads, 1)
			return errors.New("two of them claim one address")
		})
	require.ErrorContains(t, err, "two of them claim one address")
	empty, err := other.Empty(t.Context())
	require.NoError(t, err)
	require.True(t, empty)
}

// What an earlier program remembered of the headings of flows is kept.
func TestRestoringAnEarlierExport(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	_, err := s.Restore(t.Context(), from(`{"format":"lucid-orchard-estate","version":1}
{"line":"setting","name":"flow headings","value":{"Von":"src"}}
`), func(int) {}, sound)
	require.NoError(t, err)
	var form struct{ Columns map[string]string }
	require.NoError(t, s.Setting(t.Context(), "flow form", &form))
	require.Equal(t, map[string]string{"Von": "src"}, form.Columns)
}

func TestExportRestoresExactly(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	day := time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)
	_, err := s.Take(ctx, inventory.Listing{Source: "plan", Complete: true,
		Workloads: []estate.Workload{assemblytest.Leased("a", "10.0.0.1", "env", "live", "odd",
			"line\nbreak \"and\" quote"),
			assemblytest.Leased("b", "fd00::1")}, At: day, Mapping: map[string]string{"Host": "id"}})
	require.NoError(t, err)
	_, err = s.Take(ctx, inventory.Listing{Source: "plan", Complete: true, Confirm: 1,
		Workloads: []estate.Workload{assemblytest.Leased("b", "10.0.0.1", "env", "trial")}, At: day.AddDate(0, 0, 1)})
	require.NoError(t, err)
	v := "bench"
	require.NoError(t, s.SetTags(ctx, []inventory.TagEdit{{Workload: "b", Key: "env", Value: &v}}, "me", "Set env"))
	require.NoError(t, s.AddRevision(ctx, model.Revision{No: 1, Text: "group g = any\n", Blame: model.Blame{1},
		Author: "me", Words: "Begin"}))
	require.NoError(t, s.Apply(ctx, drafting.Edit{Words: "refuse", Author: "me",
		Refusals: []drafting.RefusalEdit{{Rule: "permit any -> any on any",
			Refusal: &drafting.Refusal{Reason: "no", Author: "me"}}}}))
	require.NoError(t, s.RefuseTags(ctx,
		[]inventory.RefusedTag{{Workload: "b", Key: "tier", Value: "store", Author: "me"}}, false))
	require.NoError(t, s.SaveSelection(ctx, inventory.Selection{List: "workloads", Name: "mine",
		Filter: "tag=env%3Dlive",
		Author: "me"}))
	require.NoError(t, s.Set(ctx, "structural", []string{"app"}))
	probe := func(question, want, reason, author string) drafting.ProbeEdit {
		return drafting.ProbeEdit{Question: question, Probe: &model.Probe{Want: want, Reason: reason, Author: author}}
	}
	require.NoError(t, s.Apply(ctx, drafting.Edit{Words: "keep", Author: "me",
		Probes: []drafting.ProbeEdit{probe("a -> b tcp/443", "reject", "why", "me"),
			probe("b -> a tcp/443", "permit", "", "me")}}))
	require.NoError(t, s.Apply(ctx, drafting.Edit{Words: "keep again", Author: "me",
		Probes: []drafting.ProbeEdit{probe("a -> b tcp/443", "uncovered", "changed", "you")}}))
	require.NoError(t, s.Apply(ctx, drafting.Edit{Words: "drop", Author: "me",
		Probes: []drafting.ProbeEdit{{Question: "b -> a tcp/443"}, {Question: "never there"}}}))
	var one, two strings.Builder
	require.NoError(t, s.Export(ctx, &one))

	other, _ := assemblytest.Fresh(t)
	lines, err := other.Restore(ctx, from(one.String()), func(int) {}, sound)
	require.NoError(t, err)
	require.Equal(t, strings.Count(one.String(), "\n"), lines)
	require.NoError(t, other.Export(ctx, &two))
	body := func(s string) string { _, rest, _ := strings.Cut(s, "\n"); return rest }
	require.Equal(t, body(one.String()), body(two.String()))
	require.Equal(t, assemblytest.TagValues(t, s), assemblytest.TagValues(t, other))
	probes, err := other.Probes(ctx)
	require.NoError(t, err)
	require.Len(t, probes, 1)
	require.Equal(t, []string{"a -> b tcp/443", "uncovered", "changed", "you"},
		[]string{probes[0].Question, probes[0].Want, probes[0].Reason, probes[0].Author})
	for _, words := range []string{"drop", "keep again", "keep", "refuse", "Begin"} {
		undone, err := other.Undo(ctx, "me")
		require.NoError(t, err, "what could be undone can be undone there")
		require.Equal(t, words, undone.Words)
		all, err := other.Probes(ctx)
		require.NoError(t, err)
		require.Len(t, all, map[string]int{"drop": 2, "keep again": 2}[words])
		if words == "keep again" {
			require.Equal(t, []string{"reject", "why", "me"}, []string{all[0].Want, all[0].Reason, all[0].Author})
		}
		refused, err := other.Refusals(ctx)
		require.NoError(t, err)
		require.Equal(t, words != "refuse" && words != "Begin", len(refused) == 1)
	}
	for range 3 {
		_, err := other.Redo(ctx, "me")
		require.NoError(t, err)
	}
	refused, err := other.Refusals(ctx)
	require.NoError(t, err)
	require.Len(t, refused, 1, "done again")
	require.NoError(t, other.AddRevision(ctx, model.Revision{No: 4, Text: "", Blame: model.Blame{}, Author: "me",
		Words: "Go on"}))

	_, err = other.Restore(ctx, from(one.String()), func(int) {}, sound)
	require.ErrorIs(t, err, transfer.ErrNotEmpty)
	third, _ := assemblytest.Fresh(t)
	for _, c := range []struct{ text, want string }{
		{"", "line 1: found an empty file"},
		{`{"format":"other"}`, "line 1: found no header"},
		{`{"format":"lucid-orchard-estate","version":2}`, "version 2"},
		{`{"format":"lucid-orchard-estate","version":1}` + "\n{", "line 2"},
		{`{"format":"lucid-orchard-estate","version":1}` + "\n" + `{"line":"colour"}`, `kind "colour"`},
		{strings.Split(one.String(), "\n")[0] + "\n" +
			`{"line":"lease","workload":"nobody","addr":"10.0.0.1","source":""}`, `kind "lease"`},
		{strings.Split(one.String(), "\n")[0] + "\n" +
			`{"line":"tag","workload":"nobody","key":"env","source":"plan","value":"x","author":"me","at":"2026-11-20T00:00:00Z"}`, "not in the file: nobody"},
		{strings.Replace(one.String(), `"no":1,`, `"no":7,`, 1), "gaps in the revisions"},
	} {
		require.NotEqual(t, one.String(), c.text)
		_, err := third.Restore(ctx, from(c.text), func(int) {}, sound)
		require.ErrorContains(t, err, c.want)
		empty, err := third.Empty(ctx)
		require.NoError(t, err)
		require.True(t, empty)
	}
}

func TestSourcesTokensAndDisagreements(t *testing.T) {
	s, _ := assemblytest.Fresh(t)
	ctx := t.Context()
	for _, source := range []string{"plan", "directory"} {
		_, err := s.Take(ctx, inventory.Listing{Source: source,
			Workloads: []estate.Workload{assemblytest.Leased("a", "10.0.0.1", "env", "live-"+source, "tier", "Store"),
				assemblytest.Leased("b", "10.0.0.2", "env", "live")}})
		require.NoError(t, err)
	}
	value := func() string {
		ws, err := s.Workloads(ctx)
		require.NoError(t, err)
		tag, _ := ws[0].Tag("env")
		return tag.Value
	}
	require.NoError(t, s.RankSources(ctx, []string{"plan", "directory"}))
	require.Equal(t, "live-plan", value())
	require.NoError(t, s.RankSources(ctx, []string{"directory", "plan"}))
	require.Equal(t, "live-directory", value())
	said, tags, err := s.Disagreements(ctx, 0, 10)
	require.NoError(t, err)
	require.Equal(t, 1, tags)
	require.Equal(t, []string{"live-directory", "live-plan"}, []string{said[0].Value, said[1].Value})
	v := "live"
	require.NoError(t, s.SetTags(ctx, []inventory.TagEdit{{Workload: "a", Key: "env", Value: &v}}, "me", "Settle"))
	_, tags, err = s.Disagreements(ctx, 0, 10)
	require.NoError(t, err)
	require.Zero(t, tags)
	sources, err := s.Sources(ctx)
	require.NoError(t, err)
	require.Equal(t, []int{2, 3}, []int{sources[0].Listed, sources[0].Tags})

	token, err := s.AddToken(ctx, inventory.Token{Name: "nightly", Source: "plan", Author: "me"}, "secret")
	require.NoError(t, err)
	used, err := s.UseToken(ctx, "secret")
	require.NoError(t, err)
	require.Equal(t, token.ID, used.ID)
	require.NotNil(t, used.Used)
	none, err := s.UseToken(ctx, "guess")
	require.NoError(t, err)
	require.Nil(t, none)
	found, err := s.RevokeToken(ctx, token.ID)
	require.NoError(t, err)
	require.True(t, found)
	none, err = s.UseToken(ctx, "secret")
	require.NoError(t, err)
	require.Nil(t, none)
}
