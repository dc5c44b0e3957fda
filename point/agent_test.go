package point_test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/plan"
	"lucidorchard/core/service"
	"lucidorchard/point"
)

// server tells one point what to hold, and remembers what it says.
type server struct {
	*httptest.Server
	mu     sync.Mutex
	told   point.Instructions
	tells  chan struct{} // closed when something else is told
	said   point.Status
	events []point.Event
	down   bool
	asked  string // what the point had when it asked last
	heard  int    // how often it was told something
	deaf   bool   // it is asked, over what runs already, and cannot be told
}

const waitLong, waitShort = 10 * time.Second, 5 * time.Millisecond

func serve(t testing.TB) *server {
	s := &server{tells: make(chan struct{})}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.down || r.Header.Get("Authorization") != "Bearer secret" {
			http.Error(w, "no", http.StatusServiceUnavailable)
			return
		}
		if r.Method == http.MethodPost && s.deaf {
			http.Error(w, "no", http.StatusServiceUnavailable)
			return
		}
		if r.Method == http.MethodPost {
			s.heard++
			s.said = point.Status{}
			_ = json.NewDecoder(r.Body).Decode(&s.said)
			s.events = append(s.events, s.said.Events...)
			return
		}
		if s.asked = r.URL.Query().Get("have"); s.asked == s.told.ID {
			tells := s.tells
			s.mu.Unlock()
			select { // a real one wakes whoever waits
			case <-tells:
			case <-time.After(5 * time.Millisecond):
			}
			s.mu.Lock()
		}
		_ = json.NewEncoder(w).Encode(s.told)
	}))
	t.Cleanup(s.Close)
	return s
}

func (s *server) tell(x point.Instructions) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.told = x
	close(s.tells)
	s.tells = make(chan struct{})
}

func (s *server) goDown(down bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.down = down
}

func (s *server) until(t testing.TB, what string, f func(said point.Status) bool) {
	t.Helper()
	require.Eventually(t, func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return f(s.said)
	}, 10*time.Second, 5*time.Millisecond, what)
}

func (s *server) happened(what string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range s.events {
		if e.What == what {
			return true
		}
	}
	return false
}

// told makes a plan of some rules for one address.
func told(id string, release int, rules ...plan.Rule) point.Instructions {
	name := "c"
	for _, r := range rules {
		name += fmt.Sprint("_", r.Line)
	}
	p := &plan.Plan{Kind: plan.Host, Side: plan.Server, Sets: []plan.Set{}, Classes: []plan.Class{{
		Name: name, Addresses: []netip.Addr{store}, Server: rules, Client: []plan.Rule{}}}}
	return telling(id, release, p)
}

// moving tells moves that lead on from what x tells.
func moving(x point.Instructions, id string, moves ...plan.Moves) point.Instructions {
	part := *x.Enforces
	part.From, part.ID, part.Plan, part.Moves = part.ID, id, nil, moves
	x.ID, x.Enforces = id, &part
	return x
}

var (
	store = netip.MustParseAddr("10.0.0.5")
	rule5 = rule(5, plan.Permit)
	rule6 = rule(6, plan.Reject)
)

// rule is one on the port that its line says.
func rule(line int, v plan.Verdict) plan.Rule {
	pt := service.PointOf(service.TCP, uint32(line))
	return plan.Rule{Line: line, Verdict: v, Points: service.Set{{Lo: pt, Hi: pt}},
		On: []string{pt.String()}, Words: fmt.Sprint(v, " any -> store on ", pt)}
}

// also returns what is told with one more address, as moves.
func also(t *testing.T, id string, x point.Instructions, a netip.Addr) point.Instructions {
	m := plan.Moves{Classes: []plan.ClassMoves{{Name: x.Enforces.Plan.Classes[0].Name, Added: []netip.Addr{a}}}}
	next, err := x.Enforces.Plan.Moved(m)
	require.NoError(t, err)
	require.Equal(t, x.Enforces.Rules, next.RulesHash())
	return moving(x, id, m)
}

// start runs an agent until the test, or stop, ends it.
func start(t testing.TB, s *server, k point.Kernel, state string) (stop func()) {
	ctx, cancel := context.WithCancel(t.Context())
	a := &point.Agent{Server: s.URL, Token: "secret", State: state, Kernel: k, Log: slog.New(slog.DiscardHandler),
		RollbackAfter: 400 * time.Millisecond, Check: 20 * time.Millisecond, Beat: 20 * time.Millisecond}
	done := make(chan error)
	go func() { done <- a.Run(ctx) }()
	stop = sync.OnceFunc(func() {
		cancel()
		require.NoError(t, <-done)
	})
	t.Cleanup(stop)
	return stop
}

func held(t *testing.T, k point.Kernel) []string {
	h, err := k.Read()
	require.NoError(t, err)
	var out []string
	for _, says := range h.Rules {
		out = append(out, says)
	}
	return out
}

func TestAPointHoldsWhatItIsTold(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	s.tell(told("a", 1, rule5))
	start(t, s, k, "")
	s.until(t, "it holds the first", func(x point.Status) bool {
		return x.ID == "a" && x.State == "holds" &&
			x.Enforces == 1
	})
	s.tell(told("b", 2, rule5, rule6))
	s.until(t, "and the second", func(x point.Status) bool { return x.ID == "b" && x.Enforces == 2 })
	require.ElementsMatch(t, []string{"line 5 permit", "line 6 reject"}, held(t, k))
	require.True(t, s.happened("applied"))
}

// A release that shuts the server out is undone by itself, and said when the server is
// there again; it is not tried again.
func TestAPointRollsBackWithoutItsServer(t *testing.T) {
	s := serve(t)
	k := &shutter{&point.Memory{}, s, 6}
	s.tell(told("a", 1, rule5))
	start(t, s, k, "")
	s.until(t, "it holds the first", func(x point.Status) bool { return x.ID == "a" })
	s.tell(told("b", 2, rule6))
	s.until(t, "it says so", func(x point.Status) bool { return x.State == "went back" && x.ID == "a" })
	require.Equal(t, []string{"line 5 permit"}, held(t, k))
	require.True(t, s.happened("went back"))
	time.Sleep(100 * time.Millisecond)
	require.False(t, s.isDown(), "it is not tried again")
}

// On trial, a plan that comes over a connection which runs on proves nothing: the way
// back leads to what was proved last, and what lost the server is not tried again where
// only addresses have moved.
func TestAPlanOnTrialIsNotProvedByTheNext(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	s.tell(told("a", 1, rule5))
	start(t, s, k, "")
	s.until(t, "it holds the first", func(x point.Status) bool { return x.ID == "a" })
	s.mu.Lock()
	s.deaf = true
	s.mu.Unlock()
	s.tell(told("b", 2, rule6))
	require.Eventually(t, func() bool { return len(held(t, k)) == 1 && held(t, k)[0] == "line 6 reject" }, waitLong,
		waitShort)
	moved := told("c", 2, rule6)
	moved.Enforces.Plan.Classes[0].Addresses = append(moved.Enforces.Plan.Classes[0].Addresses,
		netip.MustParseAddr("10.0.0.6"))
	s.tell(moved)
	require.Eventually(t, func() bool { return held(t, k)[0] == "line 5 permit" }, waitLong, waitShort)
	s.mu.Lock()
	s.deaf = false
	s.mu.Unlock()
	s.until(t, "it says so", func(x point.Status) bool { return x.State == "went back" && x.ID == "a" })
	moved.ID, moved.Enforces.ID = "d", "d"
	s.tell(moved)
	time.Sleep(100 * time.Millisecond)
	require.Equal(t, []string{"line 5 permit"}, held(t, k))
	moved.ID, moved.Again = "e", 1
	s.tell(moved)
	s.until(t, "told to, it tries once more", func(x point.Status) bool { return x.ID == "e" && x.State == "holds" })
}

// The very first plan has a way back as well: to nothing.
func TestTheFirstPlanIsRolledBackToo(t *testing.T) {
	s := serve(t)
	k := &shutter{&point.Memory{}, s, 6}
	s.tell(told("b", 2, rule6))
	start(t, s, k, "")
	s.until(t, "it says so", func(x point.Status) bool { return x.State == "went back" && x.Enforces == 0 })
	require.Empty(t, held(t, k))
}

// counting is a kernel that has counted the same since its last plan, and refuses one.
type counting struct{ *refusing }

func (k counting) Read() (point.Held, error) {
	h, err := k.refusing.Read()
	if len(h.Rules) > 0 {
		h.Lines = []point.Line{{Line: 5, Verdict: "permit", Packets: 3}}
	}
	return h, err
}

// What was counted before a plan goes on counting, once: also where the plan was refused.
func TestCountsGoOnOverPlans(t *testing.T) {
	s := serve(t)
	start(t, s, counting{&refusing{&point.Memory{}, 6}}, "")
	counted := func(n int64) func(point.Status) bool {
		return func(x point.Status) bool { return len(x.Lines) == 1 && x.Lines[0].Packets == n }
	}
	s.tell(told("a", 1, rule5))
	s.until(t, "the first", counted(3))
	s.tell(told("b", 2, rule6))
	s.until(t, "refused", func(x point.Status) bool { return x.State == "refused" })
	s.until(t, "the same", counted(3))
	s.tell(told("c", 1, rule5, rule(7, plan.Permit)))
	s.until(t, "both", counted(6))
}

// shutter is a kernel under which nobody reaches the server while it holds a rule.
type shutter struct {
	*point.Memory
	s    *server
	line int
}

func (k *shutter) Load(l plan.Loaded, paired bool) error {
	err := k.Memory.Load(l, paired)
	k.s.goDown(speaks(l.Enforced, k.line))
	return err
}

// speaks reports whether a plan has a rule of a line.
func speaks(p *plan.Plan, line int) bool {
	return p != nil && slices.ContainsFunc(p.Classes[0].Server, func(r plan.Rule) bool { return r.Line == line })
}

func (s *server) isDown() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.down
}

// Without its server it starts with what it held, and nothing is lost meanwhile.
func TestAPointStartsWithoutItsServer(t *testing.T) {
	s, k, state := serve(t), &point.Memory{}, t.TempDir()
	s.tell(told("a", 1, rule5, rule6))
	stop := start(t, s, k, state)
	s.until(t, "it holds it", func(x point.Status) bool { return x.ID == "a" })
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(state, "told.json")); return err == nil },
		5*time.Second, 5*time.Millisecond)
	stop()
	s.goDown(true)
	again := &point.Memory{}
	start(t, s, again, state)
	require.Eventually(t, func() bool { return len(held(t, again)) == 2 }, 5*time.Second, 5*time.Millisecond)
	s.goDown(false)
	s.until(t, "it is heard of again", func(x point.Status) bool { return x.ID == "a" && x.State == "holds" })

	require.NoError(t, os.WriteFile(filepath.Join(state, "told.json"), []byte("{half"), 0o600))
	broken := &point.Memory{}
	start(t, s, broken, state)
	require.Eventually(t, func() bool { return s.happened("refused") && len(held(t, broken)) == 2 }, 5*time.Second,
		5*time.Millisecond, "a broken file is said, and the server asked")
}

func TestDriftIsSaidAndPutBack(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	x := told("a", 1, rule5, rule6)
	s.tell(x)
	start(t, s, k, "")
	s.until(t, "it holds it", func(x point.Status) bool { return x.ID == "a" })
	require.Contains(t, k.Lose(), "line 6")
	s.until(t, "it says what is missing", func(x point.Status) bool {
		return x.State == "drifted" && x.Words == "a rule of line 6 is missing"
	})
	s.tell(also(t, "moved", x, netip.MustParseAddr("10.0.0.6")))
	s.until(t, "an address comes, and the rule is still missing", func(x point.Status) bool {
		return x.ID == "moved" && x.State == "drifted" && x.Words == "a rule of line 6 is missing"
	})
	x.PutsBack = true
	x.ID = "b"
	s.tell(x)
	s.until(t, "told anew it holds it", func(x point.Status) bool { return x.State == "holds" && x.ID == "b" })
	x.PutsBack, x.ID = false, "c"
	s.tell(x)
	s.until(t, "it has been told", func(x point.Status) bool { return x.ID == "c" })
	k.Lose()
	s.until(t, "it waits", func(x point.Status) bool { return x.State == "drifted" })
	require.NoError(t, k.Load(plan.Loaded{Enforced: x.Enforces.Plan}, false), "somebody puts it right")
	s.until(t, "it sees that, and says so", func(x point.Status) bool { return x.State == "holds" })
	require.Eventually(t, func() bool { return s.happened("put back") }, 10*time.Second, 5*time.Millisecond)
	x.PutsBack, x.ID = true, "d"
	s.tell(x)
	s.until(t, "it is to put back again", func(x point.Status) bool { return x.ID == "d" })
	k.Lose()
	require.Eventually(t, func() bool { return s.happened("put back") && len(held(t, k)) == 2 }, 10*time.Second,
		5*time.Millisecond)
}

// refusing is a kernel that cannot apply a plan.
type refusing struct {
	*point.Memory
	line int
}

func (k *refusing) Load(l plan.Loaded, paired bool) error {
	if speaks(l.Enforced, k.line) {
		return errors.New("the kernel has no room")
	}
	return k.Memory.Load(l, paired)
}

func TestAPlanThatCannotBeAppliedChangesNothing(t *testing.T) {
	s, k := serve(t), &point.Memory{}
	s.tell(told("a", 1, rule5))
	start(t, s, &refusing{k, 6}, "")
	s.until(t, "it holds the first", func(x point.Status) bool { return x.ID == "a" })
	s.tell(told("b", 2, rule5, rule6))
	s.until(t, "it says why", func(x point.Status) bool {
		return x.State == "refused" && x.Words == "the kernel has no room" && x.ID == "a" && x.Enforces == 1
	})
	require.Equal(t, []string{"line 5 permit"}, held(t, k))
	s.tell(told("c", 3, rule5))
	s.until(t, "the next is tried", func(x point.Status) bool { return x.State == "holds" && x.ID == "c" })
}

// Addresses come and go without a plan; a kernel that cannot move them gets the whole
// plan; moves that lead on from something else are answered with a question.
func TestAddressesMove(t *testing.T) {
	s, k := serve(t), &stiff{Memory: &point.Memory{}}
	x := told("a", 1, rule5, rule6)
	s.tell(x)
	start(t, s, k, "")
	s.until(t, "it holds it", func(x point.Status) bool { return x.ID == "a" })
	other := netip.MustParseAddr("10.0.0.6")
	meets := func(a netip.Addr) bool {
		_, drops := k.Meets(netip.MustParseAddr("10.9.9.9"), a, service.PointOf(service.TCP, 6))
		return drops
	}
	require.True(t, meets(store))
	require.False(t, meets(other))
	s.tell(also(t, "b", x, other))
	s.until(t, "it holds both", func(x point.Status) bool { return x.ID == "b" && x.State == "holds" })
	require.True(t, meets(other))
	require.EqualValues(t, 1, k.held.Load(), "no plan was loaded for it")

	strange := also(t, "d", x, other)
	strange.Enforces.From = "c"
	s.tell(strange)
	s.until(t, "it asks for all of it", func(point.Status) bool { return s.asked == "" })
	s.tell(told("d", 1, rule5, rule6))
	s.until(t, "and gets it", func(x point.Status) bool { return x.ID == "d" })
	require.False(t, meets(other))
	k.stiff.Store(true)
	s.tell(also(t, "e", told("d", 1, rule5, rule6), other))
	s.until(t, "the whole plan takes its place", func(x point.Status) bool { return x.ID == "e" && x.State == "holds" })
	require.True(t, meets(other))
}

// Where the rules are others, the sets that a point has are not sent once more; what is short for a
// plan that it does not hold is asked for as a whole.
func TestSetsThatAreKept(t *testing.T) {
	s, k := serve(t), &stiff{Memory: &point.Memory{}}
	near, far := netip.MustParseAddr("10.1.0.1"), netip.MustParseAddr("10.1.0.9")
	with := func(id string, to netip.Addr, rules ...plan.Rule) point.Instructions {
		for i := range rules {
			rules[i].Peers = []int{0}
		}
		x := told(id, 1, rules...)
		x.Enforces.Plan.Sets = []plan.Set{{Name: "peers", Addresses: plan.Addresses{{First: to, Last: to}}}}
		return telling(id, 1, x.Enforces.Plan)
	}
	dropped := func(from netip.Addr) bool {
		_, drops := k.Meets(from, store, service.PointOf(service.TCP, 6))
		return drops
	}
	first, next := with("a", near, rule5), with("b", far, rule5, rule6)
	s.tell(first)
	start(t, s, k, "")
	s.until(t, "it holds it", func(x point.Status) bool { return x.ID == "a" })
	short, moves := next.Enforces.Plan.Short(first.Enforces.Plan)
	require.Empty(t, short.Sets[0].Addresses)
	shortly := func(id, from string) point.Instructions {
		return point.Instructions{ID: id, Enforces: &point.Assignment{Release: 1, ID: id, Rules: next.Enforces.Rules,
			From: from, Plan: short,
			Moves: []plan.Moves{moves}}}
	}
	s.tell(shortly("b", "a"))
	s.until(t, "it fills it", func(x point.Status) bool { return x.ID == "b" && x.State == "holds" })
	require.True(t, dropped(far))
	require.False(t, dropped(near), "what moved beside it is not there any more")

	s.tell(shortly("c", "x"))
	s.until(t, "it asks for all of it", func(point.Status) bool { return s.asked == "" })
	require.True(t, dropped(far), "what it held stays")
	next.ID = "c"
	s.tell(next)
	s.until(t, "and gets it", func(x point.Status) bool { return x.ID == "c" })
}

// Addresses that move without end do not keep a point from saying what it holds: a plan on trial
// would be taken back, and the point be called silent.
func TestMovesWithoutEndAreSaidAllTheSame(t *testing.T) {
	s := serve(t)
	held := told("0", 1, rule5)
	s.tell(held)
	start(t, s, &point.Memory{}, "")
	s.until(t, "it holds it", func(x point.Status) bool { return x.ID == "0" })
	heard := func() int {
		s.mu.Lock()
		defer s.mu.Unlock()
		return s.heard
	}
	other := netip.MustParseAddr("10.0.0.6")
	before, begun := heard(), time.Now()
	for n := 1; heard() < before+5; n++ {
		require.Less(t, time.Since(begun), waitLong, "it says nothing any more")
		m := plan.Moves{Classes: []plan.ClassMoves{{Name: held.Enforces.Plan.Classes[0].Name}}}
		if n%2 == 1 {
			m.Classes[0].Added = []netip.Addr{other}
		} else {
			m.Classes[0].Removed = []netip.Addr{other}
		}
		next, err := held.Enforces.Plan.Moved(m)
		require.NoError(t, err)
		move := moving(held, fmt.Sprint(n), m)
		s.tell(move)
		require.Eventually(t, func() bool {
			s.mu.Lock()
			defer s.mu.Unlock()
			return s.asked == move.ID
		}, waitLong, time.Millisecond)
		held = telling(move.ID, 1, next)
	}
}
