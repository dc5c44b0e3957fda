package point_test

import (
	"context"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net/netip"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"lucidorchard/core/decide"
	"lucidorchard/core/estate"
	"lucidorchard/core/plan"
	"lucidorchard/core/policy"
	"lucidorchard/core/rollout"
	"lucidorchard/core/service"
	"lucidorchard/point"
	"lucidorchard/releasing/plans"
)

// company is the clients and servers of a site.
func company() *estate.Estate {
	var ws []estate.Workload
	for n := 1; n <= ends; n++ {
		for name, addr := range map[string]func(int, bool) netip.Addr{"client": westEnd, "server": eastEnd} {
			w := estate.Workload{ID: fmt.Sprint(name, n), Leases: []estate.Lease{
				{Addr: addr(n, false), From: estate.Beginning, Until: estate.End},
				{Addr: addr(n, true), From: estate.Beginning, Until: estate.End}}}
			w.SetTag(estate.Tag{Key: "tier", Value: name})
			ws = append(ws, w)
		}
	}
	e, _ := estate.New(ws)
	return e
}

// drawPolicy draws what a release says of the flows' ports; of two ports all releases say
// the same.
func drawPolicy(r *rand.Rand, flows []*talk) string {
	text := "group clients = tier is client\ngroup servers = tier is server\nlayer allowances\n" +
		fmt.Sprintf("permit clients -> servers on tcp/%d\nreject any -> workload server2 on tcp/%d\n", allowed, canary)
	for _, f := range flows {
		spec := f.pt.String()
		if f.kind == "ping" {
			spec = "icmp, icmp6"
		}
		switch {
		case f.kind == "ping" && strings.Contains(text, "icmp"):
		case f.pt.Port() == allowed:
		default:
			if verb := []string{"permit", "reject", ""}[r.IntN(3)]; verb != "" {
				text += fmt.Sprintf("%s clients -> servers on %s\n", verb, spec)
			}
		}
	}
	if r.IntN(3) > 0 {
		text += "layer closing\nreject any -> any on any\n"
	}
	return text
}

// sequences is how many are tried: a few, or as many as ORCHARD_SEQUENCES says.
func sequences() int {
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_SEQUENCES")); err == nil {
		return n
	}
	return 2
}

// Whatever a roll-out goes through, with real packets: what the enforced release rejects
// does not pass, what every enforced release permitted is never cut, what was ended does
// not come back, and a connection that all releases reject does not open at any moment.
func TestNothingOpensAndNothingIsCutOnTheWay(t *testing.T) {
	steps, ended, kept := 0, 0, 0
	first := int(rand.Uint32() % 1_000_000)
	if n, err := strconv.Atoi(os.Getenv("ORCHARD_SEED")); err == nil {
		first = n
	}
	for seed := first; seed < first+sequences(); seed++ {
		if !t.Run(fmt.Sprint("seed ", seed), func(t *testing.T) {
			x := newPassage(t, seed)
			x.goOn()
			steps, ended, kept = steps+x.steps, ended+x.ended, kept+x.kept
		}) {
			return
		}
	}
	t.Logf("%d sequences, %d steps; conversations: %d checks of one that is rejected, %d of one that was always permitted", sequences(), steps,
		ended, kept)
	require.Positive(t, ended)
	require.Positive(t, kept)
}

// passage is one sequence of orders and faults, with traffic running.
type passage struct {
	*site
	t     *testing.T
	r     *rand.Rand
	c     *control
	flows []*talk
	trail []string

	dir       string
	stopAgent func()
	steps     int
	ended     int
	kept      int

	closed  atomic.Bool  // something is enforced: the canary may not open
	escaped atomic.Int64 // how often it did
	actual  rollout.Runs // that the point runs
}

func newPassage(t *testing.T, seed int) *passage {
	r := rand.New(rand.NewPCG(uint64(seed), 1))
	x := &passage{site: newSite(t), t: t, r: r, dir: t.TempDir()}
	if r.IntN(2) == 0 {
		x.translate()
	}
	guards := []string{"tier is server", "tier in (server, client)", "tier is client"}[r.IntN(3)]
	// A machine stays guarded when its tier changes.
	guards = map[string]string{"tier is server": `id matches "server.*"`,
		"tier is client": `id matches "client.*"`}[guards]
	if guards == "" {
		guards = "not outside"
	}
	x.c = newControl(t, company(), plans.Point{Kind: plan.Gate, Side: plan.Both, Guards: guards})
	x.begin(r.IntN(2) == 0)
	for no := 1; no <= 4; no++ {
		text := drawPolicy(r, x.flows)
		p, errs := policy.Parse(text)
		require.Empty(t, errs, text)
		x.c.policies[no] = p
	}
	x.start()
	return x
}

// begin opens the conversations, of each kind one, before any table is loaded.
func (x *passage) begin(six bool) {
	kinds := []string{"push", "download", "request and response", "idle", "udp both ways", "udp from the server",
		"ping"}
	nat := x.translates()
	for i, kind := range kinds {
		for k := range 2 {
			n, v6 := 1+x.r.IntN(2), k == 1 && six
			f := &talk{kind: kind, client: westEnd(n, v6), server: eastEnd(1+x.r.IntN(3), v6)}
			switch {
			case kind == "ping":
				f.pt = service.PointOf(service.ICMP, 8<<8)
				if v6 {
					f.pt = service.PointOf(service.ICMP6, 128<<8)
				}
			case strings.HasPrefix(kind, "udp"):
				f.pt = service.PointOf(service.UDP, uint32(5001+2*i+k))
			default:
				f.pt = service.PointOf(service.TCP, uint32(5001+2*i+k))
			}
			f.called = f.server
			if nat && k == 0 {
				if x.r.IntN(2) == 0 {
					f.server, f.called = eastEnd(ends, false), translated
				} else {
					f.client = westEnd(hidden, false)
				}
			}
			x.flows = append(x.flows, f)
		}
	}
	always := &talk{kind: "request and response", client: westEnd(1, false), server: eastEnd(1, false),
		called: eastEnd(1, false),
		pt:     service.PointOf(service.TCP, allowed)}
	x.flows = append(x.flows, always)
	for _, f := range x.flows {
		f.run(x.site)
		x.t.Cleanup(f.stop)
	}
	require.Eventually(x.t, func() bool {
		return !slices.ContainsFunc(x.flows, func(f *talk) bool { return f.last.Load() == 0 })
	}, 10*time.Second, 10*time.Millisecond, "all run")
	ctx, stop := context.WithCancel(context.Background())
	var watch sync.WaitGroup
	watch.Go(func() {
		for ctx.Err() == nil {
			closed := x.closed.Load()
			if x.opens(westEnd(2, false), eastEnd(2, false), canary, 60*time.Millisecond) && closed && x.closed.Load() {
				x.escaped.Add(1)
			}
		}
	})
	x.t.Cleanup(func() { stop(); watch.Wait() })
}

// start runs an agent, which loads what it kept on its disk.
func (x *passage) start() {
	ctx, cancel := context.WithCancel(context.Background())
	a := &point.Agent{Server: x.c.URL, Token: "secret", State: x.dir, Kernel: &point.Nftables{Namespace: x.gate,
		Dir: x.dir},
		Log: slog.New(slog.DiscardHandler), RollbackAfter: 1500 * time.Millisecond, Check: 300 * time.Millisecond,
		Beat: 100 * time.Millisecond}
	done := make(chan error, 1)
	go func() { done <- a.Run(ctx) }()
	x.stopAgent = sync.OnceFunc(func() {
		cancel()
		<-done
	})
	x.t.Cleanup(func() { x.stopAgent() })
}

func (x *passage) say(format string, args ...any) {
	x.trail = append(x.trail, fmt.Sprintf(format, args...))
}

// goOn takes steps, and looks after each.
func (x *passage) goOn() {
	for range 10 {
		x.step()
		x.steps++
		x.look()
	}
}

func (x *passage) step() {
	runs := x.c.at.Runs
	do := []string{"observe", "enforce", "enforce", "enforce", "back", "restart", "reload", "cut", "tag", "restore",
		"forget", "off"}[x.r.IntN(12)]
	if runs == (rollout.Runs{}) {
		do = "observe"
	}
	switch do {
	case "observe":
		x.order(rollout.ToObserve, 1+x.r.IntN(4))
	case "enforce":
		if runs.Observes == 0 {
			x.order(rollout.ToObserve, 1+(runs.Enforces+x.r.IntN(3))%4)
		}
		if x.c.at.Runs.Observes != 0 {
			x.order(rollout.ToEnforce, x.c.at.Runs.Observes)
		}
	case "back":
		x.order(rollout.ToRollBack, 1+x.r.IntN(4))
	case "off":
		x.closed.Store(false)
		x.order(rollout.ToOff, 0)
	case "restart":
		x.say("restart the agent")
		x.stopAgent()
		x.start()
		x.c.loaded("it is back")
	case "reload":
		x.say("load again")
		x.c.mu.Lock()
		x.c.at.Again++
		x.c.mu.Unlock()
		x.c.loaded("it loads again")
	case "cut":
		x.cutOff()
	case "forget":
		if x.translates() { // what its ports were translated to nobody could know again
			return
		}
		x.say("forget all connections")
		x.in(x.gate, "conntrack", "-F")
	case "tag":
		id := fmt.Sprint([]string{"client", "server"}[x.r.IntN(2)], 1+x.r.IntN(ends))
		tier := []string{"client", "server", "other"}[x.r.IntN(3)]
		x.say("%s becomes %s", id, tier)
		x.c.retag(id, tier)
		x.c.loaded("the tag arrives")
	case "restore":
		x.restore()
	}
	x.actual = x.c.at.Runs
	x.closed.Store(x.actual.Enforces != 0)
}

// translates reports whether the gate translates addresses.
func (x *passage) translates() bool {
	return exec.Command("ip", "netns", "exec", x.gate, "nft", "list", "table", "ip", "translation").Run() == nil
}

func (x *passage) order(do rollout.Verb, no int) {
	x.say("%s %d", do, no)
	runs := x.c.order(do, no)
	x.c.loaded(fmt.Sprintf("%v: it runs %v", x.trail, runs))
}

// cutOff takes the server away while a change of rules is on its way: the point returns to
// what it ran.
func (x *passage) cutOff() {
	was := x.c.at.Runs
	next := 1 + (was.Newest()+x.r.IntN(3))%4
	x.say("observe %d, and lose the server", next)
	x.c.mu.Lock()
	runs, _ := was.After(rollout.Command{Do: rollout.ToObserve, Release: next})
	x.c.at.Runs = runs
	x.c.lineage[len(x.c.lineage)-1].Order++
	x.c.mu.Unlock()
	time.Sleep(time.Duration(x.r.IntN(200)) * time.Millisecond)
	x.c.mu.Lock()
	x.c.cut = true
	x.c.mu.Unlock()
	time.Sleep(2 * time.Second)
	x.c.mu.Lock()
	x.c.cut = false
	x.c.at.Again++
	x.c.mu.Unlock()
	x.c.loaded("it comes back to it")
}

// restore puts an older state of the server in the place of the present one: the point
// keeps what it runs until a person decides.
func (x *passage) restore() {
	x.c.mu.Lock()
	now, lineage := x.c.at.Runs, slices.Clone(x.c.lineage)
	x.c.at.Runs = rollout.Runs{Observes: 1}
	x.c.lineage = rollout.Lineage{{Epoch: "first", Order: 1}, {Epoch: fmt.Sprint("restored ", len(x.trail)), Order: 1}}
	x.c.mu.Unlock()
	x.say("restore an older back-up")
	x.c.until("it keeps what it runs", func(said point.Status) bool {
		return said.State == "ahead" &&
			said.Runs() == now
	})
	time.Sleep(150 * time.Millisecond)
	x.c.mu.Lock()
	x.c.at.Runs, x.c.lineage = now, lineage
	x.c.mu.Unlock()
	x.c.loaded("the right database is back")
}

// verdict returns what the enforced release says of a conversation, if the point polices it.
func (x *passage) verdict(f *talk) decide.Verdict {
	return x.says(f.client, f.server, f.pt)
}

func (x *passage) says(client, server netip.Addr, pt service.Point) decide.Verdict {
	if x.actual.Enforces == 0 {
		return decide.Uncovered
	}
	c := x.c.compiled(x.actual.Enforces)
	walk := decide.NewWalk(c.Estate, c.Policy, c.AsOf)
	return decide.VerdictOf(walk.Decide(c.Estate.At(client, c.AsOf), c.Estate.At(server, c.AsOf), pt))
}

// look compares what passes with what should.
func (x *passage) look() {
	t := x.t
	for _, f := range x.flows {
		f.everRejected = f.everRejected || x.verdict(f) == decide.Reject
	}
	// Running conversations end within moments; then nothing of them passes.
	quiet := func(since time.Time) (still *talk) {
		for _, f := range x.flows {
			if x.verdict(f) == decide.Reject && f.passed(since) {
				return f
			}
		}
		return nil
	}
	require.Eventually(t, func() bool {
		since := time.Now()
		time.Sleep(120 * time.Millisecond)
		return quiet(since) == nil
	}, 4*time.Second, time.Millisecond, "%v: release %d rejects what passes: %s", x.trail, x.actual.Enforces,
		lately(func() string {
			x.c.mu.Lock()
			defer x.c.mu.Unlock()
			return fmt.Sprintf("%v; the point reports %q", quiet(time.Now().Add(-time.Second)), x.c.events)
		}))
	since := time.Now()
	time.Sleep(300 * time.Millisecond)
	if f := quiet(since); f != nil {
		t.Fatalf("%v: %s came back though release %d rejects it", x.trail, f, x.actual.Enforces)
	}
	for _, f := range x.flows {
		switch {
		case x.verdict(f) == decide.Reject:
			x.ended++
		case !f.everRejected:
			x.kept++
			require.Eventually(t, func() bool { return f.passed(since) }, 3*time.Second, 5*time.Millisecond,
				"%v: %s was cut though every release permits it", x.trail, f)
		}
	}
	require.Zero(t, x.escaped.Load(), "%v: a connection opened that every release rejects", x.trail)
	// New connections fare as the enforced release says.
	for range 3 {
		f := x.flows[x.r.IntN(len(x.flows))]
		from, to, port := f.client, f.server, f.pt.Port()
		if f.pt.Proto() != service.TCP || f.client == westEnd(hidden, false) {
			from, to, port = westEnd(1, false), eastEnd(2, false), allowed
		}
		reject := x.says(from, to, service.PointOf(service.TCP, port)) == decide.Reject
		patience := 2 * time.Second
		if reject {
			patience = 80 * time.Millisecond
		}
		require.Equal(t, !reject, x.opens(from, to, port, patience), "%v: a new connection %s -> %s on tcp/%d",
			x.trail, from, to, port)
	}
}
