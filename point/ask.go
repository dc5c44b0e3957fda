package point

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"net/url"
	"strings"
	"time"
)

// say reports what is loaded. A successful report proves that the server is reachable.
func (a *Agent) say(ctx context.Context) {
	a.said.Lines = a.lines
	a.said.Lately = a.recent.add(time.Now(), a.decidingLines(), a.reported.Load())
	a.said.Read = -1
	if !a.readAt.IsZero() {
		a.said.Read = time.Since(a.readAt).Seconds()
	}
	body, err := json.Marshal(a.said)
	if err != nil {
		return
	}
	soon, cancel := context.WithTimeout(ctx, min(a.Beat, a.RollbackAfter/2))
	defer cancel()
	with := a.Client
	// running connections go on; only a new one proves that the server can be reached
	if a.former != nil && !a.reached {
		fresh := http.DefaultTransport.(*http.Transport).Clone()
		if own, ok := a.Client.Transport.(*http.Transport); ok {
			fresh = own.Clone()
		}
		fresh.DisableKeepAlives = true
		with = &http.Client{Transport: fresh}
	}
	if err := a.ask(soon, with, http.MethodPost, "/api/v1/point/said", "application/json", true, bytes.NewReader(body),
		nil); err != nil {
		if ctx.Err() == nil {
			a.Log.Warn("the server cannot be reached", "error", err)
		}
		return
	}
	a.said.Events = nil
	a.reached = true
	a.settle()
}

// decidingLines returns the counts of the release that decides.
func (a *Agent) decidingLines() (out []Line) {
	if a.told == nil {
		return nil
	}
	release, _ := a.told.Runs().Deciding()
	for _, l := range a.lines {
		if l.Release == release {
			out = append(out, l)
		}
	}
	return out
}

// telling is what was told; taken is closed when it was dealt with.
type telling struct {
	Instructions
	taken chan struct{}
}

// listen asks for what is to be loaded, again and again.
func (a *Agent) listen(ctx context.Context, next chan<- telling) {
	wait := time.Second
	for ctx.Err() == nil {
		have := ""
		if id := a.have.Load(); id != nil {
			have = *id
		}
		var t Instructions
		soon, cancel := context.WithTimeout(ctx, time.Minute)
		err := a.ask(soon, a.Client, http.MethodGet, "/api/v1/point/told?have="+url.QueryEscape(have), "", have != "",
			nil, &t)
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

// ask sends a request with the point's token, and reads the answer into into.
func (a *Agent) ask(ctx context.Context, with *http.Client, method, path, kind string, small bool, body io.Reader,
	into any) error {
	r, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(a.Server, "/")+path, body)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+a.Token)
	r.Header.Set("Orchard-Run", a.said.Run)
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
