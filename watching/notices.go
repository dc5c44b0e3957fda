package watching

import (
	"encoding/json"
	"time"

	"lucidorchard/notify"
)

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
