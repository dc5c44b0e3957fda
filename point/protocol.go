// Package point is the agent of an enforcement point: it asks its server which plans to
// load, loads them, and reports what it has loaded. What applies plans is a Kernel:
// nftables on a Linux machine, or a stand-in that only remembers.
//
// A point can run two releases: it enforces one, and observes another that is on trial.
// Both are loaded and unloaded together, so nothing opens while a newer release is
// tried. After a change of rules, a point that cannot reach its server restores what it
// had loaded before; one that starts without its server loads the last plans from its
// disk; one that is changed by hand reports that, and restores its plans if it is set to.
//
// It must not know of policies, databases or screens. Start reading at Agent.
package point

import (
	"fmt"
	"net/netip"
	"time"

	"lucidorchard/core/plan"
	"lucidorchard/core/rollout"
)

// Instructions is what a server tells a point to load.
type Instructions struct {
	ID       string          `json:"id" doc:"The same as long as the same is to be loaded"`
	Lineage  rollout.Lineage `json:"lineage" doc:"The orders that the server has"`
	Yields   rollout.Mark    `json:"yields" doc:"A person decided that a point which took this order follows the server, though that does not have it"`
	Enforces *Assignment     `json:"enforces,omitempty" doc:"The release that decides; none: everything is carried"`
	Observes *Assignment     `json:"observes,omitempty" doc:"The release on trial"`
	Again    int             `json:"again" doc:"How often the same instructions were sent again: the point then retries"`
	PutsBack bool            `json:"putsBack" doc:"Whether the point restores manual changes automatically"`
	Paired   bool            `json:"paired" doc:"Another point sees part of the packets"`
	Estate   int64           `json:"estate" doc:"Version of the estate that the plans were made from"`
	Trial    *Trial          `json:"trial,omitempty" doc:"Enforcement has to be confirmed in time"`
}

// Assignment is one release that a point runs: its plan, or what moved since a plan that the
// point has loaded, or nothing where it has the plan already.
type Assignment struct {
	Release int          `json:"release"`
	ID      string       `json:"id" doc:"Of the plan"`
	Rules   string       `json:"rules" doc:"The same as long as only addresses come and go"`
	From    string       `json:"from,omitempty" doc:"The id of the plan that Moves lead on from, and for which Plan is short; blank: Plan is all of it, or the point has it"`
	Plan    *plan.Plan   `json:"plan,omitempty"`
	Moves   []plan.Moves `json:"moves,omitempty" doc:"One after the other"`
}

// Trial is a release from which a point returns automatically to what it ran before unless a person
// confirms in time.
type Trial struct {
	ID      string  `json:"id"`
	Seconds float64 `json:"seconds" doc:"Remaining when the instructions were sent"`
}

// Nothing is what a point is told that has nothing to load.
var Nothing = Instructions{ID: "nothing"}

// Runs returns the releases that a point runs when it has loaded what it was told.
func (t *Instructions) Runs() rollout.Runs {
	return rollout.Runs{Enforces: t.Enforces.release(), Observes: t.Observes.release()}
}

// Loaded returns the plans of what was told.
func (t *Instructions) Loaded() (l plan.Loaded) {
	if t.Enforces != nil {
		l.Enforced = t.Enforces.Plan
	}
	if t.Observes != nil {
		l.Observed = t.Observes.Plan
	}
	return l
}

func (p *Assignment) release() int {
	if p == nil {
		return 0
	}
	return p.Release
}

func (p *Assignment) kind() string {
	if p == nil {
		return ""
	}
	return fmt.Sprint(p.Release, " ", p.Rules)
}

// kind is the same for what differs only in the addresses of its plans.
func (t *Instructions) kind() string {
	return fmt.Sprint(t.Enforces.kind(), ", ", t.Observes.kind(), ", ", t.Again, t.Paired)
}

// parts returns the parts that are there.
func (t *Instructions) parts() (out []*Assignment) {
	for _, p := range []*Assignment{t.Enforces, t.Observes} {
		if p != nil {
			out = append(out, p)
		}
	}
	return out
}

// Status is what a point reports.
type Status struct {
	ID       string       `json:"id" doc:"Of what it has loaded; blank: nothing"`
	Enforces int          `json:"enforces" minimum:"0" doc:"Release that decides; 0: none"`
	Observes int          `json:"observes" minimum:"0" doc:"Release on trial; 0: none"`
	At       rollout.Mark `json:"at" doc:"The latest order that the point took"`
	Estate   int64        `json:"estate" doc:"Version of the estate that it has loaded"`
	State    string       `json:"state" enum:"holds,refused,drifted,went back,ahead"`
	Words    string       `json:"words,omitempty" maxLength:"4000" doc:"What is not as it should be"`
	Read     float64      `json:"read" doc:"Seconds since the loaded plan was last read back; below 0: never"`
	Run      string       `json:"run,omitempty" maxLength:"80" doc:"Names this run of the agent: two at once are two agents"`
	Unlisted []netip.Addr `json:"unlisted,omitempty" maxItems:"256" doc:"Addresses of a host that its plan does not guard"`
	Lines    []Line       `json:"lines,omitempty" maxItems:"100000"`
	Lately   Lately       `json:"lately" doc:"By the rules that decide; if none does, by those on trial"`
	Way      *Way         `json:"way,omitempty" doc:"The connection of this report, as the server saw it"`
	Events   []Event      `json:"events,omitempty" maxItems:"1000" doc:"What happened since it was heard of last"`
}

// Runs returns the releases that the point runs.
func (s *Status) Runs() rollout.Runs { return rollout.Runs{Enforces: s.Enforces, Observes: s.Observes} }

// Line counts what the rules of one statement of a release's policy did with packets
// that open conversations.
type Line struct {
	Release int    `json:"release"`
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
	What  string    `json:"what" enum:"applied,refused,drifted,put back,went back,ended,ahead"`
	Words string    `json:"words" maxLength:"4000"`
	// What the point runs since.
	Enforces int `json:"enforces" minimum:"0"`
	Observes int `json:"observes" minimum:"0"`
}
