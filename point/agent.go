package point

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"math/rand/v2"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"lucidorchard/core/plan"
)

// Agent is one enforcement point. Run it once.
type Agent struct {
	Server string // URL
	Token  string
	State  string // folder for what it was told last; blank: it forgets
	Kernel Kernel
	Log    *slog.Logger
	Client *http.Client

	WayBack time.Duration // how long it waits for its server after a plan with other rules; 0: 30 s
	Check   time.Duration // how often it reads back what the kernel holds; 0: 10 s
	Beat    time.Duration // how often it says what it holds; 0: 5 s

	told   *Told          // what it holds, with its plan; nil: nothing
	former *Told          // what it held before that, as long as the way back is open
	until  time.Time      // when the way back is taken
	want   *wanting       // what the kernel should hold
	base   map[Line]int64 // counted by what was loaded before
	said   Said
	recent recent
	// reported is how many conversations the server took one by one.
	reported atomic.Int64
	refused  string // id of what the kernel did not take: it is not tried again
	lost     string // kind of what lost the server: neither is that, also where only addresses have moved
	unkept   bool   // the disk has an older state of the addresses

	have   atomic.Pointer[string] // id of what moves may lead on from; nil: none
	ending chan *plan.Decider     // conversations that run are to be ended by it
	ended  chan string            // what became of that, in words
	seen   waiting
	mode   atomic.Value // string
}

// Run holds what the server tells until the context ends. What is held then stays.
func (a *Agent) Run(ctx context.Context) error {
	a.WayBack, a.Check = cmp.Or(a.WayBack, 30*time.Second), cmp.Or(a.Check, 10*time.Second)
	a.Beat = min(cmp.Or(a.Beat, 5*time.Second), a.WayBack/4)
	if a.Client == nil {
		a.Client = &http.Client{}
	}
	a.base = map[Line]int64{}
	a.ending, a.ended = make(chan *plan.Decider, 1), make(chan string, 16)
	a.said = Said{State: "holds", Mode: "off"}
	a.recall()
	next := make(chan telling)
	changed := make(chan struct{}, 1)
	go a.listen(ctx, next)
	go a.watch(ctx, changed)
	go a.report(ctx)
	go a.end(ctx)
	due := time.Now().Add(a.pause())
	check, beat := time.NewTicker(a.Check), time.NewTimer(time.Until(due))
	defer check.Stop()
	defer beat.Stop()
	within := func(d time.Duration) { // from now the next beat comes, if it does not come sooner
		if at := time.Now().Add(d); at.Before(due) {
			beat.Reset(d)
			due = at
		}
	}
	back := time.NewTimer(time.Hour)
	defer back.Stop()
	a.say(ctx)
	for {
		if a.former != nil {
			back.Reset(time.Until(a.until))
		}
		select {
		case <-ctx.Done():
			return nil
		case t := <-next:
			news := a.take(t.Told)
			close(t.taken)
			switch news {
			case atOnce:
				a.say(ctx)
			case soon:
				within(min(a.Beat, moreMoves/2+rand.N(moreMoves)))
			}
		case <-check.C:
			if a.look() {
				a.say(ctx)
			}
		case <-changed:
			if a.look() {
				a.say(ctx)
			}
		case words := <-a.ended:
			a.happened("ended", words)
		case <-beat.C:
			if a.unkept && a.former == nil {
				a.keepOrSay(a.told)
			}
			a.say(ctx)
			due = time.Now().Add(a.pause())
			beat.Reset(time.Until(due))
		case <-back.C:
			if a.former != nil && !time.Now().Before(a.until) {
				a.goBack()
			}
		}
	}
}

// pause is how long it is until the next beat: not all points say what they hold at once.
func (a *Agent) pause() time.Duration { return a.Beat - rand.N(a.Beat/5+1) }

// When there is something to say of what was taken.
type when int

const (
	later when = iota // with the next beat
	soon              // along with what else moves
	atOnce
)

// moreMoves is about how long other moves are waited for before it is said that some came: the
// server is busy telling the other points, too.
const moreMoves = 100 * time.Millisecond

// recall applies the last plan from the disk, before anybody is asked.
func (a *Agent) recall() {
	raw, err := os.ReadFile(a.file())
	if a.State == "" || errors.Is(err, os.ErrNotExist) {
		return
	}
	var t Told
	if err == nil {
		err = json.Unmarshal(raw, &t)
	}
	if err == nil {
		err = a.load(&t)
	}
	if err != nil {
		a.happened("refused", "what was kept on the disk cannot be applied: "+err.Error())
		return
	}
	a.Log.Info("holds what it held before", "release", t.Release, "mode", t.Mode)
}

func (a *Agent) file() string { return filepath.Join(a.State, "told.json") }

// keep writes what is held to the disk, whole or not at all.
func (a *Agent) keep(t *Told) error {
	if a.State == "" {
		return nil
	}
	raw, err := json.Marshal(t)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(a.State, 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(a.State, "told-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name()) //nolint:errcheck // after Rename it is not there
	if _, err = f.Write(raw); err == nil {
		err = f.Sync()
	}
	if err := errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), a.file())
}

// load makes the kernel hold a plan, and reads back what it made of it.
func (a *Agent) load(t *Told) error {
	if t.Plan == nil && t.Release != 0 {
		return errors.New("it has no plan: another version of the program kept it")
	}
	before, _ := a.Kernel.Read() // of what cannot be read, the counts are lost
	if err := a.Kernel.Hold(t.Plan, t.Mode == "observe"); err != nil {
		return err
	}
	count(a.base, before.Lines)
	held, err := a.Kernel.Read()
	if a.want = wantingOf(t.Plan, held); err != nil { // it holds it all the same; look takes what it finds first
		a.Log.Error("what the kernel holds cannot be read", "error", err)
		a.want = nil
	}
	a.holds(t)
	return nil
}

// holds notes what is held from now on.
func (a *Agent) holds(t *Told) {
	a.told = t
	a.have.Store(&t.ID)
	a.mode.Store(t.Mode)
	s := &a.said
	s.ID, s.Release, s.Mode, s.Estate = t.ID, t.Release, t.Mode, t.Estate
	if s.State != "drifted" {
		s.State, s.Words = "holds", ""
	}
	if t.Mode == "enforce" && t.Plan != nil {
		select {
		case <-a.ending: // of an older plan
		default:
		}
		a.ending <- t.Plan.Decider()
	}
}

// count adds the packets of lines to those of each.
func count(sum map[Line]int64, lines []Line) {
	for _, l := range lines {
		n := l.Packets
		l.Packets = 0
		sum[l] += n
	}
}

// take applies what the server tells, and reports when there is something to say of it.
func (a *Agent) take(t Told) when {
	if t.ID == a.refused || t.kind() == a.lost {
		a.have.Store(&t.ID) // it is not told again and again
		return later
	}
	back := a.refused != "" || a.lost != "" // from what it could not hold
	a.refused, a.lost = "", ""
	if a.told != nil && a.told.ID == t.ID && t.From == "" {
		a.told.PutsBack = t.PutsBack
		if back {
			a.holds(a.told)
			return atOnce
		}
		return later
	}
	if t.From != "" {
		var err error
		if t.Plan != nil {
			err = a.fill(&t)
		} else if err = a.move(&t); err == nil {
			return soon
		}
		if err != nil { // such as for an element that somebody deleted: the whole plan takes its place
			a.Log.Warn("addresses cannot be moved", "error", err)
			t.From, t.Moves = "", nil
		}
	}
	if t.Plan == nil && t.Release != 0 {
		a.have.Store(nil) // all of it is asked for
		return later
	}
	was, drifted := cmp.Or(a.told, &Nothing), ""
	if a.said.State == "drifted" {
		drifted = a.said.Words
	}
	a.said.State = "holds"
	if err := a.load(&t); err != nil {
		a.refused = t.ID
		a.have.Store(&t.ID)
		a.said.State, a.said.Words = "refused", err.Error()
		a.happened("refused", err.Error())
		return atOnce
	}
	if drifted != "" {
		a.happened("put back", "with another plan what is released is held again; "+drifted)
	}
	if was.Release != t.Release || was.Mode != t.Mode {
		a.happened("applied", describe(&t))
	}
	switch {
	case a.former != nil: // still on trial: the way back leads to what was proved last
	case was.kind() == t.kind():
		a.keepOrSay(&t)
	default:
		a.former, a.until = was, time.Now().Add(a.WayBack)
	}
	return atOnce
}

// leadOn gives the plan that is held, if what was told leads on from it.
func (a *Agent) leadOn(t *Told) (*plan.Plan, error) {
	if a.told == nil || a.told.ID != t.From || a.told.Plan == nil {
		return nil, fmt.Errorf("they lead on from %s, which is not held", t.From)
	}
	return a.told.Plan, nil
}

// fill makes a short plan a whole one; if it cannot, t has none.
func (a *Agent) fill(t *Told) error {
	short := t.Plan
	t.Plan = nil
	next, err := a.leadOn(t)
	if err == nil {
		next, err = short.Filled(next)
	}
	for _, m := range t.Moves {
		if err == nil {
			next, err = next.Moved(m)
		}
	}
	if err == nil && next.RulesHash() != t.Rules {
		err = errors.New("they lead to other rules")
	}
	if err == nil {
		t.Plan, t.From, t.Moves = next, "", nil
	}
	return err
}

// move lets addresses come and go. If the kernel does not take that, t gets the whole
// plan that it leads to, as far as that is known.
func (a *Agent) move(t *Told) error {
	held, err := a.leadOn(t)
	if err != nil {
		return err
	}
	next := held
	for _, m := range t.Moves {
		if next, err = next.Moved(m); err != nil {
			return err
		}
	}
	if next.RulesHash() != held.RulesHash() {
		return errors.New("they lead to other rules")
	}
	t.Plan = next
	if err := a.Kernel.Move(held, next); err != nil {
		return err
	}
	if a.want != nil {
		a.want.moved = next
	}
	t.From, t.Moves = "", nil
	a.holds(t)
	a.unkept = true
	return nil
}

func describe(t *Told) string {
	if t.Release == 0 {
		return "nothing is held"
	}
	return fmt.Sprintf("release %d, %s", t.Release, t.Mode)
}

func (a *Agent) keepOrSay(t *Told) {
	a.unkept = false
	if err := a.keep(t); err != nil {
		a.Log.Error("what is held cannot be kept for a restart", "error", err)
		a.said.Words = "what is held cannot be kept for a restart: " + err.Error()
	}
}

// goBack puts the former plan back, as the server cannot be reached since.
func (a *Agent) goBack() {
	lost, to := a.told, a.former
	a.former = nil
	a.lost = lost.kind()
	a.said.State = "holds"
	if err := a.load(to); err != nil {
		a.happened("refused", "the former plan cannot be put back: "+err.Error())
		return
	}
	a.have.Store(&lost.ID) // else it would be told at once again
	a.said.State = "went back"
	a.said.Words = fmt.Sprintf("after %s the server could not be reached for %s", describe(lost), a.WayBack)
	a.happened("went back", a.said.Words)
}

// look reads back what the kernel holds, and reports whether there is something new to
// say.
func (a *Agent) look() bool {
	if a.told == nil {
		return false
	}
	held, err := a.Kernel.Read()
	if err != nil {
		a.Log.Error("what the kernel holds cannot be read", "error", err)
		return false
	}
	if a.want == nil {
		a.want = wantingOf(a.told.Plan, held)
	}
	words := a.want.drift(&held)
	switch {
	case words == "" && a.said.State == "drifted":
		a.said.State, a.said.Words = "holds", ""
		return true
	case words == "":
		return false
	case a.told.PutsBack:
		a.happened("drifted", words)
		a.said.State = "holds"
		if err := a.load(a.told); err != nil {
			a.said.State, a.said.Words = "drifted", words+"; it cannot be put back: "+err.Error()
			return true
		}
		a.happened("put back", "what was released is held again")
		return true
	case a.said.State == "drifted" && a.said.Words == words:
		return false
	}
	a.said.State, a.said.Words = "drifted", words
	a.happened("drifted", words)
	return true
}

// mostEvents is how many events are kept for a server that cannot be told.
const mostEvents = 1000

func (a *Agent) happened(what, words string) {
	a.Log.Info(what, "words", words)
	if len(a.said.Events) >= mostEvents {
		a.said.Events = a.said.Events[1:]
	}
	a.said.Events = append(a.said.Events, Event{time.Now().UTC(), what, words, a.said.Release, a.said.Mode})
}

// say tells the server what is held. That it was told is the proof that it can be
// reached: the way back is closed then.
func (a *Agent) say(ctx context.Context) {
	if held, err := a.Kernel.Read(); err == nil {
		sum := maps.Clone(a.base)
		count(sum, held.Lines)
		a.said.Lines = a.said.Lines[:0]
		for l, n := range sum {
			l.Packets = n
			a.said.Lines = append(a.said.Lines, l)
		}
		a.said.Lately = a.recent.add(time.Now(), a.said.Lines, a.reported.Load())
		slices.SortFunc(a.said.Lines, func(x, y Line) int {
			return cmp.Or(cmp.Compare(x.Line, y.Line), strings.Compare(x.Verdict, y.Verdict))
		})
	}
	body, err := json.Marshal(a.said)
	if err != nil {
		return
	}
	soon, cancel := context.WithTimeout(ctx, min(a.Beat, a.WayBack/2))
	defer cancel()
	with := a.Client
	if a.former != nil { // connections that run go on; only a new one proves that the server can be reached
		fresh := http.DefaultTransport.(*http.Transport).Clone()
		if own, ok := a.Client.Transport.(*http.Transport); ok {
			fresh = own.Clone()
		}
		fresh.DisableKeepAlives = true
		with = &http.Client{Transport: fresh}
	}
	if err := a.ask(soon, with, http.MethodPost, "/api/v1/point/said", "application/json", true, bytes.NewReader(body), nil); err != nil {
		if ctx.Err() == nil {
			a.Log.Warn("the server cannot be told", "error", err)
		}
		return
	}
	a.said.Events = nil
	if a.former != nil {
		a.former = nil
		a.keepOrSay(a.told)
	}
}

// telling is what was told; taken is closed when it was dealt with.
type telling struct {
	Told
	taken chan struct{}
}

// listen asks for what is to be held, again and again.
func (a *Agent) listen(ctx context.Context, next chan<- telling) {
	wait := time.Second
	for ctx.Err() == nil {
		have := ""
		if id := a.have.Load(); id != nil {
			have = *id
		}
		var t Told
		soon, cancel := context.WithTimeout(ctx, time.Minute)
		err := a.ask(soon, a.Client, http.MethodGet, "/api/v1/point/told?have="+url.QueryEscape(have), "", have != "", nil, &t)
		cancel()
		if err != nil {
			select {
			case <-ctx.Done():
			case <-time.After(wait/2 + rand.N(wait)): // not all points at once
			}
			wait = min(2*wait, 4*time.Second)
			continue
		}
		wait = time.Second
		taken := make(chan struct{})
		select {
		case next <- telling{t, taken}:
		case <-ctx.Done():
			return
		}
		select {
		case <-taken:
		case <-ctx.Done():
		}
	}
}

func (a *Agent) ask(ctx context.Context, with *http.Client, method, path, kind string, small bool, body io.Reader, into any) error {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.Server, "/")+path, body)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+a.Token)
	if small { // to pack it takes longer than to send it
		r.Header.Set("Accept-Encoding", "identity")
	}
	if body != nil {
		r.Header.Set("Content-Type", kind)
	}
	answer, err := with.Do(r)
	if err != nil {
		return err
	}
	defer answer.Body.Close()
	if answer.StatusCode/100 != 2 {
		text, _ := io.ReadAll(io.LimitReader(answer.Body, 2000))
		return fmt.Errorf("the server answers %s: %s", answer.Status, text)
	}
	if into == nil {
		return nil
	}
	return json.NewDecoder(answer.Body).Decode(into)
}
