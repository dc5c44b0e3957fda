package point

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/plan"
	"lucidorchard/core/rollout"
)

// How an agent loads what it is told, and returns to what it had loaded before.

// recall loads the last plans from the disk, before anybody is asked.
func (a *Agent) recall() {
	t, at, err := agentDisk{a}.kept()
	if t == nil && err == nil {
		return
	}
	if err == nil {
		a.said.At = at
		err = a.load(t)
	}
	if err != nil {
		a.happened("refused", "the plan stored on disk cannot be applied: "+err.Error())
		return
	}
	a.Log.Info("loaded the plan stored on disk", "runs", t.Runs())
}

// LoadKept loads the plans that an earlier run kept on the disk, and reads them back. It
// does nothing else and asks nobody: for the time before the network is up.
func (a *Agent) LoadKept() error {
	a.base, a.ending = map[Line]int64{}, make(chan *plan.Decider, 1)
	a.Check = cmp.Or(a.Check, 10*time.Second)
	t, _, err := agentDisk{a}.kept()
	if err != nil {
		return fmt.Errorf("the plan stored on disk cannot be applied: %w", err)
	}
	if t == nil {
		a.Log.Info("no plan is stored on disk")
		return nil
	}
	if err := a.load(t); err != nil {
		return err
	}
	if a.said.State == "drifted" {
		return errors.New(a.said.Words)
	}
	a.Log.Info("loaded the plan stored on disk", "runs", t.Runs())
	return nil
}

// load makes the kernel load plans, and reads back what it made of them.
func (a *Agent) load(t *Instructions) error {
	for _, p := range t.parts() {
		if p.Plan == nil {
			return errors.New("it has no plan: another version of the program stored it")
		}
	}
	before, _ := a.Kernel.Read() // of what cannot be read, the counts are lost
	a.version.Add(1)             // what is read while it is told something is out of date
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
func (a *Agent) holds(t *Instructions) {
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
		return cmp.Or(cmp.Compare(x.Release, y.Release), cmp.Compare(x.Line, y.Line),
			strings.Compare(x.Verdict, y.Verdict))
	})
}

// take applies what the server tells, and returns how soon there is something to report.
func (a *Agent) take(t Instructions) when {
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
		a.Log.Warn("the delta does not start from the loaded plan", "error", err)
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
func (a *Agent) staysAhead(t *Instructions) when {
	a.have.Store(&t.ID)
	words := fmt.Sprintf(
		"took order %d, which its server does not have: it was restored from an older back-up, or is another one. "+
			"The point keeps running %s until a person decides", a.said.At.Order, a.said.Runs())
	if a.said.State == "ahead" && a.said.Words == words {
		return later
	}
	a.said.State, a.said.Words = "ahead", words
	a.happened("ahead", words)
	return atOnce
}

// replace loads other rules.
func (a *Agent) replace(t *Instructions) when {
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
func (a *Agent) onTrial(t, was *Instructions) {
	if a.confirm = (time.Time{}); t.Trial != nil {
		a.confirm = time.Now().Add(time.Duration(t.Trial.Seconds * float64(time.Second)))
	}
	changed := was.kind() != t.kind()
	switch {
	case a.former != nil: // it returns to what was proved last
		if changed && a.reached {
			a.reached, a.until = false, time.Now().Add(a.RollbackAfter)
		}
	case !changed && t.Trial == nil:
		agentDisk{a}.keepOrSay(t)
	default:
		a.former, a.reached, a.until = was, !changed, time.Now().Add(a.RollbackAfter)
	}
}

// resolve returns every part of what was told its plan.
func (a *Agent) resolve(t *Instructions) error {
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
func (a *Agent) move(t *Instructions) error {
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
		agentDisk{a}.keepOrSay(a.told)
	}
}

// goBack restores the former plans: the server is out of reach since, or nobody
// confirmed in time.
func (a *Agent) goBack() {
	lost, to, why := a.told, a.former, fmt.Sprintf("the server could not be reached for %s", a.RollbackAfter)
	if !a.confirm.IsZero() && !time.Now().Before(a.confirm) {
		why = "nobody confirmed in time"
	}
	a.former, a.confirm = nil, time.Time{}
	a.lost = lost.kind()
	a.said.State = "holds"
	if err := a.load(to); err != nil {
		a.happened("refused", "the previous plans cannot be restored: "+err.Error())
		return
	}
	a.have.Store(&lost.ID) // else it would be told at once again
	a.said.State = "went back"
	a.said.Words = fmt.Sprintf("after %s, %s", lost.Runs(), why)
	a.happened("went back", a.said.Words)
	agentDisk{a}.keepOrSay(to)
}
