package watching

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"lucidorchard/core/decide"
	"lucidorchard/core/expr"
	"lucidorchard/core/flow"
	"lucidorchard/core/plural"
	"lucidorchard/core/reach"
	"lucidorchard/core/watch"
	"lucidorchard/model"
	"lucidorchard/notify"
	"lucidorchard/refuse"
)

// outbox sends the messages that wait.
type outbox struct{ *Service }

// Destination is where messages go.
type Destination struct {
	Name     string          `db:"name" json:"name"`
	Kind     string          `db:"kind" json:"kind" enum:"syslog,webhook,mail"`
	Settings json.RawMessage `db:"settings" json:"-"` // of notify.Settings
	Author   string          `db:"author" json:"author"`
	At       time.Time       `db:"at" json:"at"`
	Sent     *time.Time      `db:"sent" json:"sent,omitempty" doc:"When it took a message last"`
	Failing  *time.Time      `db:"failing" json:"failing,omitempty" doc:"Since when it takes none"`
	Problem  string          `db:"problem" json:"problem,omitempty" doc:"Why"`
	Waiting  int             `db:"waiting" json:"waiting" doc:"Messages that it has not taken yet"`
	Refused  int             `db:"refused" json:"refused" doc:"Messages that it refused again and again, while it took others: they are set aside"`
	Refusal  string          `db:"refusal" json:"refusal,omitempty" doc:"Why it refused the last of them"`
}

// Notice says when who is told of what.
type Notice struct {
	ID     int64      `db:"id" json:"id"`
	Kinds  []string   `db:"kinds" json:"kinds" doc:"Of matters; none: any"`
	Who    string     `db:"who" json:"who,omitempty" doc:"An expression that a client agrees with"`
	What   string     `db:"what" json:"what,omitempty" doc:"An expression that a server agrees with"`
	Matter string     `db:"matter" json:"matter,omitempty" doc:"Just this one, by its id"`
	Filter string     `db:"filter" json:"filter,omitempty" doc:"Of whatever traffic this filter of the ledger selects, as it stands in an address; then it is of no matters"`
	Pace   string     `db:"pace" json:"pace" enum:"at once,hourly,daily"`
	To     []string   `db:"to_" json:"to" doc:"Destinations"`
	From   *int       `db:"quiet_from" json:"quietFrom,omitempty" minimum:"0" maximum:"1439" doc:"Minute of the day, UTC, from which on nothing is sent"`
	Until  *int       `db:"quiet_until" json:"quietUntil,omitempty" minimum:"0" maximum:"1439" doc:"Minute of the day, UTC, until which nothing is sent"`
	Ends   *time.Time `db:"ends" json:"ends,omitempty"`
	Paused bool       `db:"paused" json:"paused"`
	Author string     `db:"author" json:"author"`
	At     time.Time  `db:"at" json:"at"`
	Fired  *time.Time `db:"fired" json:"fired,omitempty" doc:"When something was told last"`
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
var MatterKinds = append([]string{string(watch.Leak), string(watch.Choke), string(watch.Held), string(watch.Newcomer), memberMatter},
	standingKinds...)

// telling is the notices that count now, with what they ask of ends.
type telling struct {
	all       []Notice // also those that do not count
	notices   []Notice
	who, what []*expr.Expr // nil: anybody
	now       time.Time
}

// notices gives those that count now.
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

// dueAt says when what happens now is told.
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

// message says what a matter is.
func (a *Service) message(m *Matter) notify.Message {
	var title []watch.Piece
	var at About
	_ = json.Unmarshal(m.Title, &title) // of our own making
	_ = json.Unmarshal(m.About, &at)
	out := notify.Message{ID: rand.Text(), At: time.Now().UTC(), Kind: m.Kind, Title: watch.Plain(title), Why: m.Why, Line: at.Line, Release: at.Release,
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
			out = append(out, Telling{Notice: n.ID, Destination: to, Matter: m.ID, Message: a.message(m), Due: dueAt(n, t.now)})
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

// sendLook is how often what is due is looked for.
const sendLook = 300 * time.Millisecond

const (
	// mostAtOnce is how many messages are tried with a destination at a time.
	mostAtOnce = 500
	// oneByOne is up to how many messages of a notice are sent as they are: more are one.
	oneByOne = 5
	// destinationSilence is after how long a destination that takes nothing is a matter.
	destinationSilence = time.Minute
)

// sendNotices sends what is due, until the App ends, to each destination beside the others:
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
		a.Log.Warn("what became of messages cannot be noted; they will be sent again", "destination", to, "error", err)
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

// mostDestinations is how many destinations there may be: each is sent to by itself.
const mostDestinations = 200

// PutDestination keeps a destination. Secrets that are left out stay what they were.
func (a *Service) PutDestination(ctx context.Context, name string, s notify.Settings) error {
	if name = strings.TrimSpace(name); name == "" {
		return refuse.Invalid("name: found nothing, expected how the destination is called; nothing was changed")
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
				return refuse.Invalid("password: enter the password again, because the address changed; nothing was changed")
			}
			s.Password = was.Password
		}
	}
	if err := cmp.Or(s.Check(), s.Within(a.Reach)); err != nil {
		return refuse.Invalid(err.Error() + "; nothing was changed")
	}
	if len(all) >= mostDestinations && !slices.ContainsFunc(all, func(d Destination) bool { return d.Name == name }) {
		return refuse.Conflict(fmt.Sprintf("there are %d destinations, the most there may be; nothing was changed", len(all)))
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
	m := notify.Message{ID: rand.Text(), At: now, Kind: "trial", Title: "A trial of Lucid Orchard: " + name + " takes messages", Times: 1, First: now, Last: now}
	err := a.Store.Tell(ctx, []Telling{{Destination: name, Message: m, Due: now}})
	if err == nil {
		a.hurrySending()
		a.Events.MattersChanged()
	}
	return err
}

// PutNotice keeps a notice; one with the id 0 is new.
func (a *Service) PutNotice(ctx context.Context, m *model.Model, n Notice) (int64, error) {
	for _, k := range n.Kinds {
		if !slices.Contains(MatterKinds, k) {
			return 0, refuse.Invalid(fmt.Sprintf("kinds: found %q, expected one of %s; nothing was changed", k, strings.Join(MatterKinds, ", ")))
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
		return 0, refuse.Invalid("filter: found it beside kinds, who, what or matter, expected one or the other; nothing was changed")
	}
	if (n.From == nil) != (n.Until == nil) {
		return 0, refuse.Invalid("quietFrom: found only one of quietFrom and quietUntil, expected both or none; nothing was changed")
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

func (a *Service) lookAtDestinations(ctx context.Context, all *matters, now time.Time) error {
	list, err := a.Store.Destinations(ctx)
	if err != nil {
		return err
	}
	for _, d := range list {
		if d.Failing != nil && now.Sub(*d.Failing) > destinationSilence {
			all.add(destinationMatter, d.Name, *d.Failing, About{Text: d.Name}, d.Problem, strong(d.Name), plain(" takes no messages; they wait"))
		}
		if d.Refused > 0 {
			all.add(destinationMatter, d.Name+" refuses", d.At, About{Text: d.Name}, d.Refusal, strong(d.Name),
				plain(" refused "+plural.Of(d.Refused, "message")+"; they are set aside"))
		}
	}
	return nil
}
