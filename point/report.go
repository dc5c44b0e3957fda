package point

import (
	"bytes"
	"context"
	"hash/fnv"
	"net/http"
	"slices"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/flow"
	"lucidorchard/core/plan"
	"lucidorchard/core/plural"
	"lucidorchard/core/service"
	"lucidorchard/ingest/wire"
)

// mostSeen is how many conversations wait to be reported; more are left out, and are
// in the counts all the same.
const mostSeen = 4096

// waiting is conversations that wait to be reported.
type waiting struct {
	mu  sync.Mutex
	all []flow.Observation
}

// See takes a conversation that was rejected, or uncovered, to be reported.
func (a *Agent) See(o flow.Observation) {
	w := &a.seen
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.all) < mostSeen {
		w.all = append(w.all, o)
	}
}

// take returns what waits, and forgets it.
func (w *waiting) take() []flow.Observation {
	w.mu.Lock()
	defer w.mu.Unlock()
	all := w.all
	w.all = nil
	return all
}

// watch listens to the kernel, as long as it speaks.
func (a *Agent) watch(ctx context.Context, changed chan<- struct{}) {
	for ctx.Err() == nil {
		err := a.Kernel.Watch(ctx, func() {
			select {
			case changed <- struct{}{}:
			default:
			}
		}, a.sees)
		if err != nil && ctx.Err() == nil {
			a.Log.Warn("the kernel cannot be listened to", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(a.Check):
		}
	}
}

// sees takes a conversation that the kernel logged. Each is reported once: what the
// rules on trial say counts only where the enforced ones permit it and so log nothing.
func (a *Agent) sees(x sight) {
	if x.Trial {
		x.Outcome = flow.Carried
		if d := a.decides.Load(); d != nil {
			verdict := d.Decide(x.Src, x.Dst, service.PointOf(x.Proto, uint32(x.DstPort)), time.Now().Unix()).Verdict
			if verdict != decide.Permit {
				return
			}
		}
	}
	a.See(x.Observation)
}

// end ends conversations that run and are rejected from now on.
func (a *Agent) end(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case d := <-a.ending:
			begun := time.Now()
			a.endBy(d)
			select {
			case <-ctx.Done():
			case <-time.After(min(restShare*time.Since(begun), 2*time.Second)):
			}
		}
	}
}

func (a *Agent) endBy(d *plan.Decider) {
	n, err := a.Kernel.End(d)
	words := ""
	switch {
	case err != nil:
		words = "running conversations that are now rejected cannot be ended: " + err.Error()
	case n > 0:
		words = plural.Of(n, "running conversation") + " ended: rejected now"
	default:
		return
	}
	select {
	case a.ended <- words:
	default:
	}
}

// unsent is messages that the server did not take, with how many conversations are in
// them. They are sent again as they are, so that the server sees what it has already.
type unsent struct {
	body          []byte
	conversations int64
}

// mostUnsent is how many of them are kept, of a second each.
const mostUnsent = 30

// backlog is the messages that the server has not taken, the oldest first.
type backlog []unsent

// keep appends a message; of more than mostUnsent, the oldest is dropped.
func (b *backlog) keep(next unsent) {
	*b = append(*b, next)
	if len(*b) > mostUnsent {
		*b = (*b)[1:]
	}
}

// report sends what was seen to the server every second, as IPFIX.
func (a *Agent) report(ctx context.Context) {
	h := fnv.New32a()
	_, _ = h.Write([]byte(a.Token))
	exporter := wire.Exporter{Domain: h.Sum32()}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var queue backlog
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if all := a.seen.take(); len(all) > 0 {
			now := flow.MicrosOf(time.Now())
			next := unsent{exporter.Templates(now), int64(len(all))}
			for part := range slices.Chunk(all, wire.RecordsPerMessage) {
				next.body = append(next.body, exporter.Message(now, part)...)
			}
			queue.keep(next)
		}
		for len(queue) > 0 && a.sent(ctx, queue[0].body) {
			a.reported.Add(queue[0].conversations)
			queue = queue[1:]
		}
	}
}

// sent reports whether the server took messages.
func (a *Agent) sent(ctx context.Context, body []byte) bool {
	soon, cancel := context.WithTimeout(ctx, a.Beat)
	defer cancel()
	err := a.ask(soon, a.Client, http.MethodPost, "/api/v1/point/seen", "application/octet-stream", true,
		bytes.NewReader(body), nil)
	if err != nil && ctx.Err() == nil {
		a.Log.Warn("conversations cannot be reported", "error", err)
	}
	return err == nil
}
