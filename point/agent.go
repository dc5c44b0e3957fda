package point

import (
	"cmp"
	"context"
	"crypto/rand"
	"log/slog"
	mrand "math/rand/v2"
	"net/http"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"lucidorchard/core/plan"
	"lucidorchard/core/rollout"
)

// Agent is one enforcement point. Run it once. Its states and transitions are those of
// rollout.Point.
type Agent struct {
	Server string // URL
	Token  string
	State  string // folder for what it was told last; blank: it forgets
	Kernel Kernel
	Log    *slog.Logger
	Client *http.Client

	RollbackAfter time.Duration // how long it waits for its server after a change of rules; 0: 30 s
	Check         time.Duration // how often it reads back what is loaded; 0: 10 s
	Beat          time.Duration // how often it reports; 0: 5 s

	told    *Instructions // what it has loaded, with its plans; nil: nothing
	former  *Instructions // what it returns to unless what it has loaded is proved; nil: that is proved
	reached bool          // the server was reached since the rules changed
	until   time.Time     // when it returns unless the server is reached
	confirm time.Time     // when it returns unless a person confirms; zero: nobody has to

	want     *wanting     // what the kernel should have loaded
	version  atomic.Int64 // rises when the kernel is told something
	proved   int64        // version that was read back and found right
	readAt   time.Time
	blind    time.Time // since when what is loaded cannot be read; zero: it can
	reading  bool
	asked    bool // somebody waits for the result to report it
	missed   int  // results that were out of date, one after the other
	readTook time.Duration
	readDone time.Time
	results  chan reading

	base   map[Line]int64 // counted by what was loaded before
	lines  []Line         // counted now
	said   Status
	recent recent
	// reported is how many conversations the server took one by one.
	reported atomic.Int64
	refused  string // id of what the kernel did not take: it is not tried again
	lost     string // kind of what lost the server: neither is that, also where only addresses have moved
	unkept   bool   // the disk has an older state

	have    atomic.Pointer[string] // id of what moves may lead on from; nil: none
	ending  chan *plan.Decider     // running conversations are to be ended by it
	ended   chan string            // what became of that, in words
	seen    waiting
	decides atomic.Pointer[plan.Decider] // of the enforced plan; nil: nothing is enforced
}

// reading is what was read back, and the version that the kernel had before.
type reading struct {
	Held
	err     error
	version int64
	took    time.Duration
}

// Run loads what the server tells until the context ends. What is loaded then stays.
func (a *Agent) Run(ctx context.Context) error {
	a.RollbackAfter, a.Check = cmp.Or(a.RollbackAfter, 30*time.Second), cmp.Or(a.Check, 10*time.Second)
	a.Beat = min(cmp.Or(a.Beat, 5*time.Second), a.RollbackAfter/4)
	if a.Client == nil {
		a.Client = &http.Client{}
	}
	a.base, a.results = map[Line]int64{}, make(chan reading, 1)
	a.ending, a.ended = make(chan *plan.Decider, 1), make(chan string, 16)
	a.said = Status{State: "holds", Run: rand.Text()}
	a.recall()
	next := make(chan telling)
	changed := make(chan struct{}, 1)
	go a.listen(ctx, next)
	go a.watch(ctx, changed)
	go a.report(ctx)
	go a.end(ctx)
	a.say(ctx)
	a.loop(ctx, next, changed)
	return nil
}

func (a *Agent) loop(ctx context.Context, next <-chan telling, changed <-chan struct{}) {
	due := time.Now().Add(a.pause())
	check, beat, back := time.NewTicker(a.Check), time.NewTimer(time.Until(due)), time.NewTimer(time.Hour)
	sweep := time.NewTicker(sweepEvery)
	defer sweep.Stop()
	defer check.Stop()
	defer beat.Stop()
	defer back.Stop()
	for {
		if at, ok := a.returns(); ok {
			back.Reset(time.Until(at))
		}
		select {
		case <-ctx.Done():
			return
		case t := <-next:
			news := a.take(t.Instructions)
			close(t.taken)
			switch news {
			case atOnce:
				a.say(ctx)
			case soon: // it is reported as soon as it was read back
				a.read(true)
			}
		case <-check.C:
			a.read(false)
		case <-changed:
			a.read(false)
		case r := <-a.results:
			a.reading, a.readTook, a.readDone = false, r.took, time.Now()
			if a.judge(r) || a.asked && !a.reading {
				a.asked = false
				a.say(ctx)
			}
		case words := <-a.ended:
			a.happened("ended", words)
		case <-sweep.C:
			a.endRunning()
		case <-beat.C:
			if a.unkept && a.former == nil {
				agentDisk{a}.keepOrSay(a.told)
			}
			if a.reading { // it takes long: that must not make the point silent
				a.say(ctx)
			} else {
				a.read(true)
			}
			due = time.Now().Add(a.pause())
			beat.Reset(time.Until(due))
		case <-back.C:
			if at, ok := a.returns(); ok && !time.Now().Before(at) {
				a.goBack()
				a.say(ctx)
			}
		}
	}
}

// returns reports when the point returns to its former state, if it will.
func (a *Agent) returns() (at time.Time, ok bool) {
	if a.former == nil {
		return at, false
	}
	if !a.reached {
		at = a.until
	}
	if !a.confirm.IsZero() && (at.IsZero() || a.confirm.Before(at)) {
		at = a.confirm
	}
	return at, !at.IsZero()
}

// pause is how long it is until the next beat: not all points report at once.
func (a *Agent) pause() time.Duration { return a.Beat - mrand.N(a.Beat/5+1) }

// when is how soon the agent reports after it has taken instructions.
type when int

const (
	later when = iota // with the next beat
	soon              // as soon as it was read back
	atOnce
)

// read reads back what is loaded, beside the loop. With report, the result is reported
// whatever it is.
func (a *Agent) read(report bool) {
	a.asked = a.asked || report
	if a.reading {
		return
	}
	a.reading = true
	rest := min(restShare*a.readTook, time.Second) - time.Since(a.readDone)
	go func() {
		time.Sleep(max(0, rest)) // what changes meanwhile is read along
		begun, version := time.Now(), a.version.Load()
		held, err := a.Kernel.Read()
		a.results <- reading{held, err, version, time.Since(begun)}
	}()
}

// restShare is how many times as long as it took to read the kernel, or to judge running
// conversations, nothing of the like is done afterwards: at most a fifth of a processor
// goes into it, however often addresses move.
const restShare = 4

// mostMissed is how many results in a row may be out of date before the loop waits for
// one: else addresses that move without end would keep it from ever knowing.
const mostMissed = 3

// judge compares what was read back with what should be loaded, and reports whether
// there is news.
func (a *Agent) judge(r reading) bool {
	if r.version != a.version.Load() {
		if a.missed++; a.missed <= mostMissed {
			a.read(false)
			return false
		}
		r.version = a.version.Load()
		r.Held, r.err = a.Kernel.Read()
	}
	a.missed = 0
	if r.err == nil {
		a.count(&r.Held)
		a.unlisted(&r.Held)
	}
	if a.told == nil {
		return false
	}
	if r.err != nil {
		return a.cannotTell(r.err)
	}
	a.blind, a.readAt = time.Time{}, time.Now()
	if a.want == nil {
		a.want = wantingOf(a.told.Loaded(), r.Held)
	}
	news := a.proved != a.version.Load()
	a.proved = a.version.Load()
	a.saysWhatIsLoaded()
	words := a.want.drift(&r.Held)
	switch {
	case words != "":
		return a.drifted(words, a.told.PutsBack) || news
	case a.said.State == "drifted":
		a.said.State, a.said.Words = "holds", ""
		a.happened("put back", "The plan is loaded again: somebody repaired it outside the agent.")
		return true
	}
	return news
}

// blindFor is how long what is loaded may be unreadable before it is written anew.
const blindFor = 3 * time.Second

// cannotTell notes that what is loaded cannot be read: that is no better than drift.
func (a *Agent) cannotTell(err error) bool {
	if a.blind.IsZero() {
		a.blind = time.Now()
	}
	return a.drifted("cannot read what is loaded: "+err.Error(), time.Since(a.blind) >= min(blindFor, 3*a.Check))
}

// drifted notes that something other than the plan is loaded, and restores the plan if
// that is wanted. It reports whether there is news.
func (a *Agent) drifted(words string, restore bool) bool {
	again := a.said.State == "drifted" && strings.HasPrefix(a.said.Words, words)
	if !restore {
		if !again {
			a.said.State, a.said.Words = "drifted", words
			a.happened("drifted", words)
		}
		return !again
	}
	if !again {
		a.happened("drifted", words)
	}
	a.said.State = "holds"
	if err := a.load(a.told); err != nil {
		a.said.State, a.said.Words = "drifted", words+"; it cannot be restored: "+err.Error()
		return !again
	}
	a.happened("put back", "Restored. "+sentence(words))
	return true
}

// sentence makes a sentence of words.
func sentence(words string) string { return strings.ToUpper(words[:1]) + words[1:] + "." }

// unlisted notes the addresses of a host that its plan does not guard.
func (a *Agent) unlisted(held *Held) {
	a.said.Unlisted = nil
	p := a.loaded().Deciding()
	if p == nil || p.Kind != plan.Host {
		return
	}
	for _, own := range held.Own {
		if !slices.ContainsFunc(p.Classes, func(c plan.Class) bool { return slices.Contains(c.Addresses, own) }) &&
			len(a.said.Unlisted) < 256 {
			a.said.Unlisted = append(a.said.Unlisted, own)
		}
	}
}

func (a *Agent) loaded() plan.Loaded {
	if a.told == nil {
		return plan.Loaded{}
	}
	return a.told.Loaded()
}

// mostEvents is how many events are kept for a server that cannot be reached.
const mostEvents = 1000

func (a *Agent) happened(what, words string) {
	a.Log.Info(what, "words", words)
	if len(a.said.Events) >= mostEvents {
		a.said.Events = a.said.Events[1:]
	}
	runs := rollout.Runs{}
	if a.told != nil {
		runs = a.told.Runs()
	}
	a.said.Events = append(a.said.Events, Event{time.Now().UTC(), what, words, runs.Enforces, runs.Observes})
}
