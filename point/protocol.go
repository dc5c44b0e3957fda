// Package point is an enforcement point: it asks its server what to hold, holds it,
// and says what it holds. What applies a plan is a Kernel: nftables on a Linux
// machine, or a stand-in that only remembers.
//
// A plan is applied as a whole or not at all. After one with other rules, a point
// that cannot reach its server puts the former one back by itself; one that starts
// without its server applies the last from its disk; one that is changed by hand
// says so, and puts it back if it is set to.
//
// It must not know of policies, databases or screens. Start reading at Agent.
package point

import (
	"fmt"
	"net/netip"
	"time"

	"lucidorchard/core/plan"
)

// Told is what a server tells a point to hold: a plan, or what moves since the one
// that it has. Where the rules are others, it may be the new plan without the sets that
// the point has already.
type Told struct {
	ID       string       `json:"id" doc:"The same as long as it is to hold the same"`
	Release  int          `json:"release" doc:"0: nothing is to be held"`
	Mode     string       `json:"mode" enum:"off,observe,enforce"`
	Rules    string       `json:"rules" doc:"The same as long as only addresses come and go"`
	Again    int          `json:"again" doc:"How often it was told the same anew: what lost the server is then tried once more"`
	PutsBack bool         `json:"putsBack"`
	Estate   int64        `json:"estate" doc:"Version of the estate that it was made from"`
	From     string       `json:"from,omitempty" doc:"The id of what Moves lead on from, and Plan is short for; blank: Plan is all of it"`
	Plan     *plan.Plan   `json:"plan,omitempty"`
	Moves    []plan.Moves `json:"moves,omitempty" doc:"One after the other"`
}

// Nothing is what a point is told that is to hold nothing.
var Nothing = Told{ID: "nothing", Mode: "off", Rules: "none"}

// kind is the same for plans between which only addresses come and go.
func (t *Told) kind() string { return fmt.Sprint(t.Release, " ", t.Mode, " ", t.Rules, " ", t.Again) }

// Said is what a point says that it holds.
type Said struct {
	ID      string  `json:"id" doc:"Of what it holds; blank: nothing"`
	Release int     `json:"release"`
	Mode    string  `json:"mode" enum:"off,observe,enforce"`
	Estate  int64   `json:"estate" doc:"Version of the estate that it holds"`
	State   string  `json:"state" enum:"holds,refused,drifted,went back"`
	Words   string  `json:"words,omitempty" doc:"Of what is not as it should be"`
	Lines   []Line  `json:"lines,omitempty"`
	Lately  Lately  `json:"lately"`
	Way     *Way    `json:"way,omitempty" doc:"The connection by which it said so, as the server saw it"`
	Events  []Event `json:"events,omitempty" doc:"What happened since it was heard of last"`
}

// Line counts what the rules of one statement of the policy did with packets that
// begin conversations.
type Line struct {
	Line    int    `json:"line" doc:"0: no rule"`
	Verdict string `json:"verdict" enum:"permit,reject,uncovered"`
	Packets int64  `json:"packets"`
}

// Lately is the first packets of conversations of the last minute, by what the rules
// say of them.
type Lately struct {
	Seconds   float64 `json:"seconds" doc:"Of the time that is counted: a minute, or less at first"`
	Permit    int64   `json:"permit"`
	Reject    int64   `json:"reject"`
	Uncovered int64   `json:"uncovered"`
	Reported  int64   `json:"reported" doc:"Of those that were rejected or uncovered: on record one by one. The others were too many at once"`
}

// Way is a connection of a point to its server, by the ends that the server sees.
type Way struct {
	From netip.Addr     `json:"from"`
	To   netip.AddrPort `json:"to"`
}

// Event is something that happened at a point.
type Event struct {
	At    time.Time `json:"at"`
	What  string    `json:"what" doc:"applied, refused, drifted, put back, went back, ended"`
	Words string    `json:"words"`
	// What is held since.
	Release int    `json:"release"`
	Mode    string `json:"mode"`
}
