// Package releasing is how a draft is put in force: releases, enforcement points, waves, and
// what points report. plans/ has what each point has to load.
//
// It must not know HTTP or SQL.
package releasing

import (
	"time"

	"lucidorchard/core/rollout"
)

// Release is a revision of the policy under a number; it never changes.
type Release struct {
	No       int       `db:"no" json:"no"`
	Revision int       `db:"revision" json:"revision" doc:"Of the policy"`
	Title    string    `db:"title" json:"title"`
	Author   string    `db:"author" json:"author"`
	At       time.Time `db:"at" json:"at"`
}

// Point is an enforcement point.
type Point struct {
	Name     string     `db:"name" json:"name"`
	Kind     string     `db:"kind" json:"kind" enum:"host,gate,file"`
	Side     string     `db:"side" json:"side" enum:"server,client,both"`
	Guards   string     `db:"guards" json:"guards" doc:"An expression"`
	Wave     int        `db:"wave" json:"wave"`
	PutsBack bool       `db:"puts_back" json:"putsBack" doc:"Whether it puts back what is changed by hand"`
	Author   string     `db:"author" json:"author"`
	Made     time.Time  `db:"made" json:"made"`
	Enforces int        `db:"enforces" json:"enforces" doc:"The release that it is to enforce; 0: none"`
	Observes int        `db:"observes" json:"observes" doc:"The release that it is to observe; 0: none"`
	Again    int        `db:"again" json:"-"` // how often it was told the same anew
	Paired   bool       `db:"paired" json:"paired" doc:"Another point sees part of its packets"`
	Aimed    *time.Time `db:"aimed" json:"aimed,omitempty" doc:"When it was last told what to run"`
	Heard    *time.Time `db:"heard" json:"heard,omitempty" doc:"When it was heard of last"`
	// Enforcement on trial.
	Trial         string     `db:"trial" json:"-"`
	TrialUntil    *time.Time `db:"trial_until" json:"trialUntil,omitempty" doc:"Enforcement ends then by itself unless it is confirmed"`
	TrialEnforces int        `db:"trial_enforces" json:"-"` // what it enforced before
	// The order of an unknown history that it may give up.
	YieldsEpoch string `db:"yields_epoch" json:"-"`
	YieldsOrder int64  `db:"yields_order" json:"-"`
	// Who uses its token.
	RunFrom   string     `db:"run_from" json:"from,omitempty" doc:"The address that its agent reports from"`
	OtherFrom string     `db:"other_from" json:"otherFrom,omitempty" doc:"The address of another agent that used its token meanwhile"`
	OtherAt   *time.Time `db:"other_at" json:"otherAt,omitempty"`
	Said      []byte     `db:"said" json:"-"` // JSON; none: it was never heard of
}

// PointEvent is something that happened at a point.
type PointEvent struct {
	Point string    `db:"point" json:"point"`
	At    time.Time `db:"at" json:"at"`
	What  string    `db:"what" json:"what" doc:"told, applied, refused, drifted, put back, went back, ended, ahead"`
	Words string    `db:"words" json:"words"`
	// What decided at the point since; none: what did before.
	Release  *int    `db:"release" json:"release,omitempty"`
	Mode     *string `db:"mode" json:"mode,omitempty"`
	Observes *int    `db:"observes" json:"observes,omitempty" doc:"The release that it also observed"`
}

// Runs returns the releases that the point is to run.
func (p *Point) Runs() rollout.Runs { return rollout.Runs{Enforces: p.Enforces, Observes: p.Observes} }

// Target is what one point is to run from now on.
type Target struct {
	Point    string `json:"point"`
	Enforces int    `json:"enforces"` // 0: none
	Observes int    `json:"observes"` // 0: none
	Words    string `json:"words"`    // for its history
	// Enforcement on trial; a blank Trial ends one.
	Trial         string     `json:"trial"`
	TrialUntil    *time.Time `json:"trialUntil"`
	TrialEnforces int        `json:"trialEnforces"` // what it enforced before
}

// Roll is a roll-out as it stands inside a transaction.
type Roll struct {
	Points []Point // by wave and name
	Hold   *Hold   // nil: nobody paused it
	Newest int     // newest release; 0: none
}

// FormerPoint is a deleted point that still reports.
type FormerPoint struct {
	Name    string    `db:"name"`
	Dropped time.Time `db:"dropped"`
	Heard   time.Time `db:"heard"`
}
