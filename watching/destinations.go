package watching

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/plural"
	"lucidorchard/notify"
	"lucidorchard/refuse"
)

// Destination is where messages go.
type Destination struct {
	Name     string          `db:"name"`
	Kind     string          `db:"kind"`
	Settings json.RawMessage `db:"settings"` // of notify.Settings
	Author   string          `db:"author"`
	At       time.Time       `db:"at"`
	Sent     *time.Time      `db:"sent"`
	Failing  *time.Time      `db:"failing"`
	Problem  string          `db:"problem"`
	Waiting  int             `db:"waiting"`
	Refused  int             `db:"refused"`
	Refusal  string          `db:"refusal"`
}

// mostDestinations is how many destinations there may be: each is sent to by itself.
const mostDestinations = 200

// PutDestination keeps a destination. Secrets that are left out stay what they were.
func (a *Service) PutDestination(ctx context.Context, name string, s notify.Settings) error {
	if name = strings.TrimSpace(name); name == "" {
		return refuse.Invalid("name: found nothing, expected a name for the destination; nothing was changed")
	}
	all, err := a.Store.Destinations(ctx)
	if err != nil {
		return err
	}
	for _, d := range all {
		if d.Name != name {
			continue
		}
		var was notify.Settings
		if err := json.Unmarshal(d.Settings, &was); err != nil {
			return err
		}
		if s.Secret == "" {
			s.Secret = was.Secret
		}
		if s.Password == "" && s.User == was.User && was.Password != "" {
			if s.Address != was.Address { // or it could be sent to whoever wants to have it
				return refuse.Invalid(
					"password: enter the password again, because the address changed; nothing was changed")
			}
			s.Password = was.Password
		}
	}
	if err := cmp.Or(s.Check(), s.Within(a.Reach)); err != nil {
		return refuse.Invalid(err.Error() + "; nothing was changed")
	}
	if len(all) >= mostDestinations && !slices.ContainsFunc(all, func(d Destination) bool { return d.Name == name }) {
		return refuse.Conflict(fmt.Sprintf("there are %d destinations, the most there may be; nothing was changed",
			len(all)))
	}
	if err := a.Store.PutDestination(ctx, name, s, a.Author); err != nil {
		return err
	}
	if err := a.Store.HurryDestination(ctx, name); err != nil {
		return err
	}
	a.Events.MattersChanged()
	return nil
}

// DropDestination forgets one.
func (a *Service) DropDestination(ctx context.Context, name string) error {
	found, err := a.Store.DropDestination(ctx, name)
	if err == nil && !found {
		return refuse.Missing("there is no destination " + name)
	}
	a.Events.MattersChanged()
	return err
}

// Trial sends a message to a destination, as any other is sent.
func (a *Service) Trial(ctx context.Context, name string) error {
	if _, err := (outbox{a}).sender(ctx, name); err != nil {
		return refuse.Missing("there is no destination " + name)
	}
	now := time.Now().UTC()
	m := notify.Message{ID: rand.Text(), At: now, Kind: "trial", Title: "A test message of Lucid Orchard: " + name +
		" accepts messages", Times: 1, First: now, Last: now}
	err := a.Store.Tell(ctx, []Telling{{Destination: name, Message: m, Due: now}})
	if err == nil {
		a.hurrySending()
		a.Events.MattersChanged()
	}
	return err
}

func (a *Service) lookAtDestinations(ctx context.Context, all *matters, now time.Time) error {
	list, err := a.Store.Destinations(ctx)
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.Failing != nil && now.Sub(*d.Failing) > destinationSilence {
			all.add(destinationMatter, d.Name, *d.Failing, About{Text: d.Name}, d.Problem, strong(d.Name),
				plain(" accepts no messages; they are queued"))
		}
		if d.Refused > 0 {
			all.add(destinationMatter, d.Name+" refuses", d.At, About{Text: d.Name}, d.Refusal, strong(d.Name),
				plain(" refused "+plural.Of(d.Refused, "message")+"; they are no longer retried"))
		}
	}
	return nil
}
