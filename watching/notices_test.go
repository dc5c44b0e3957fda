package watching_test

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/assembly"
	"lucidorchard/assembly/assemblytest"
	"lucidorchard/core/estate"
	"lucidorchard/core/flow"
	"lucidorchard/core/service"
	"lucidorchard/drafting"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/notify"
	"lucidorchard/traffic/rows"
	"lucidorchard/watching"
)

// hook is a webhook that may be down.
type hook struct {
	*httptest.Server
	down   atomic.Bool
	refuse func(m notify.Message) bool // nil: none
	mu     sync.Mutex
	got    []notify.Message
	when   []time.Time
	ids    map[string]int
}

func newHook(t testing.TB) *hook {
	h := &hook{ids: map[string]int{}}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if h.down.Load() {
			http.Error(w, "out of order", http.StatusServiceUnavailable)
			return
		}
		var event struct {
			ID   string
			Data notify.Message
		}
		require.NoError(t, json.Unmarshal(raw, &event))
		h.mu.Lock()
		defer h.mu.Unlock()
		if h.refuse != nil && h.refuse(event.Data) {
			w.WriteHeader(http.StatusRequestEntityTooLarge)
			return
		}
		h.ids[event.ID]++
		h.got, h.when = append(h.got, event.Data), append(h.when, time.Now())
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hook) all() []notify.Message {
	h.mu.Lock()
	defer h.mu.Unlock()
	return append([]notify.Message(nil), h.got...)
}

// land has machines of two tiers; entries may not reach stores.
func land(t testing.TB, db *assembly.Store) {
	var ws []estate.Workload
	for i := range 60 {
		tier := "entry"
		if i >= 30 {
			tier = "store"
		}
		w := estate.Workload{ID: fmt.Sprint("w", i), Leases: []estate.Lease{{Addr: LandAddr(i), From: estate.Beginning,
			Until: estate.End}}}
		w.SetTag(estate.Tag{Key: "tier", Value: tier})
		w.SetTag(estate.Tag{Key: "app", Value: fmt.Sprint("app", i%30)})
		ws = append(ws, w)
	}
	_, err := db.Take(t.Context(), inventory.Listing{Source: "list", Workloads: ws, Complete: true})
	require.NoError(t, err)
	require.NoError(t, db.Begin(t.Context(),
		model.Revision{No: 1,
			Text: "group store = tier is store\ngroup inside = not outside\nlayer l\npermit inside -> store on tcp/443\n" +
				"reject any -> store on any\nassert never outside -> store on any\n", Blame: model.Blame{},
			Author: "me",
			Words:  "begin"}))
}

func LandAddr(i int) netip.Addr { return netip.AddrFrom4([4]byte{10, 0, 0, byte(i)}) }

// leaks are connections from entries to stores that got through just now.
func leaks(t *testing.T, db *assembly.Store, pairs ...[2]int) {
	now := estate.InstantOf(time.Now())
	var records []flow.Record
	for _, p := range pairs {
		records = append(records, flow.Record{Start: now, End: now, Client: LandAddr(p[0]), Server: LandAddr(p[1]),
			Point:       service.PointOf(service.TCP, 22),
			Connections: 1, Bytes: 100, Packets: 2, Outcome: flow.Carried, Observer: "leaf"})
	}
	_, err := db.AddBatch(t.Context(), rows.BatchOf(rand.Text(), flow.Stating(records), nil))
	require.NoError(t, err)
}

// onDuty has a land, a server of it, and a destination called duty.
func onDuty(t testing.TB) (*assembly.Store, *assembly.App, func(), *hook, *model.Model) {
	db := assemblytest.Open(t)
	land(t, db)
	a, end := assemblytest.Running(t, db, "one")
	h, m := duty(t, a)
	return db, a, end, h, m
}

// duty makes the destination duty, and returns its receiver.
func duty(t testing.TB, a *assembly.App) (*hook, *model.Model) {
	h := newHook(t)
	require.NoError(t, a.Watching.PutDestination(t.Context(), "duty", notify.Settings{Kind: "webhook", Address: h.URL,
		Secret: "key"}))
	m, err := a.Models.Current(t.Context())
	require.NoError(t, err)
	return h, m
}

// What leaks is told, once; while the receiver is down nothing is lost, and what comes of
// many then is one message; a server that ends leaves it to the next.
func TestLeaksAreToldAndNothingIsLost(t *testing.T) {
	db, a, end, h, m := onDuty(t)
	for bad, n := range map[string]watching.Notice{
		"kinds: found":            {Kinds: []string{"leek"}, Pace: "at once", To: []string{"duty"}},
		"no group nobody":         {What: "member of nobody", Pace: "at once", To: []string{"duty"}},
		"what: at character":      {What: "tier is", Pace: "at once", To: []string{"duty"}},
		"found no destination":    {Pace: "at once"},
		"there is no destination": {Pace: "at once", To: []string{"night"}},
	} {
		_, err := a.Watching.PutNotice(t.Context(), m, n)
		require.ErrorContains(t, err, bad)
	}
	_, err := a.Watching.PutNotice(t.Context(), m, watching.Notice{Kinds: []string{"leak"},
		What: "member of store and app is app3", Pace: "at once", To: []string{"duty"}})
	require.NoError(t, err)
	_, err = a.Watching.PutNotice(t.Context(), m, watching.Notice{Kinds: []string{"choke"}, Pace: "at once",
		To: []string{"duty"}})
	require.NoError(t, err)
	require.NoError(t, a.Watching.Trial(t.Context(), "duty"))
	until := func(n int) []notify.Message {
		t.Helper()
		require.Eventually(t, func() bool { return len(h.all()) >= n }, 20*time.Second, 20*time.Millisecond)
		return h.all()
	}
	require.Equal(t, "trial", until(1)[0].Kind)
	leaks(t, db, [2]int{1, 33}, [2]int{2, 34})
	got := until(2)
	require.Equal(t, []any{"leak", "app3-store", 5, int64(1)}, []any{got[1].Kind, got[1].What, got[1].Line,
		got[1].Times})
	require.Equal(t, "app1-entry", got[1].Who)

	// Down: many matters wait, and are one message.
	_, err = a.Watching.PutNotice(t.Context(), m, watching.Notice{Kinds: []string{"leak"}, Pace: "at once",
		To: []string{"duty"}})
	require.NoError(t, err)
	h.down.Store(true)
	var pairs [][2]int
	for i := range 4 { // of each entry, to stores of as many applications as are still told one by one
		for k := range 3 {
			pairs = append(pairs, [2]int{5 + i, 40 + 4*k + i})
		}
	}
	leaks(t, db, pairs...)
	require.Eventually(t, func() bool {
		all, err := db.Destinations(t.Context())
		require.NoError(t, err)
		return all[0].Failing != nil && all[0].Waiting > 5
	}, 20*time.Second, 20*time.Millisecond)
	end() // in the middle of it
	require.Len(t, h.all(), 2)
	h.down.Store(false)
	_, end = assemblytest.Running(t, db, "two")
	require.NoError(t, db.HurryDestination(t.Context(), "duty"))
	got = until(3)
	require.Equal(t, "summary", got[2].Kind)
	require.Greater(t, got[2].Times, int64(5))
	require.NotEmpty(t, got[2].Parts)
	require.Eventually(t, func() bool {
		all, err := db.Destinations(t.Context())
		require.NoError(t, err)
		return all[0].Waiting == 0 && all[0].Failing == nil
	}, 20*time.Second, 20*time.Millisecond)
	require.Len(t, h.all(), 3, "one summary instead of many lines")
	end()
	for id, n := range h.ids {
		require.Equal(t, 1, n, id)
	}
}

// Destinations that hang hold up no other; what one refuses again and again holds up
// nothing else that goes there, and is set aside and said.
func TestNoDestinationWaitsForAnother(t *testing.T) {
	db, a, end, h, _ := onDuty(t)
	defer end()
	hang := make(chan struct{})
	deaf := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		select {
		case <-hang:
		case <-r.Context().Done():
		}
	}))
	t.Cleanup(func() { close(hang); deaf.Close() })
	for i := range 20 {
		name := fmt.Sprint("deaf-", i)
		require.NoError(t, a.Watching.PutDestination(t.Context(), name,
			notify.Settings{Kind: "webhook", Address: deaf.URL, Secret: "key"}))
		require.NoError(t, a.Watching.Trial(t.Context(), name))
	}
	time.Sleep(2 * time.Second) // all of them are being tried
	tried, err := db.Due(t.Context())
	require.NoError(t, err)
	require.Empty(t, tried)
	require.NoError(t, a.Watching.Trial(t.Context(), "duty"))
	require.Eventually(t, func() bool { return len(h.all()) == 1 }, 20*time.Second, 10*time.Millisecond)
	all, err := db.Destinations(t.Context())
	require.NoError(t, err)
	for _, d := range all {
		require.Nil(t, d.Failing, "%s is still being tried", d.Name)
	}

	// A message that is refused.
	fussy := newHook(t)
	fussy.refuse = func(m notify.Message) bool { return m.Title == "too much" }
	require.NoError(t, a.Watching.PutDestination(t.Context(), "fussy",
		notify.Settings{Kind: "webhook", Address: fussy.URL, Secret: "key"}))
	now := time.Now()
	require.NoError(t, db.Tell(t.Context(), []watching.Telling{{Destination: "fussy", Matter: "x",
		Message: notify.Message{ID: "x", Kind: "trial",
			Title: "too much"}, Due: now.Add(-time.Hour)}}))
	require.NoError(t, a.Watching.Trial(t.Context(), "fussy"))
	require.Eventually(t, func() bool { return len(fussy.all()) == 1 }, 20*time.Second, 10*time.Millisecond)
	at := func() watching.Destination {
		all, err := db.Destinations(t.Context())
		require.NoError(t, err)
		i := slices.IndexFunc(all, func(d watching.Destination) bool { return d.Name == "fussy" })
		return all[i]
	}
	require.Eventually(t, func() bool { return at().Waiting == 1 && at().Refusal != "" }, 20*time.Second,
		10*time.Millisecond)
	require.Nil(t, at().Failing, "it takes others")
	require.Equal(t, "it answers 413 Request Entity Too Large", at().Refusal)
	for range 20 {
		require.NoError(t, db.Settle(t.Context(), "fussy", []watching.Tried{{IDs: []string{"x"}, Problem: at().Refusal,
			Refused: true}}))
	}
	require.Equal(t, []int{0, 1}, []int{at().Waiting, at().Refused}, "it is set aside")
	fussy.refuse = nil
	require.NoError(t, db.HurryDestination(t.Context(), "fussy"))
	require.Eventually(t, func() bool { return len(fussy.all()) == 2 }, 20*time.Second, 10*time.Millisecond)

	for i := len(tried); i < 400; i++ { // as many as there may be
		if err = a.Watching.PutDestination(t.Context(), fmt.Sprint("more-", i),
			notify.Settings{Kind: "webhook", Address: deaf.URL, Secret: "key"}); err != nil {
			break
		}
	}
	require.ErrorContains(t, err, "the most there may be")
	require.NoError(t, a.Watching.PutDestination(t.Context(), "fussy",
		notify.Settings{Kind: "webhook", Address: fussy.URL, Secret: "key"}), "it is there already")
	require.ErrorContains(t, a.Watching.PutDestination(t.Context(), "fussy",
		notify.Settings{Kind: "webhook", Address: "http://169.254.169.254/", Secret: "key"}),
		"a link-local address")
	settings := notify.Settings{Kind: "webhook", Address: fussy.URL, Secret: "key", User: "ada", Password: "secret"}
	require.NoError(t, a.Watching.PutDestination(t.Context(), "fussy", settings))
	settings.Password = ""
	require.NoError(t, a.Watching.PutDestination(t.Context(), "fussy", settings), "it stays what it was")
	settings.Address = deaf.URL
	require.ErrorContains(t, a.Watching.PutDestination(t.Context(), "fussy", settings), "enter the password again")
}

// A notice of a filter tells of traffic whatever becomes of it, also of what is permitted: of what
// comes after the notice, once for each who and what, with how much it is; a pause tells nothing of
// what came in it; what cannot be read says what and where.
func TestTrafficOfAFilterIsTold(t *testing.T) {
	db, a, _, h, _ := onDuty(t)
	permitted := func(n int64, clients ...int) {
		now := estate.InstantOf(time.Now())
		var records []flow.Record
		for _, c := range clients {
			records = append(records, flow.Record{Start: now, End: now, Client: LandAddr(c), Server: LandAddr(33),
				Point:       service.PointOf(service.TCP, 443),
				Connections: n, Bytes: 100, Packets: 2, Outcome: flow.Carried, Observer: "leaf"})
		}
		_, err := db.AddBatch(t.Context(), rows.BatchOf(rand.Text(), flow.Stating(records), nil))
		require.NoError(t, err)
		_, err = a.Models.Current(t.Context())
		require.NoError(t, err)
	}
	permitted(5, 1)
	m, err := a.Models.Current(t.Context())
	require.NoError(t, err)
	put := func(filter string) (int64, error) {
		return a.Watching.PutNotice(t.Context(), m, watching.Notice{Filter: filter, Pace: "at once",
			To: []string{"duty"}})
	}
	for filter, bad := range map[string]string{
		"clients=tier+is":                 "clients: at character 8",
		"colour=red":                      `found "colour", which is not a parameter of a ledger filter`,
		"verdict=maybe":                   `verdict: found "maybe", expected one of permit,reject,uncovered`,
		"bytes=many":                      `bytes: found "many", expected a whole number`,
		"odd=perhaps":                     `odd: found "perhaps", expected true or false`,
		"group=nobody":                    "there is no group nobody; nothing was changed",
		"servers=member+of+nobody":        "servers: the draft has no group nobody; nothing was changed",
		"rule=5":                          "a line, which moves with the text",
		"against=1":                       "a notice compares with none",
		"clients=tier+is+entry&bytes=1;2": "expected the parts of an address",
	} {
		_, err := put(filter)
		require.ErrorContains(t, err, bad, filter)
	}
	_, err = a.Watching.PutNotice(t.Context(), m, watching.Notice{Filter: "odd=1", Kinds: []string{"leak"},
		Pace: "at once", To: []string{"duty"}})
	require.ErrorContains(t, err, "expected one or the other")
	id, err := put("clients=tier+is+entry+and+not+app+is+app7&services=tcp%2F443&verdict=permit")
	require.NoError(t, err)
	until := func(n int) []notify.Message {
		t.Helper()
		require.Eventually(t, func() bool { return len(h.all()) >= n }, 20*time.Second, 20*time.Millisecond)
		return h.all()
	}
	permitted(3, 1, 2, 7)
	got := until(2)
	require.Len(t, got, 2, "nothing of app7")
	for _, x := range got {
		require.Equal(t, []any{"traffic", "app3-store", int64(3), "permit"}, []any{x.Kind, x.What, x.Times, x.Verdict},
			"not what was there before")
		require.Contains(t, x.Title, "reached app3-store on ")
	}

	all, err := db.Notices(t.Context())
	require.NoError(t, err)
	paused := all[0]
	require.Equal(t, id, paused.ID)
	paused.Paused = true
	_, err = a.Watching.PutNotice(t.Context(), m, paused)
	require.NoError(t, err)
	permitted(1, 4)
	leaks(t, db, [2]int{4, 33})
	require.Eventually(t, func() bool { // it was looked at
		m, err := a.Models.Current(t.Context())
		still, lookErr := a.Watching.StillLooking(t.Context(), m)
		stamps, stampErr := db.WatchStamps(t.Context())
		matters, matterErr := db.Matters(t.Context(), time.Time{})
		return err == nil && lookErr == nil && stampErr == nil && matterErr == nil && !still && len(stamps) > 0 &&
			len(matters) > 0
	}, 20*time.Second, 20*time.Millisecond)
	paused.Paused = false
	_, err = a.Watching.PutNotice(t.Context(), m, paused)
	require.NoError(t, err)
	permitted(2, 5)
	last := until(3)
	require.Len(t, last, 3)
	require.Equal(t, []any{"app5-entry", int64(2)}, []any{last[2].Who, last[2].Times})

	// A group that goes leaves a notice that says why it is silent.
	id, err = put("group=store")
	require.NoError(t, err)
	require.NoError(t, db.Apply(t.Context(), drafting.Edit{Revision: &model.Revision{No: 2,
		Text: "layer l\npermit any -> any on any\n", Blame: model.Blame{},
		Author: "me", Words: "all"}}))
	require.Eventually(t, func() bool {
		m, err := a.Models.Current(t.Context())
		if err != nil {
			return false
		}
		words, err := a.Watching.NoticeProblem(t.Context(), m, &watching.Notice{ID: id, Filter: "group=store"})
		ends, endsErr := a.Watching.NoticeProblem(t.Context(), m, &watching.Notice{Kinds: []string{"leak"},
			What: "member of store"})
		return err == nil && endsErr == nil && words == "there is no group store" &&
			ends == "what: the draft has no group store"
	}, 20*time.Second, 20*time.Millisecond)
}

// Two servers on one database send each message once.
func TestTwoServersTellOnce(t *testing.T) {
	db := assemblytest.Open(t)
	land(t, db)
	a, _ := assemblytest.Running(t, db, "one")
	assemblytest.Running(t, db, "two")
	h, m := duty(t, a)
	_, err := a.Watching.PutNotice(t.Context(), m, watching.Notice{Kinds: []string{"leak"}, Pace: "at once",
		To: []string{"duty"}})
	require.NoError(t, err)
	leaks(t, db, [2]int{1, 33}, [2]int{2, 34}, [2]int{3, 35})
	require.Eventually(t, func() bool { return len(h.all()) >= 1 }, 20*time.Second, 20*time.Millisecond)
	time.Sleep(2500 * time.Millisecond) // what the other server finds as well
	times := int64(0)
	for _, x := range h.all() {
		times += x.Times
	}
	require.Equal(t, int64(3), times)
}

// What is said of matters is kept, and what cannot be meant is refused.
func TestWhatIsSaidOfMatters(t *testing.T) {
	db := assemblytest.Open(t)
	land(t, db)
	a, _ := assemblytest.Running(t, db, "one")
	leaks(t, db, [2]int{1, 33})
	var list []watching.Matter
	require.Eventually(t, func() bool {
		var err error
		list, err = db.Matters(t.Context(), time.Now().Add(-time.Hour))
		require.NoError(t, err)
		return len(list) == 1
	}, 20*time.Second, 20*time.Millisecond)
	past := time.Now().Add(-time.Hour)
	for bad, f := range map[string]func() (int, error){
		"an assignee": func() (int, error) {
			return a.Watching.Say(t.Context(), []string{list[0].ID}, "with", " ", "",
				nil)
		},
		"why it is": func() (int, error) {
			return a.Watching.Say(t.Context(), []string{list[0].ID}, "settled", "", "",
				nil)
		},
		"a time in the past": func() (int, error) {
			return a.Watching.Say(t.Context(), []string{list[0].ID}, "settled", "", "x", &past)
		},
	} {
		_, err := f()
		require.ErrorContains(t, err, bad)
	}
	n, err := a.Watching.Say(t.Context(), []string{list[0].ID}, "with", "network team", "", nil)
	require.NoError(t, err)
	require.Equal(t, 1, n)
	got, days, log, _, err := db.Matter(t.Context(), list[0].ID)
	require.NoError(t, err)
	require.Equal(t, []string{"with", "network team", "with network team"},
		[]string{got.State, got.Holder, log[0].Words})
	require.Len(t, days, 1)
	m, err := a.Models.Current(t.Context())
	require.NoError(t, err)
	part, err := a.Watching.MatterOn(t.Context(), m, got.ID, days[0].Day.UTC())
	require.NoError(t, err)
	require.Len(t, part.Conversations, 1)
	groups, err := a.Watching.WatchedGroups(t.Context(), m)
	require.NoError(t, err)
	require.Equal(t, []string{"store"}, groups, "assertions protect it")
	require.Error(t, a.Watching.PutWatched(t.Context(), m, []string{"nobody"}))
	require.NoError(t, a.Watching.PutWatched(t.Context(), m, []string{"store"}))
}
