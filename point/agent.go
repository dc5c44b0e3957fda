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
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
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

	told    *Told             // what it holds; nil: nothing
	former  *Told             // what it held before that, as long as the way back is open
	until   time.Time         // when the way back is taken
	want    map[string]string // what the kernel should hold
	base    map[Line]int64    // counted by what was loaded before
	said    Said
	refused string // id of what the kernel did not take: it is not tried again
	lost    string // kind of what lost the server: neither is that, also where only addresses have moved
}

// Run holds what the server tells until the context ends. What is held then stays.
func (a *Agent) Run(ctx context.Context) error {
	a.WayBack, a.Check = cmp.Or(a.WayBack, 30*time.Second), cmp.Or(a.Check, 10*time.Second)
	a.Beat = min(cmp.Or(a.Beat, 5*time.Second), a.WayBack/4)
	if a.Client == nil {
		a.Client = &http.Client{}
	}
	a.base = map[Line]int64{}
	a.said = Said{State: "holds", Mode: "off"}
	a.recall()
	next := make(chan Told)
	go a.listen(ctx, next)
	check, beat := time.NewTicker(a.Check), time.NewTicker(a.Beat)
	defer check.Stop()
	defer beat.Stop()
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
			a.take(t)
			a.say(ctx)
		case <-check.C:
			if a.look() {
				a.say(ctx)
			}
		case <-beat.C:
			a.say(ctx)
		case <-back.C:
			if a.former != nil && !time.Now().Before(a.until) {
				a.goBack()
			}
		}
	}
}

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
	before, _ := a.Kernel.Read() // of what cannot be read, the counts are lost
	if err := a.Kernel.Load(t.Script); err != nil {
		return err
	}
	count(a.base, before.Lines)
	a.told = t
	a.said.ID, a.said.Release, a.said.Mode, a.said.State, a.said.Words = t.ID, t.Release, t.Mode, "holds", ""
	held, err := a.Kernel.Read()
	if a.want = held.Parts; err != nil { // it holds it all the same; look takes what it finds first
		a.Log.Error("what the kernel holds cannot be read", "error", err)
	}
	return nil
}

// count adds the packets of lines to those of each.
func count(sum map[Line]int64, lines []Line) {
	for _, l := range lines {
		n := l.Packets
		l.Packets = 0
		sum[l] += n
	}
}

// take applies what the server tells.
func (a *Agent) take(t Told) {
	if a.told != nil && a.told.ID == t.ID {
		a.told.PutsBack = t.PutsBack
		return
	}
	if t.ID == a.refused || t.kind() == a.lost {
		return
	}
	was, drifted := cmp.Or(a.told, &Nothing), ""
	if a.said.State == "drifted" {
		drifted = a.said.Words
	}
	if err := a.load(&t); err != nil {
		a.refused = t.ID
		a.said.State, a.said.Words = "refused", err.Error()
		a.happened("refused", err.Error())
		return
	}
	a.refused, a.lost = "", ""
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
}

func describe(t *Told) string {
	if t.Release == 0 {
		return "nothing is held"
	}
	return fmt.Sprintf("release %d, %s", t.Release, t.Mode)
}

func (a *Agent) keepOrSay(t *Told) {
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
	if err := a.load(to); err != nil {
		a.happened("refused", "the former plan cannot be put back: "+err.Error())
		return
	}
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
		a.want = held.Parts
	}
	words := drift(a.want, held.Parts)
	switch {
	case words == "" && a.said.State == "drifted":
		a.said.State, a.said.Words = "holds", ""
		return true
	case words == "":
		return false
	case a.told.PutsBack:
		a.happened("drifted", words)
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

func (a *Agent) happened(what, words string) {
	a.Log.Info(what, "words", words)
	a.said.Events = append(a.said.Events, Event{time.Now().UTC(), what, words})
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
	if err := a.ask(soon, with, http.MethodPost, "/api/v1/point/said", bytes.NewReader(body), nil); err != nil {
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

// listen asks for what is to be held, again and again.
func (a *Agent) listen(ctx context.Context, next chan<- Told) {
	have, wait := "", time.Second
	for ctx.Err() == nil {
		var t Told
		soon, cancel := context.WithTimeout(ctx, time.Minute)
		err := a.ask(soon, a.Client, http.MethodGet, "/api/v1/point/told?have="+url.QueryEscape(have), nil, &t)
		cancel()
		if err != nil {
			select {
			case <-ctx.Done():
			case <-time.After(wait):
			}
			wait = min(2*wait, 10*time.Second)
			continue
		}
		wait = time.Second
		if have == t.ID {
			continue
		}
		select {
		case next <- t:
			have = t.ID
		case <-ctx.Done():
		}
	}
}

func (a *Agent) ask(ctx context.Context, with *http.Client, method, path string, body io.Reader, into any) error {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.Server, "/")+path, body)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+a.Token)
	if body != nil {
		r.Header.Set("Content-Type", "application/json")
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
