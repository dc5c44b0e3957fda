package rest

import (
	"time"

	"lucidorchard/watching"
)

// Destination is where messages go.
type Destination struct {
	Name    string     `json:"name"`
	Kind    string     `json:"kind" enum:"syslog,webhook,mail"`
	Author  string     `json:"author"`
	At      time.Time  `json:"at"`
	Sent    *time.Time `json:"sent,omitempty" doc:"When it took a message last"`
	Failing *time.Time `json:"failing,omitempty" doc:"Since when it takes none"`
	Problem string     `json:"problem,omitempty" doc:"Why"`
	Waiting int        `json:"waiting" doc:"Messages that it has not taken yet"`
	Refused int        `json:"refused" doc:"Messages that it refused again and again, while it took others: they are set aside"`
	Refusal string     `json:"refusal,omitempty" doc:"Why it refused the last of them"`
}

// Matter is everything of one kind by one who to one what, over time.
type Matter struct {
	ID       string     `json:"id"`
	Kind     string     `json:"kind"`
	Why      string     `json:"why"`
	State    string     `json:"state" enum:"new,seen,with,settled"`
	Holder   string     `json:"holder,omitempty" doc:"With whom it is"`
	Note     string     `json:"note,omitempty"`
	Again    *time.Time `json:"again,omitempty" doc:"It opens again then"`
	Author   string     `json:"author,omitempty" doc:"Of the state"`
	Changed  time.Time  `json:"changed" doc:"The state"`
	First    time.Time  `json:"first"`
	Last     time.Time  `json:"last"`
	Opened   time.Time  `json:"opened" doc:"When it was new, the last time"`
	Standing bool       `json:"standing" doc:"It is so until it is over; else it is what was seen on days"`
	Ended    *time.Time `json:"ended,omitempty"`
}

// MatterDay is what was seen of a matter on a day (UTC).
type MatterDay struct {
	Day           time.Time `json:"day"`
	Conversations int64     `json:"conversations"`
	Connections   int64     `json:"connections"`
	Clients       int64     `json:"clients"`
	Servers       int64     `json:"servers"`
	Hours         []int64   `json:"hours" doc:"Connections in each hour of the day"`
	Carried       []int64   `json:"carried" doc:"Of them, those that were carried"`
	Dropped       []int64   `json:"dropped" doc:"Of them, those that were dropped; of the rest it is not known"`
	First         time.Time `json:"first"`
	Last          time.Time `json:"last"`
}

// MatterWord is something that was done with a matter.
type MatterWord struct {
	At     time.Time `json:"at"`
	Author string    `json:"author" doc:"Blank: it did so by itself"`
	Words  string    `json:"words"`
}

// Notice is an order to notify: of what, when, and whom.
type Notice struct {
	ID     int64      `json:"id"`
	Kinds  []string   `json:"kinds" doc:"Of matters; none: any"`
	Who    string     `json:"who,omitempty" doc:"An expression that a client agrees with"`
	What   string     `json:"what,omitempty" doc:"An expression that a server agrees with"`
	Matter string     `json:"matter,omitempty" doc:"Just this one, by its id"`
	Filter string     `json:"filter,omitempty" doc:"Of whatever traffic this filter of the ledger selects, as it stands in an address; then it is of no matters"`
	Pace   string     `json:"pace" enum:"at once,hourly,daily"`
	To     []string   `json:"to" doc:"Destinations"`
	From   *int       `json:"quietFrom,omitempty" minimum:"0" maximum:"1439" doc:"Minute of the day, UTC, from which on nothing is sent"`
	Until  *int       `json:"quietUntil,omitempty" minimum:"0" maximum:"1439" doc:"Minute of the day, UTC, until which nothing is sent"`
	Ends   *time.Time `json:"ends,omitempty"`
	Paused bool       `json:"paused"`
	Author string     `json:"author"`
	At     time.Time  `json:"at"`
	Fired  *time.Time `json:"fired,omitempty" doc:"Time of the last message"`
}

func newDestination(d watching.Destination) Destination {
	return Destination{d.Name, d.Kind, d.Author, d.At, d.Sent, d.Failing, d.Problem, d.Waiting, d.Refused, d.Refusal}
}

func newNotice(n watching.Notice) Notice {
	return Notice(n)
}

func newMatter(m *watching.Matter) Matter {
	return Matter{ID: m.ID, Kind: m.Kind, Why: m.Why, State: m.State, Holder: m.Holder, Note: m.Note, Again: m.Again,
		Author: m.Author, Changed: m.Changed, First: m.First, Last: m.Last, Opened: m.Opened, Standing: m.Standing,
		Ended: m.Ended}
}

func newMatterDay(d watching.MatterDay) MatterDay {
	return MatterDay{d.Day, d.Conversations, d.Connections, d.Clients, d.Servers, d.Hours, d.Carried, d.Dropped,
		d.First, d.Last}
}
