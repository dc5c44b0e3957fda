package rest

import (
	"time"

	"lucidorchard/point"
	"lucidorchard/releasing"
	"lucidorchard/server"
)

// Exemption is a workload that no point guards.
type Exemption struct {
	Workload string    `json:"workload" doc:"Its id"`
	Reason   string    `json:"reason"`
	Owner    string    `json:"owner"`
	Ends     time.Time `json:"ends"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
}

// Point is an enforcement point.
type Point struct {
	Name     string     `json:"name"`
	Kind     string     `json:"kind" enum:"host,gate,file"`
	Side     string     `json:"side" enum:"server,client,both"`
	Guards   string     `json:"guards" doc:"An expression"`
	Wave     int        `json:"wave"`
	PutsBack bool       `json:"putsBack" doc:"Whether it restores manual changes"`
	Author   string     `json:"author"`
	Made     time.Time  `json:"made"`
	Enforces int        `json:"enforces" doc:"The release that it is to enforce; 0: none"`
	Observes int        `json:"observes" doc:"The release that it is to observe; 0: none"`
	Paired   bool       `json:"paired" doc:"Another point sees part of its packets"`
	Aimed    *time.Time `json:"aimed,omitempty" doc:"When it last received instructions"`
	Heard    *time.Time `json:"heard,omitempty" doc:"When it was heard of last"`
	// Enforcement on trial.
	TrialUntil *time.Time `json:"trialUntil,omitempty" doc:"Enforcement ends then by itself unless it is confirmed"`
	// Who uses its token.
	RunFrom   string     `json:"from,omitempty" doc:"The address that its agent reports from"`
	OtherFrom string     `json:"otherFrom,omitempty" doc:"The address of another agent that used its token meanwhile"`
	OtherAt   *time.Time `json:"otherAt,omitempty"`
}

// PointEvent is something that happened at a point.
type PointEvent struct {
	Point string    `json:"point"`
	At    time.Time `json:"at"`
	What  string    `json:"what" doc:"told, applied, refused, drifted, put back, went back, ended, ahead"`
	Words string    `json:"words"`
	// What decided at the point since; none: what did before.
	Release  *int    `json:"release,omitempty"`
	Mode     *string `json:"mode,omitempty"`
	Observes *int    `json:"observes,omitempty" doc:"The release that it also observed"`
}

// Release is a revision of the policy under a number; it never changes.
type Release struct {
	No       int       `json:"no"`
	Revision int       `json:"revision" doc:"Of the policy"`
	Title    string    `json:"title"`
	Author   string    `json:"author"`
	At       time.Time `json:"at"`
}

// Hold is a pause of a roll-out, with its reason.
type Hold struct {
	Author string    `json:"author"`
	At     time.Time `json:"at"`
	Reason string    `json:"reason"`
}

// Wave is a step of a roll-out: what has to be true before its points enforce.
type Wave struct {
	No            int    `json:"no"`
	Title         string `json:"title"`
	Minutes       int    `json:"minutes" doc:"How long it observes at least"`
	Asserts       bool   `json:"asserts" doc:"Assertions must hold"`
	Probes        bool   `json:"probes" doc:"Probes have to get the verdict that is expected"`
	Administrable bool   `json:"wayBack" doc:"All machines must stay administrable, so that a rollback is possible"`
	Settled       bool   `json:"settled" doc:"What would be rejected has to be settled as right"`
	ByItself      bool   `json:"byItself" doc:"It goes on as soon as all that is so"`
}

// PointState is an enforcement point with what it holds.
type PointState struct {
	Point
	Workloads int           `json:"workloads" doc:"That it guards now"`
	Undecided int           `json:"undecided" doc:"Workloads that its expression cannot tell: they are not guarded"`
	Problem   string        `json:"problem,omitempty" doc:"Why it cannot receive instructions"`
	Held      *point.Status `json:"held,omitempty" doc:"Its last report of its state"`
	State     string        `json:"state" enum:"new,waiting,holds,refused,drifted,went back,ahead,silent" doc:"new: it has never reported; waiting: it has not loaded its plan yet; ahead: it took an order that this server does not have"`
	Rejects   int           `json:"rejects" doc:"Conversations of the window that run today, and that the newest release which it is to run rejects"`
}

// WaveState is a wave with how far it has come.
type WaveState struct {
	Wave
	Points     []string    `json:"points"`
	Stage      string      `json:"stage" enum:"not yet,observes,enforces" doc:"With the newest release"`
	Since      *time.Time  `json:"since,omitempty" doc:"When the last of its points came to that"`
	Conditions []Condition `json:"conditions" doc:"Before it may enforce; of a wave that observes"`
}

func newPoint(p releasing.Point) Point {
	return Point{Name: p.Name, Kind: p.Kind, Side: p.Side, Guards: p.Guards, Wave: p.Wave, PutsBack: p.PutsBack,
		Author: p.Author, Made: p.Made, Enforces: p.Enforces, Observes: p.Observes, Paired: p.Paired, Aimed: p.Aimed,
		Heard: p.Heard, TrialUntil: p.TrialUntil, RunFrom: p.RunFrom, OtherFrom: p.OtherFrom, OtherAt: p.OtherAt}
}

func newPointState(p releasing.PointState) PointState {
	return PointState{newPoint(p.Point), p.Workloads, p.Undecided, p.Problem, p.Held, p.State, p.Rejects}
}

func newWaveState(w releasing.WaveState) WaveState {
	return WaveState{Wave(w.Wave), w.Points, w.Stage, w.Since,
		server.Each(w.Conditions, func(c releasing.Condition) Condition { return Condition(c) })}
}

// Coverage is how many workloads are guarded, and which rules of the newest release
// points can apply.
type Coverage struct {
	Both   int `json:"both" doc:"Workloads guarded where they are called and where they call"`
	Server int `json:"server" doc:"Only where they are called"`
	Client int `json:"client" doc:"Only where they call"`
	None   int `json:"none" doc:"By no point"`
	Exempt int `json:"exempt" doc:"By no point, because they are exempt"`
	// Lines of rules.
	OnServer []int `json:"onServer" doc:"Rules that points apply only where their servers are"`
	OnClient []int `json:"onClient" doc:"Rules that points apply only where their clients are"`
	Nowhere  []int `json:"nowhere" doc:"Rules that no point can apply"`
}

// Order is what a person tells points about a release.
type Order struct {
	Do      string   `json:"do" enum:"observe,enforce,roll back,off,confirm" doc:"roll back: to Release; confirm: enforcement on trial stays"`
	Release int      `json:"release,omitempty" minimum:"0" doc:"Not for off and confirm"`
	Points  []string `json:"points,omitempty" doc:"Their names; none: those of Wave"`
	Wave    int      `json:"wave,omitempty" minimum:"0" doc:"0: all points"`
	Anyway  bool     `json:"anyway,omitempty" doc:"Enforce also if conditions of the wave are not met"`
	// Machines that nobody could administer any more.
	Without []string `json:"without,omitempty" doc:"Ids of machines that may become unreachable for administration; \"*\": all"`
	Minutes int      `json:"minutes,omitempty" minimum:"0" maximum:"1440" doc:"Enforce on trial: points return by themselves unless somebody confirms in time"`
}

// Ordered is what an order did at one point.
type Ordered struct {
	Point   string    `json:"point"`
	Before  PointRuns `json:"before"`
	After   PointRuns `json:"after"`
	Changed bool      `json:"changed"`
	Words   string    `json:"words"`
}

// PointRuns is the releases that a point is to run; 0 is none.
type PointRuns struct {
	Enforces int `json:"enforces"`
	Observes int `json:"observes"`
}

// Condition is something that has to be true before a wave enforces.
type Condition struct {
	Key   string `json:"key" enum:"points,minutes,asserts,probes,wayBack,server,settled,leases"`
	Met   bool   `json:"met"`
	Asked bool   `json:"asked" doc:"Whether the wave waits for it"`
	Words string `json:"words"`
}

// Followed is how far a release has come with a job.
type Followed struct {
	State  string   `json:"state" enum:"arrived,moving,waits,replaced,failed" doc:"arrived: finished; moving: points have their instructions, but have not reported yet; waits: for a condition or a person"`
	Words  []string `json:"words" doc:"What it waits for, or what failed"`
	Points int      `json:"points" doc:"Points that have loaded it as ordered"`
	Of     int      `json:"of" doc:"Points up to the wave"`
}

// Size is how large a plan is in a kernel.
type Size struct {
	Rules    int `json:"rules" doc:"Rules of its classes, on both sides"`
	Elements int `json:"elements" doc:"Addresses and ranges in sets and maps"`
}

func newOrdered(o releasing.Ordered) Ordered {
	return Ordered{o.Point, PointRuns(o.Before), PointRuns(o.After), o.Changed, o.Words}
}
