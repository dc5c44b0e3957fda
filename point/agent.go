package point

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"log/slog"
	"maps"
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

	WayBack time.Duration // how long it waits for its server after a change of rules; 0: 30 s
	Check   time.Duration // how often it reads back what is loaded; 0: 10 s
	Beat    time.Duration // how often it reports; 0: 5 s

	told    *Told     // what it has loaded, with its plans; nil: nothing
	former  *Told     // what it returns to unless what it has loaded is proved; nil: that is proved
	reached bool      // the server was reached since the rules changed
	until   time.Time // when it returns unless the server is reached
	confirm time.Time // when it returns unless a person confirms; zero: nobody has to

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
	said   Said
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
	a.WayBack, a.Check = cmp.Or(a.WayBack, 30*time.Second), cmp.Or(a.Check, 10*time.Second)
	a.Beat = min(cmp.Or(a.Beat, 5*time.Second), a.WayBack/4)
	if a.Client == nil {
		a.Client = &http.Client{}
	}
	a.base, a.results = map[Line]int64{}, make(chan reading, 1)
	a.ending, a.ended = make(chan *plan.Decider, 1), make(chan string, 16)
	a.said = Said{State: "holds", Run: rand.Text()}
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
			news := a.take(t.Told)
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
				a.keepOrSay(a.told)
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

// when says how soon there is something to report of what was taken.
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
	return a.drifted("cannot tell what is loaded: "+err.Error(), time.Since(a.blind) >= min(blindFor, 3*a.Check))
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

// recall loads the last plans from the disk, before anybody is asked.
func (a *Agent) recall() {
	t, at, err := a.kept()
	if t == nil && err == nil {
		return
	}
	if err == nil {
		a.said.At = at
		err = a.load(t)
	}
	if err != nil {
		a.happened("refused", "what was kept on the disk cannot be applied: "+err.Error())
		return
	}
	a.Log.Info("loaded what was kept on the disk", "runs", t.Runs())
}

// LoadKept loads the plans that an earlier run kept on the disk, and reads them back. It
// does nothing else and asks nobody: for the time before the network is up.
func (a *Agent) LoadKept() error {
	a.base, a.ending = map[Line]int64{}, make(chan *plan.Decider, 1)
	a.Check = cmp.Or(a.Check, 10*time.Second)
	t, _, err := a.kept()
	if err != nil {
		return fmt.Errorf("what was kept on the disk cannot be applied: %w", err)
	}
	if t == nil {
		a.Log.Info("no plan is kept on the disk")
		return nil
	}
	if err := a.load(t); err != nil {
		return err
	}
	if a.said.State == "drifted" {
		return errors.New(a.said.Words)
	}
	a.Log.Info("loaded what was kept on the disk", "runs", t.Runs())
	return nil
}

// load makes the kernel load plans, and reads back what it made of them.
func (a *Agent) load(t *Told) error {
	for _, p := range t.parts() {
		if p.Plan == nil {
			return errors.New("it has no plan: another version of the program kept it")
		}
	}
	before, _ := a.Kernel.Read() // of what cannot be read, the counts are lost
	a.version.Add(1) // what is read while it is told something is out of date
	err := a.Kernel.Load(t.Loaded(), t.Paired)
	if a.version.Add(1); err != nil {
		return err
	}
	a.count(&before)
	for _, l := range a.lines {
		n := l.Packets
		l.Packets = 0
		a.base[l] = n
	}
	a.holds(t)
	held, err := a.Kernel.Read()
	if a.want = wantingOf(t.Loaded(), held); err != nil { // it is loaded all the same; judge takes what it finds first
		a.want = nil
		a.cannotTell(err)
		return nil
	}
	a.count(&held)
	a.unlisted(&held)
	a.proved, a.readAt, a.blind = a.version.Load(), time.Now(), time.Time{}
	a.saysWhatIsLoaded()
	if words := a.want.drift(&held); words != "" { // such as elements that did not come
		a.drifted(words, false)
	}
	return nil
}

// holds notes what is loaded from now on. It is reported once it was read back.
func (a *Agent) holds(t *Told) {
	a.told = t
	a.have.Store(&t.ID)
	if a.said.State != "drifted" {
		a.said.State, a.said.Words = "holds", ""
	}
	enforced := t.Loaded().Enforced
	if enforced == nil {
		a.decides.Store(nil)
		return
	}
	a.decides.Store(enforced.Decider())
	a.endRunning()
}

// sweepEvery is how often running conversations are judged though no plan changed: what
// was picked up while nobody looked ends then.
const sweepEvery = time.Minute

// endRunning lets the running conversations be judged by the enforced plan.
func (a *Agent) endRunning() {
	d := a.decides.Load()
	if d == nil {
		return
	}
	select {
	case <-a.ending: // of an older plan
	default:
	}
	a.ending <- d
}

// saysWhatIsLoaded puts what was read back into the report.
func (a *Agent) saysWhatIsLoaded() {
	s, runs := &a.said, a.told.Runs()
	s.ID, s.Enforces, s.Observes, s.Estate = a.told.ID, runs.Enforces, runs.Observes, a.told.Estate
}

// count adds up what the kernel counted, by release.
func (a *Agent) count(held *Held) {
	runs := rollout.Runs{}
	if a.told != nil {
		runs = a.told.Runs()
	}
	sum := maps.Clone(a.base)
	for release, lines := range map[int][]Line{runs.Enforces: held.Lines, runs.Observes: held.Trial} {
		if release == 0 {
			continue
		}
		for _, l := range lines {
			n := l.Packets
			l.Release, l.Packets = release, 0
			sum[l] += n
		}
	}
	a.lines = a.lines[:0]
	for l, n := range sum {
		if l.Release != runs.Enforces && l.Release != runs.Observes {
			delete(a.base, l) // of a release that is gone nobody asks any more
			continue
		}
		l.Packets = n
		a.lines = append(a.lines, l)
	}
	slices.SortFunc(a.lines, func(x, y Line) int {
		return cmp.Or(cmp.Compare(x.Release, y.Release), cmp.Compare(x.Line, y.Line), strings.Compare(x.Verdict, y.Verdict))
	})
}

// take applies what the server tells, and returns how soon there is something to report.
func (a *Agent) take(t Told) when {
	if !a.said.At.Follows(t.Lineage, t.Yields) {
		return a.staysAhead(&t)
	}
	if now := t.Lineage.Now(); now != (rollout.Mark{}) {
		a.said.At = now
	}
	if a.said.State == "ahead" {
		a.said.State, a.said.Words = "holds", ""
	}
	if t.ID == a.refused || t.kind() == a.lost {
		a.have.Store(&t.ID) // it is not told again and again
		return later
	}
	back := a.refused != "" || a.lost != "" // from what it could not load
	a.refused, a.lost = "", ""
	if a.told != nil && a.told.ID == t.ID {
		a.told.PutsBack = t.PutsBack
		a.have.Store(&t.ID)
		if back {
			a.holds(a.told)
			a.saysWhatIsLoaded()
			return atOnce
		}
		return later
	}
	if err := a.resolve(&t); err != nil {
		a.Log.Warn("what was told does not lead on from what is loaded", "error", err)
		a.have.Store(nil) // all of it is asked for
		return later
	}
	if a.told != nil && a.told.kind() == t.kind() && a.told.Again == t.Again {
		if err := a.move(&t); err == nil {
			return soon
		} else { // such as for an element that somebody deleted: the whole plan takes its place
			a.Log.Warn("addresses cannot be moved", "error", err)
		}
	}
	return a.replace(&t)
}

// staysAhead keeps what is loaded: the server does not have the latest order that the
// point took, so it would lead back to an older state.
func (a *Agent) staysAhead(t *Told) when {
	a.have.Store(&t.ID)
	words := fmt.Sprintf("took order %d, which its server does not have: it was restored from an older back-up, or is another one. "+
		"The point keeps %s until a person decides", a.said.At.Order, a.said.Runs())
	if a.said.State == "ahead" && a.said.Words == words {
		return later
	}
	a.said.State, a.said.Words = "ahead", words
	a.happened("ahead", words)
	return atOnce
}

// replace loads other rules.
func (a *Agent) replace(t *Told) when {
	was, drifted := cmp.Or(a.told, &Nothing), ""
	if a.said.State == "drifted" {
		drifted = a.said.Words
	}
	a.said.State, a.said.Words = "holds", ""
	if err := a.load(t); err != nil {
		a.refused = t.ID
		a.have.Store(&t.ID)
		a.said.State, a.said.Words = "refused", err.Error()
		a.happened("refused", err.Error())
		return atOnce
	}
	if drifted != "" && a.said.State != "drifted" {
		a.happened("put back", "Restored with another plan. "+sentence(drifted))
	}
	if was.Runs() != t.Runs() {
		a.happened("applied", t.Runs().String())
	}
	a.onTrial(t, was)
	return atOnce
}

// onTrial keeps the former state until what is loaded is proved.
func (a *Agent) onTrial(t, was *Told) {
	if a.confirm = (time.Time{}); t.Trial != nil {
		a.confirm = time.Now().Add(time.Duration(t.Trial.Seconds * float64(time.Second)))
	}
	changed := was.kind() != t.kind()
	switch {
	case a.former != nil: // it returns to what was proved last
		if changed && a.reached {
			a.reached, a.until = false, time.Now().Add(a.WayBack)
		}
	case !changed && t.Trial == nil:
		a.keepOrSay(t)
	default:
		a.former, a.reached, a.until = was, !changed, time.Now().Add(a.WayBack)
	}
}

// resolve gives every part of what was told its plan.
func (a *Agent) resolve(t *Told) error {
	for _, p := range t.parts() {
		if err := a.resolvePart(p); err != nil {
			return fmt.Errorf("release %d: %w", p.Release, err)
		}
		p.From, p.Moves = "", nil
	}
	return nil
}

func (a *Agent) resolvePart(p *Assignment) error {
	if p.From == "" && p.Plan != nil {
		return nil
	}
	from := cmp.Or(p.From, p.ID)
	var held *plan.Plan
	if a.told != nil {
		for _, x := range a.told.parts() {
			if x.ID == from {
				held = x.Plan
			}
		}
	}
	if held == nil {
		return fmt.Errorf("it leads on from plan %s, which is not loaded", from)
	}
	next, err := held, error(nil)
	if p.Plan != nil {
		if next, err = p.Plan.Filled(held); err != nil {
			return err
		}
	}
	for _, m := range p.Moves {
		if next, err = next.Moved(m); err != nil {
			return err
		}
	}
	if next.RulesHash() != p.Rules {
		return errors.New("it leads to other rules")
	}
	p.Plan = next
	return nil
}

// move lets addresses come and go.
func (a *Agent) move(t *Told) error {
	from, to := a.told.Loaded(), t.Loaded()
	for _, x := range [][2]*plan.Plan{{from.Enforced, to.Enforced}, {from.Observed, to.Observed}} {
		if x[0] != nil && x[0].RulesHash() != x[1].RulesHash() {
			return errors.New("they lead to other rules")
		}
	}
	a.version.Add(1)
	err := a.Kernel.Move(from, to)
	if a.version.Add(1); err != nil {
		return err
	}
	if a.want != nil {
		a.want.moved = &to
	}
	was := a.told
	a.holds(t)
	if t.Trial != nil || !a.confirm.IsZero() {
		a.onTrial(t, was)
	}
	a.settle()
	a.unkept = a.unkept || a.former == nil
	return nil
}

// settle closes the way to the former state once nothing is to be waited for.
func (a *Agent) settle() {
	if a.former != nil && a.reached && a.confirm.IsZero() {
		a.former = nil
		a.keepOrSay(a.told)
	}
}

// goBack restores the former plans: the server is out of reach since, or nobody
// confirmed in time.
func (a *Agent) goBack() {
	lost, to, why := a.told, a.former, fmt.Sprintf("the server could not be reached for %s", a.WayBack)
	if !a.confirm.IsZero() && !time.Now().Before(a.confirm) {
		why = "nobody confirmed in time"
	}
	a.former, a.confirm = nil, time.Time{}
	a.lost = lost.kind()
	a.said.State = "holds"
	if err := a.load(to); err != nil {
		a.happened("refused", "the former plans cannot be restored: "+err.Error())
		return
	}
	a.have.Store(&lost.ID) // else it would be told at once again
	a.said.State = "went back"
	a.said.Words = fmt.Sprintf("after %s, %s", lost.Runs(), why)
	a.happened("went back", a.said.Words)
	a.keepOrSay(to)
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
