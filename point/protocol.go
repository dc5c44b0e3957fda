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
	"time"
)

// Told is what a server tells a point to hold.
type Told struct {
	ID       string `json:"id" doc:"The same as long as it is to hold the same"`
	Release  int    `json:"release" doc:"0: nothing is to be held"`
	Mode     string `json:"mode" enum:"off,observe,enforce"`
	Rules    string `json:"rules" doc:"The same as long as only addresses come and go"`
	Script   string `json:"script" doc:"For nft -f"`
	Again    int    `json:"again" doc:"How often it was told the same anew: what lost the server is then tried once more"`
	PutsBack bool   `json:"putsBack"`
}

// Nothing is what a point is told that is to hold nothing.
var Nothing = Told{ID: "nothing", Mode: "off", Rules: "none",
	Script: "table inet lucid_orchard\ndelete table inet lucid_orchard\n"}

// kind is the same for plans between which only addresses come and go.
func (t *Told) kind() string { return fmt.Sprint(t.Release, " ", t.Mode, " ", t.Rules, " ", t.Again) }

// Said is what a point says that it holds.
type Said struct {
	ID      string  `json:"id" doc:"Of what it holds; blank: nothing"`
	Release int     `json:"release"`
	Mode    string  `json:"mode" enum:"off,observe,enforce"`
	State   string  `json:"state" enum:"holds,refused,drifted,went back"`
	Words   string  `json:"words,omitempty" doc:"Of what is not as it should be"`
	Lines   []Line  `json:"lines,omitempty"`
	Events  []Event `json:"events,omitempty" doc:"What happened since it was heard of last"`
}

// Line counts what the rules of one statement of the policy did with packets that
// begin conversations.
type Line struct {
	Line    int    `json:"line" doc:"0: no rule"`
	Verdict string `json:"verdict" enum:"permit,reject,uncovered"`
	Packets int64  `json:"packets"`
}

// Event is something that happened at a point.
type Event struct {
	At    time.Time `json:"at"`
	What  string    `json:"what" enum:"applied,refused,drifted,put back,went back"`
	Words string    `json:"words"`
}

// Held is what a kernel holds.
type Held struct {
	Parts map[string]string // name of a rule, set or chain → what it says; without counters
	Lines []Line
}

// Kernel applies plans.
type Kernel interface {
	// Load replaces all that was loaded before, in one step, or changes nothing.
	Load(script string) error
	// Read gives what there is now.
	Read() (Held, error)
}
