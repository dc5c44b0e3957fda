package watching

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"sync"
	"time"

	"lucidorchard/notify"
)

// outbox sends the messages that wait.
type outbox struct{ *Service }

// sendLook is how often what is due is looked for.
const sendLook = 300 * time.Millisecond

// sendNotices sends what is due, until ctx ends, to each destination beside the others:
// one that hangs holds up nobody. Several servers may: each message is claimed by one of
// them for a while.
func (a outbox) sendNotices(ctx context.Context) {
	var sending sync.WaitGroup
	defer sending.Wait()
	var busy sync.Map // destination → it is sent to
	tick := time.NewTicker(sendLook)
	defer tick.Stop()
	clean := time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-a.told:
		}
		due, err := a.Store.Due(ctx)
		if err != nil {
			continue // the database is away: the next tick asks again
		}
		for _, to := range due {
			if _, already := busy.LoadOrStore(to, true); !already {
				sending.Go(func() {
					defer busy.Delete(to)
					a.sendAll(ctx, to)
				})
			}
		}
		if time.Since(clean) > time.Minute {
			clean = time.Now()
			if err := a.Store.DropSent(ctx, mostDropped); err != nil && ctx.Err() == nil {
				a.Log.Warn("messages that were sent long ago cannot be dropped", "error", err)
			}
		}
	}
}

// mostDropped is how many old messages are dropped at a time.
const mostDropped = 10_000

// sendAll sends what is due to a destination.
func (a outbox) sendAll(ctx context.Context, to string) {
	for ctx.Err() == nil {
		claimed, err := a.Store.Claim(ctx, to, mostAtOnce)
		if err != nil || len(claimed) == 0 {
			return
		}
		a.send(ctx, to, claimed)
	}
}

// hurrySending makes what is due be looked for at once.
func (a *Service) hurrySending() {
	select {
	case a.told <- struct{}{}:
	default:
	}
}

// parcel is a message with those of the outbox that are in it.
type parcel struct {
	notify.Message
	ids []string
}

// send sends what was claimed for a destination.
func (a outbox) send(ctx context.Context, to string, claimed []Waiting) {
	tried, err := a.trySending(ctx, to, claimed)
	if err != nil {
		tried = make([]Tried, len(claimed))
		for i := range claimed {
			tried[i] = Tried{IDs: []string{claimed[i].ID}, Problem: err.Error()}
		}
	}
	if ctx.Err() != nil { // what was not taken then is no fault of the destination
		tried = slices.DeleteFunc(tried, func(t Tried) bool { return t.Problem != "" })
	}
	settle := context.WithoutCancel(ctx) // what became of it is noted also at the end
	if err := a.Store.Settle(settle, to, tried); err != nil {
		a.Log.Warn("the outcome of messages cannot be stored; they will be sent again", "destination", to, "error", err)
	}
	a.Events.MattersChanged()
}

func (a outbox) trySending(ctx context.Context, to string, claimed []Waiting) ([]Tried, error) {
	sender, err := a.sender(ctx, to)
	if err != nil {
		return nil, err
	}
	parcels, err := parcelsOf(claimed)
	if err != nil {
		return nil, err
	}
	list := make([]notify.Message, len(parcels))
	for i := range parcels {
		list[i] = parcels[i].Message
	}
	tried := make([]Tried, len(parcels))
	for i, err := range sender.Send(ctx, list) {
		tried[i] = Tried{IDs: parcels[i].ids, As: parcels[i].ID}
		var refused *notify.RefusedError
		if err != nil {
			tried[i].Problem, tried[i].Refused = err.Error(), errors.As(err, &refused)
		}
	}
	return tried, nil
}

// parcelsOf makes messages of what was claimed: what came by one notice is one message if
// it is many.
func parcelsOf(claimed []Waiting) ([]parcel, error) {
	var order []int64
	by := map[int64][]parcel{}
	for _, c := range claimed {
		var m notify.Message
		if err := json.Unmarshal(c.Message, &m); err != nil {
			return nil, fmt.Errorf("a message that waits cannot be read: %w", err)
		}
		m.ID, m.Times = c.ID, max(1, c.Times)
		notice := int64(0)
		if c.Notice != nil {
			notice = *c.Notice
		}
		if by[notice] == nil {
			order = append(order, notice)
		}
		by[notice] = append(by[notice], parcel{m, []string{c.ID}})
	}
	var out []parcel
	for _, notice := range order {
		list := by[notice]
		if notice == 0 || len(list) <= oneByOne {
			out = append(out, list...)
			continue
		}
		var ids []string
		parts := make([]notify.Message, len(list))
		for i := range list {
			parts[i], ids = list[i].Message, append(ids, list[i].ids...)
		}
		out = append(out, parcel{notify.Summary(ids[0], parts), ids})
	}
	return out, nil
}

func (a outbox) sender(ctx context.Context, name string) (*notify.Sender, error) {
	all, err := a.Store.Destinations(ctx)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(all, func(d Destination) bool { return d.Name == name })
	if i < 0 {
		return nil, fmt.Errorf("there is no destination %s any more", name)
	}
	host, err := os.Hostname()
	if err != nil {
		host = "orchard"
	}
	s := &notify.Sender{Host: host, Reach: a.Reach}
	return s, json.Unmarshal(all[i].Settings, &s.Settings)
}
