package releasing

import "time"

// Wave is a step of a roll-out: what has to be true before its points enforce.
type Wave struct {
	No       int    `db:"no" json:"no"`
	Title    string `db:"title" json:"title"`
	Minutes  int    `db:"minutes" json:"minutes" doc:"How long it observes at least"`
	Asserts  bool   `db:"asserts" json:"asserts" doc:"Assertions have to hold"`
	Probes   bool   `db:"probes" json:"probes" doc:"Probes have to get the verdict that is expected"`
	WayBack  bool   `db:"way_back" json:"wayBack" doc:"The way back has to stay open"`
	Settled  bool   `db:"settled" json:"settled" doc:"What would be rejected has to be settled as right"`
	ByItself bool   `db:"by_itself" json:"byItself" doc:"It goes on as soon as all that is so"`
}

// UsualWave is the conditions of a wave of which nobody has said any.
func UsualWave(no int) Wave {
	return Wave{No: no, Asserts: true, Probes: true, WayBack: true, Settled: true}
}

// Hold says that, and why, a roll-out does not go on.
type Hold struct {
	Author string    `db:"author" json:"author"`
	At     time.Time `db:"at" json:"at"`
	Reason string    `db:"reason" json:"reason"`
}
