package watching

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/model"
	"lucidorchard/notify"
	"lucidorchard/refuse"
)

// Notice is an order to notify: of what, when, and whom.
type Notice struct {
	ID     int64      `db:"id"`
	Kinds  []string   `db:"kinds"`
	Who    string     `db:"who"`
	What   string     `db:"what"`
	Matter string     `db:"matter"`
	Filter string     `db:"filter"`
	Pace   string     `db:"pace"`
	To     []string   `db:"to_"`
	From   *int       `db:"quiet_from"`
	Until  *int       `db:"quiet_until"`
	Ends   *time.Time `db:"ends"`
	Paused bool       `db:"paused"`
	Author string     `db:"author"`
	At     time.Time  `db:"at"`
	Fired  *time.Time `db:"fired"`
}

// Asked is traffic that a notice asks for, on a day.
type Asked struct {
	Notice      int64
	Traffic     string // who, to what, on which service
	Connections int64
	Tell        func() []Telling // the messages, if there is more of it than before
}

// Telling is a message for a destination, by a notice, that a matter makes if it grows.
type Telling struct {
	Notice      int64 // 0: a trial
	Destination string
	Matter      string
	Message     notify.Message
	Due         time.Time
}

// Waiting is a message that a destination has not taken yet.
type Waiting struct {
	ID          string          `db:"id"`
	Notice      *int64          `db:"notice"`
	Destination string          `db:"destination"`
	Matter      string          `db:"matter"`
	Message     json.RawMessage `db:"message"` // of notify.Message
	Times       int64           `db:"times"`
	Tries       int             `db:"tries"`
}

// Tried is what became of messages of the outbox that were sent as one.
type Tried struct {
	IDs     []string
	As      string // id of the message
	Problem string // blank: it was taken
	Refused bool   // the destination takes others, not this one
}

// destinationMatter is that a destination takes no messages.
const destinationMatter = "destination"

// MatterKinds are all that a notice may be about.
var MatterKinds = append([]string{string(watch.Leak), string(watch.Choke), string(watch.Held), string(watch.Newcomer),
	memberMatter},
	standingKinds...)

// telling is the notices that count now, with what they ask of ends.
type telling struct {
	all       []Notice // also those that do not count
	notices   []Notice
	who, what []*expr.Expr // nil: anybody
	now       time.Time
}

// notices returns those that count now.
func (a *Service) notices(ctx context.Context, now time.Time) (*telling, error) {
	all, err := a.Store.Notices(ctx)
	if err != nil {
		return nil, err
	}
	out := &telling{all: all, now: now}
	for _, n := range all {
		if n.Paused || len(n.To) == 0 || n.Ends != nil && !n.Ends.After(now) {
			continue
		}
		var ends [2]*expr.Expr
		ok := true
		for i, text := range []string{n.Who, n.What} {
			if text == "" {
				continue
			}
			e, errs := expr.ParseText(text)
			ok = ok && len(errs) == 0
			ends[i] = e
		}
		if ok {
			out.notices, out.who, out.what = append(out.notices, n), append(out.who, ends[0]), append(out.what, ends[1])
		}
	}
	return out, nil
}

// concerns reports whether a notice is about a matter, but for its ends.
func concerns(n *Notice, id, kind string) bool {
	return n.Filter == "" && (n.Matter == "" || n.Matter == id) && (len(n.Kinds) == 0 || slices.Contains(n.Kinds, kind))
}

// dueAt reports when what happens now is told.
func dueAt(n *Notice, now time.Time) time.Time {
	due := now
	switch n.Pace {
	case "hourly":
		due = now.Truncate(time.Hour).Add(time.Hour)
	case "daily":
		const morning = 8 * time.Hour
		if due = now.Truncate(24 * time.Hour).Add(morning); !due.After(now) {
			due = due.Add(24 * time.Hour)
		}
	}
	if n.From == nil || n.Until == nil || *n.From == *n.Until {
		return due
	}
	day := due.Truncate(24 * time.Hour)
	at := int(due.Sub(day).Minutes())
	from, until := *n.From, *n.Until
	switch {
	case from < until && at >= from && at < until, from > until && at < until:
		return day.Add(time.Duration(until) * time.Minute)
	case from > until && at >= from:
		return day.Add(24*time.Hour + time.Duration(until)*time.Minute)
	}
	return due
}

// message reports what a matter is.
func (a *Service) message(m *Matter) notify.Message {
	var title []watch.Piece
	var at About
	_ = json.Unmarshal(m.Title, &title) // of our own making
	_ = json.Unmarshal(m.About, &at)
	out := notify.Message{ID: rand.Text(), At: time.Now().UTC(), Kind: m.Kind, Title: watch.Plain(title), Why: m.Why,
		Line: at.Line, Release: at.Release,
		Point: at.Point, Matter: m.ID, Times: 1, First: m.First, Last: m.Last}
	if at.Who != nil {
		out.Who = at.Who.Text
	}
	if at.What != nil {
		out.What = at.What.Text
	}
	out.Verdict = map[string]string{string(watch.Leak): "reject", string(watch.Choke): "permit"}[m.Kind]
	if a.Address != "" {
		out.Link = a.Address + "/watch?matter=" + m.ID
	}
	return out
}

// tellings makes the messages of a matter, for each notice that is about it and each of
// its destinations.
func (a *Service) tellings(t *telling, m *Matter, ends func(who, what *expr.Expr) bool) (out []Telling) {
	for i := range t.notices {
		n := &t.notices[i]
		if !concerns(n, m.ID, m.Kind) || !ends(t.who[i], t.what[i]) {
			continue
		}
		for _, to := range n.To {
			out = append(out, Telling{Notice: n.ID, Destination: to, Matter: m.ID, Message: a.message(m),
				Due: dueAt(n, t.now)})
		}
	}
	return out
}

// tellingsOf is tellings for what no conversation makes.
func (a *Service) tellingsOf(t *telling) func(Matter) []Telling {
	return func(m Matter) []Telling {
		return a.tellings(t, &m, func(who, what *expr.Expr) bool { return who == nil && what == nil })
	}
}

// tellingsOfDay makes the messages of the matters of a day. What was seen before a notice
// was made, or more than a day ago, is not told.
func (a *Service) tellingsOfDay(t *telling, v *viewOfDay, day *WatchedDay, matters []watch.Matter) {
	if len(t.notices) == 0 {
		return
	}
	for i := range matters {
		x, m := &matters[i], &day.Matters[i]
		if t.now.Sub(m.Last) > 24*time.Hour {
			continue
		}
		list := a.tellings(t, m, func(who, what *expr.Expr) bool {
			return slices.ContainsFunc(x.Conversations, func(c int32) bool {
				return v.agrees(who, v.Client(int(c))) && v.agrees(what, v.Server(int(c)))
			})
		})
		carried, dropped := sumOf(day.Days[i].Carried), sumOf(day.Days[i].Dropped)
		for _, telling := range list {
			telling.Message.Carried, telling.Message.Dropped = carried, dropped
			n := slices.IndexFunc(t.notices, func(n Notice) bool { return n.ID == telling.Notice })
			if m.Last.After(t.notices[n].At) {
				day.Tell = append(day.Tell, telling)
			}
		}
	}
}

func sumOf(list []int64) (sum int64) {
	for _, n := range list {
		sum = flow.Sum(sum, n)
	}
	return sum
}

// viewOfDay answers what expressions say of the ends of a view.
type viewOfDay struct {
	*reach.View
	known map[agreed]bool
}

type agreed struct {
	e  *expr.Expr
	at decide.Placed
}

func (v *viewOfDay) agrees(e *expr.Expr, p decide.Placed) bool {
	if e == nil {
		return true
	}
	if v.known == nil {
		v.known = map[agreed]bool{}
	}
	key := agreed{e, p}
	yes, known := v.known[key]
	if !known {
		yes = e.Eval(decide.Subject(v.Compiled.Estate, p.Endpoint), func(g string) expr.Truth {
			if v.Compiled.Policy.Groups[g] == nil {
				return expr.No
			}
			return v.Compiled.Group(g, p)
		}) == expr.Yes
		v.known[key] = yes
	}
	return yes
}

const (
	// mostAtOnce is how many messages are tried with a destination at a time.
	mostAtOnce = 500
	// oneByOne is up to how many messages of a notice are sent as they are: more are one.
	oneByOne = 5
	// destinationSilence is after how long a destination that takes nothing is a matter.
	destinationSilence = time.Minute
)

// PutNotice keeps a notice; one with the id 0 is new.
func (a *Service) PutNotice(ctx context.Context, m *model.Model, n Notice) (int64, error) {
	for _, k := range n.Kinds {
		if !slices.Contains(MatterKinds, k) {
			return 0, refuse.Invalid(fmt.Sprintf("kinds: found %q, expected one of %s; nothing was changed", k,
				strings.Join(MatterKinds, ", ")))
		}
	}
	wrong, err := a.NoticeProblem(ctx, m, &n)
	if err != nil {
		return 0, err
	}
	if wrong != "" {
		return 0, refuse.Invalid(wrong + "; nothing was changed")
	}
	if n.Filter != "" && (len(n.Kinds) > 0 || n.Who != "" || n.What != "" || n.Matter != "") {
		return 0, refuse.Invalid(
			"filter: found it beside kinds, who, what or matter, expected one or the other; nothing was changed")
	}
	if (n.From == nil) != (n.Until == nil) {
		return 0, refuse.Invalid(
			"quietFrom: found only one of quietFrom and quietUntil, expected both or none; nothing was changed")
	}
	if len(n.To) == 0 {
		return 0, refuse.Invalid("to: found no destination, expected one at least; nothing was changed")
	}
	all, err := a.Store.Destinations(ctx)
	if err != nil {
		return 0, err
	}
	for _, to := range n.To {
		if !slices.ContainsFunc(all, func(d Destination) bool { return d.Name == to }) {
			return 0, refuse.Missing("there is no destination " + to + "; nothing was changed")
		}
	}
	if n.Kinds == nil {
		n.Kinds = []string{}
	}
	seen, err := a.seenOf(ctx, m, &n)
	if err != nil {
		return 0, err
	}
	n.Author = a.Author
	id, found, err := a.Store.PutNotice(ctx, n, seen)
	if err == nil && !found {
		err = refuse.Missing(fmt.Sprintf("there is no notice %d; nothing was changed", n.ID))
	}
	if err == nil {
		a.Events.MattersChanged()
	}
	return id, err
}

// DropNotice forgets one.
func (a *Service) DropNotice(ctx context.Context, id int64) error {
	found, err := a.Store.DropNotice(ctx, id)
	if err == nil && !found {
		return refuse.Missing(fmt.Sprintf("there is no notice %d", id))
	}
	a.Events.MattersChanged()
	return err
}
