// Package evidence says whether what was promised held over a period: from the estate, the
// releases, the enforcement points and the traffic as they were, not as they are. What is
// not known is never counted as good.
//
// It must not know of databases or screens. Start reading at Make.
package evidence

import (
	"time"

	"lucidorchard/core/watch"
)

// format names how evidence is written; a change that readers have to know of gives it
// another number.
const format = "lucid orchard evidence 1"

// Evidence is what is shown to an auditor. Times are UTC; connections are counted as the
// watch counts them.
type Evidence struct {
	Format   string        `json:"format"`
	Promise  Promise       `json:"promise"`
	From     time.Time     `json:"from"`
	To       time.Time     `json:"to" doc:"The period ends before it"`
	Made     time.Time     `json:"made"`
	By       string        `json:"by" doc:"Who asked for it"`
	Sentence string        `json:"sentence" doc:"The answer"`
	Counts   DayCounts     `json:"counts"`
	Days     []Day         `json:"days"`
	Breaks   []Break       `json:"breaks" doc:"When the policy in force broke the promise"`
	Versions []versionTime `json:"versions" doc:"What was in force of the policy, the oldest first"`

	MayFirst   []mayWay    `json:"mayFirst" doc:"Who might reach it at the start of the period"`
	MayLast    []mayWay    `json:"mayLast" doc:"At its end"`
	MayChanges []mayChange `json:"mayChanges"`

	Callers     []callerTime `json:"callers" doc:"Who did: the busiest first"`
	MoreCallers int          `json:"moreCallers" doc:"Callers that are counted, and not listed"`
	Total       Sums         `json:"total"`
	Against     int64        `json:"against" doc:"Connections that were carried though the promise speaks against them"`

	MembersFirst  []string       `json:"membersFirst" doc:"Whom it protects, at the start"`
	MembersLast   []string       `json:"membersLast"`
	MemberChanges []MemberChange `json:"memberChanges"`

	Exemptions []ExemptTime `json:"exemptions" doc:"Of those whom it protects"`
	Points     []pointTime  `json:"points" doc:"The points that guarded them, and the releases that each had loaded"`
	Changes    []Happening  `json:"changes" doc:"Of the policy and its releases"`
	Gaps       []Gap        `json:"gaps" doc:"Times of which less is known"`
	Notes      []string     `json:"notes" doc:"How this was made, where that needs saying"`
	Inputs     []Input      `json:"inputs" doc:"What it was made from"`
}

// Promise is what was promised.
type Promise struct {
	Text  string `json:"text" doc:"As it stands in the policy; for a group, its name"`
	Kind  string `json:"kind" enum:"never,always,only,group"`
	Words string `json:"words"`
}

// DayCounts is how many days were how.
type DayCounts struct {
	Days      int `json:"days"`
	Held      int `json:"held"`
	Broken    int `json:"broken"`
	Leaked    int `json:"leaked"`
	Open      int `json:"open"`
	Undefined int `json:"undefined"`
	None      int `json:"none"`
	Partly    int `json:"partly"`
	Unknown   int `json:"unknown"`
}

// State says in a word how a day was: the first of these that is so.
type State string

// The states.
const (
	Broken    State = "broken"    // for some time, what was in force did not keep the promise
	Leaked    State = "leaked"    // something was carried that points should have dropped
	open      State = "open"      // what was in force said nothing of some of it
	undefined State = "undefined" // what was in force did not know the groups of the promise
	None      State = "none"      // nothing was in force where it matters, at least for some time
	Partly    State = "partly"    // not all of it was enforced all day
	Unknown   State = "unknown"   // of some hours nothing is known
	Held      State = "held"      // none of these
)

// Day is a day of the period, in UTC.
type Day struct {
	Day   string `json:"day" doc:"Such as 2026-11-28"`
	State State  `json:"state" enum:"broken,leaked,open,undefined,none,partly,unknown,held"`
	Shown string `json:"shown" enum:"kept,broken,cannot be shown" doc:"What that comes to: a promise is kept only where nothing is missing to show it"`
	// Seconds.
	Holds     int64 `json:"holds" doc:"Seconds for which the policy in force kept the promise"`
	Open      int64 `json:"open" doc:"Said nothing of some of it"`
	Broken    int64 `json:"broken" doc:"Did not keep it"`
	Undefined int64 `json:"undefined" doc:"Did not know its groups"`
	None      int64 `json:"none" doc:"Nothing was in force"`
	// Workloads, at the worst time of the day.
	Members  int `json:"members" doc:"Workloads that it protects"`
	Enforced int `json:"enforced" doc:"Of which a point enforced, at the worst time of the day"`
	Observed int `json:"observed" doc:"Of which a point only observed, at most"`
	Exempt   int `json:"exempt" doc:"Exempt, at most"`
	Silent   int `json:"silent" doc:"Whose point was silent, at most"`
	Drifted  int `json:"drifted" doc:"Most workloads at one time whose point had drifted"`

	Draft        string `json:"draft,omitempty" doc:"While no release was in force: the worst result of the draft"`
	Releases     []int  `json:"releases"`
	UnknownHours int    `json:"unknownHours" doc:"Hours in which nothing at all was seen anywhere"`
	Sums         Sums   `json:"sums"`
	Against      int64  `json:"against" doc:"Connections that were carried though the promise speaks against them"`
	partly       bool   // not all were enforced all the time
	leaked       bool   // by what a point held, not only by the draft
}

// Sums is connections by what became of them, as the watch counts them.
type Sums = watch.Hour

// Break is a time in which what was in force did not keep the promise.
type Break struct {
	From    time.Time  `json:"from"`
	Until   *time.Time `json:"until,omitempty" doc:"None: it still was so at the end of the period"`
	Outcome string     `json:"outcome" enum:"broken,open,undefined"`
	Release int        `json:"release"`
	Example string     `json:"example,omitempty"`
	Rule    string     `json:"rule,omitempty"`
	Line    int        `json:"line,omitempty"`
	Cause   []string   `json:"cause" doc:"What changed then"`
	Ended   []string   `json:"ended" doc:"What changed when it ended"`
}

// versionTime is a release that was held where it matters.
type versionTime struct {
	Release  int       `json:"release"`
	Revision int       `json:"revision"`
	Title    string    `json:"title"`
	Author   string    `json:"author"`
	At       time.Time `json:"at" doc:"When it was released"`
	From     time.Time `json:"from" doc:"When a point concerned first loaded it, in the period"`
	Until    time.Time `json:"until"`
	Promised bool      `json:"promised" doc:"Whether the promise stands in it"`
	SHA256   string    `json:"sha256" doc:"Of its text"`
}

// mayWay is a rule by which clients may reach what is protected.
type mayWay struct {
	Release int      `json:"release" doc:"0: of the draft, while nothing was in force"`
	Line    int      `json:"line"`
	Rule    string   `json:"rule"`
	Clients []string `json:"clients"`
}

// mayChange is a change of who may reach it.
type mayChange struct {
	At      time.Time `json:"at"`
	Rule    string    `json:"rule"`
	Added   []string  `json:"added"`
	Removed []string  `json:"removed"`
	Cause   []string  `json:"cause"`
}

// callerTime is somebody who reached it, or tried to, on a service, with one verdict.
type callerTime struct {
	Name    string    `json:"name"`
	Label   string    `json:"label" doc:"The group or tags that it goes by"`
	Server  string    `json:"server" doc:"What it reached goes by that"`
	Service string    `json:"service"`
	Verdict string    `json:"verdict" enum:"permit,reject,uncovered"`
	Release int       `json:"release" doc:"By which; 0: the draft"`
	Rule    string    `json:"rule,omitempty"`
	First   time.Time `json:"first"`
	Last    time.Time `json:"last"`
	Sums    Sums      `json:"sums"`
	Against bool      `json:"against" doc:"It contradicts the promise"`
	Days    int       `json:"days"`
	last    string
}

// MemberChange is a workload that began, or ceased, to be protected.
type MemberChange struct {
	At     time.Time `json:"at"`
	Name   string    `json:"name"`
	Joined bool      `json:"joined"`
	Cause  []string  `json:"cause"`
}

// ExemptTime is a workload that no point guarded for a time.
type ExemptTime struct {
	Workload string    `json:"workload" doc:"Its id"`
	Name     string    `json:"name"`
	Reason   string    `json:"reason"`
	Owner    string    `json:"owner"`
	Author   string    `json:"author"`
	From     time.Time `json:"from"`
	Until    time.Time `json:"until"`
}

// pointTime is what a point held over the period.
type pointTime struct {
	Name    string     `json:"name"`
	Kind    string     `json:"kind"`
	Side    string     `json:"side"`
	Guards  string     `json:"guards"`
	Members int        `json:"members" doc:"Of those protected, at most"`
	Held    []heldTime `json:"held"`
}

// heldTime is for how long a point held the same.
type heldTime struct {
	From    time.Time `json:"from"`
	Until   time.Time `json:"until"`
	Release int       `json:"release" doc:"0: nothing"`
	Mode    string    `json:"mode" enum:"off,observe,enforce,silent,drifted"`
	Words   string    `json:"words,omitempty" doc:"Of a drift: the differences"`
}

// Happening is something that somebody did.
type Happening struct {
	At     time.Time `json:"at"`
	Author string    `json:"author"`
	Kind   string    `json:"kind"`
	Words  string    `json:"words"`
}

// Gap is a time of which less is known.
type Gap struct {
	From  time.Time `json:"from"`
	Until time.Time `json:"until"`
	Words string    `json:"words"`
}

// Input is what the evidence was made from, as lines of text.
type Input struct {
	Name   string `json:"name"`
	Words  string `json:"words"`
	Lines  int    `json:"lines"`
	SHA256 string `json:"sha256" doc:"Of the lines, each ended by a line feed"`
}
