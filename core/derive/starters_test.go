package derive_test

import (
	"fmt"
	"net/netip"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/derive"
	"lucidorchard/core/estate"
	"lucidorchard/core/policy"
)

func TestStarters(t *testing.T) {
	var all []estate.Workload
	n := byte(0)
	add := func(tags ...string) {
		n++
		w := estate.Workload{ID: string(rune('a' + n)),
			Leases: []estate.Lease{{Addr: netip.AddrFrom4([4]byte{10, 0, 0, n}),
				From: estate.Beginning, Until: estate.End}}}
		for i := 0; i < len(tags); i += 2 {
			w.Tags = append(w.Tags, estate.Tag{Key: tags[i], Value: tags[i+1]})
		}
		estate.SortTags(w.Tags)
		all = append(all, w)
	}
	for range 3 {
		add("app", "Tickets", "tier", "store", "env", "live")
		add("app", "Tickets", "tier", "entry", "env", "live")
	}
	add("app", "Tickets", "tier", "entry", "env", "trial run")
	add("app", "Tickets", "env", "live")
	add("app", "Tickets", "tier", "entry", "env", "live-") // it looks misspelt: no environment of its own
	e, conflicts := estate.New(all)
	require.Empty(t, conflicts)
	empty, _ := policy.Parse("")
	found := derive.Starters(e, empty)
	var ids, texts []string
	for _, s := range found {
		ids, texts = append(ids, s.ID), append(texts, s.Text)
	}
	require.Equal(t, []string{
		"group live = env is live", `group trial-run = env is "trial run"`,
		"group tickets-entry-live = app is Tickets and tier is entry and env is live",
		`group tickets-entry-trial-run = app is Tickets and tier is entry and env is "trial run"`,
		"group tickets-store-live = app is Tickets and tier is store and env is live",
		`reject any -> outside on tcp/23 "No telnet leaves the estate"`,
		`apart live, trial-run "Environments are kept apart"`,
		`assert never trial-run -> live on any "Nothing of trial-run reaches live"`,
		"group inside = not outside",
		`assert never outside -> inside on tcp/22, tcp/3389, tcp/5985 "No outside address reaches an administration service"`,
	}, texts)
	require.Equal(t, 7, found[0].Members)

	text, bad := derive.Begin("", found, ids)
	require.Nil(t, bad)
	p, errs := policy.Parse(text)
	require.Empty(t, errs, text)
	require.Len(t, p.Rules, 2)
	require.Empty(t, derive.Starters(e, p), "nothing is offered twice")

	// One that needs groups brings them; a group that is there under another name is
	// named as it is.
	text, bad = derive.Begin("", found, []string{ids[6]})
	require.Nil(t, bad)
	require.Contains(t, text, "group live = env is live")
	p, errs = policy.Parse("group production = env is live\nlayer mine\n")
	require.Empty(t, errs)
	found = derive.Starters(e, p)
	i := -1
	for k, s := range found {
		if strings.HasPrefix(s.Text, "apart ") {
			i = k
		}
	}
	require.Equal(t, `apart production, trial-run "Environments are kept apart"`, found[i].Text)
	require.Equal(t, []string{"group trial-run"}, found[i].Needs)
	text, bad = derive.Begin("group production = env is live\nlayer mine\n", found, []string{found[i].ID})
	require.Nil(t, bad)
	_, errs = policy.Parse(text)
	require.Empty(t, errs, text)
}

// A group that most of its kind may miss is doubted: they lack a tag.
func TestStartersDoubtGroupsThatMissMostOfTheirKind(t *testing.T) {
	var all []estate.Workload
	add := func(n int, tags ...string) {
		for range n {
			w := estate.Workload{ID: fmt.Sprint(len(all))}
			for i := 0; i < len(tags); i += 2 {
				w.Tags = append(w.Tags, estate.Tag{Key: tags[i], Value: tags[i+1]})
			}
			estate.SortTags(w.Tags)
			all = append(all, w)
		}
	}
	add(2, "app", "fares", "tier", "store", "env", "live")
	add(9, "app", "fares", "env", "live")
	add(3, "app", "crew", "tier", "store", "env", "live")
	add(1, "app", "crew", "env", "live", "tier", "entry")
	e, _ := estate.New(all)
	empty, _ := policy.Parse("")
	doubts := func() map[string]string {
		out := map[string]string{}
		for _, s := range derive.Starters(e, empty) {
			out[s.ID] = s.Doubt
		}
		return out
	}
	require.Empty(t, doubts()["group fares-store-live"], "2 of 11 are more than a sixth")
	require.Empty(t, doubts()["group crew-store-live"])
	require.Empty(t, doubts()["group live"])
	add(1, "app", "fares", "env", "live")
	e, _ = estate.New(all)
	require.Equal(t, "10 more may belong to it, but lack a tag such as tier", doubts()["group fares-store-live"])
	add(80, "app", "fares")
	e, _ = estate.New(all)
	require.Contains(t, doubts()["group live"], "80 more may belong to it, but lack a tag such as env")
}
