// Package watching is what somebody relies on at night: matters, what people say of them, and
// the notices that tell of them.
//
// It must not know HTTP or SQL.
package watching

import (
	"encoding/json"
	"maps"
	"time"

	"lucidorchard/core/flow"
	"lucidorchard/core/watch"
	"lucidorchard/database"
)

// Matter is everything of one kind by one who to one what, over time.
type Matter struct {
	ID    string          `db:"id"`
	Kind  string          `db:"kind"`
	Title json.RawMessage `db:"title"` // of []watch.Piece
	Why   string          `db:"why"`
	About json.RawMessage `db:"about"` // of About

	State    string     `db:"state"`
	Holder   string     `db:"holder"`
	Note     string     `db:"note"`
	Again    *time.Time `db:"again"`
	Author   string     `db:"author"`
	Changed  time.Time  `db:"changed"`
	First    time.Time  `db:"first"`
	Last     time.Time  `db:"last"`
	Opened   time.Time  `db:"opened"`
	Standing bool       `db:"standing"`
	Ended    *time.Time `db:"ended"`
}

// About is the subject of a matter.
type About struct {
	Who      *watch.Side `json:"who,omitempty"`
	What     *watch.Side `json:"what,omitempty"`
	Scan     bool        `json:"scan,omitempty" doc:"One client that tries many"`
	Point    string      `json:"point,omitempty" doc:"An enforcement point"`
	Exporter string      `json:"exporter,omitempty" doc:"Its address"`
	Line     int         `json:"line,omitempty" doc:"Of the rule that decides"`
	Release  int         `json:"release,omitempty" doc:"By which it was judged; none: the draft"`
	Group    string      `json:"group,omitempty"`
	Workload string      `json:"workload,omitempty" doc:"Its id"`
	Text     string      `json:"text,omitempty" doc:"An assertion, or a rule"`
}

// MatterDay is what was seen of a matter on a day (UTC).
type MatterDay struct {
	Matter        string    `db:"matter"`
	Day           time.Time `db:"day"`
	Conversations int64     `db:"conversations"`
	Connections   int64     `db:"connections"`
	Clients       int64     `db:"clients"`
	Servers       int64     `db:"servers"`
	Hours         []int64   `db:"hours"`
	Carried       []int64   `db:"carried"`
	Dropped       []int64   `db:"dropped"`
	First         time.Time `db:"first"`
	Last          time.Time `db:"last"`
}

// WatchedDay is all that a day makes.
type WatchedDay struct {
	Day     time.Time
	Stamp   string            // of what it was made from
	Of      database.Versions // that all of it was made from, at least
	Newest  int64             // version of the conversations that some of it was made from
	Matters []Matter
	Days    []MatterDay // of each of them
	Hours   map[flow.Hour]*watch.Hour
	Callers map[watch.Caller]time.Time
	Tell    []Telling // of matters that have grown
	Asked   []Asked   // of notices of traffic
}

// Opening is a matter that is new, or new again.
type Opening struct {
	Matter
	Again bool // it was settled, and has grown
}

// SideKey names an end of a conversation, as it is labelled.
func SideKey(x watch.Side) string { return x.Kind + " " + x.Text }

// Callers are who reached what is watched.
type Callers struct {
	Everybody bool
	Some      map[CallerKey]bool
}

// CallerKey names a caller: both ends as SideKey names them, and the service.
type CallerKey struct {
	Who, What string
	Service   int64
}

// Silence is a caller who came every day, and does not any more.
type Silence struct {
	Who, What string // labels
	Service   int64
	Last      time.Time // day
}

// Members is who is in a group, and of whom that cannot be told: ids, in order.
type Members struct {
	Group     string   `db:"group_name"`
	In        []string `db:"members"`
	Undecided []string `db:"undecided"`
}

// MatterWord is something that was done with a matter.
type MatterWord struct {
	At     time.Time `db:"at"`
	Author string    `db:"author"`
	Words  string    `db:"words"`
}

// MatterState is what somebody says of a matter.
type MatterState struct {
	State  string
	Holder string
	Note   string
	Again  *time.Time
	Author string
	Words  string // for its log
}

// Known reports whether somebody is among them.
func (c Callers) Known(x watch.Caller) bool {
	return c.Everybody || c.Some[CallerKey{Who: SideKey(x.Who), What: SideKey(x.What), Service: int64(x.Service)}]
}

// equal reports whether they are the same.
func (c Callers) equal(o Callers) bool {
	return c.Everybody == o.Everybody && maps.Equal(c.Some, o.Some)
}
