package rest

import (
	"context"
	"fmt"
	"time"

	"lucidorchard/collect"
	"lucidorchard/core/plural"
	"lucidorchard/database"
	"lucidorchard/disk"
	"lucidorchard/model"
	"lucidorchard/server"
)

// Trouble is something that everybody who works with the server should know now.
type Trouble struct {
	Kind  string `json:"kind" enum:"disk,database,collector,clock,policy,network"`
	Grave bool   `json:"grave" doc:"Something is not stored, or is being lost"`
	Words string `json:"words" doc:"What, where, and what is being lost"`
	Todo  string `json:"todo,omitempty" doc:"What to do"`
	Since string `json:"since,omitempty"`
}

// Troubles answers about what is wrong with the server itself.
type Troubles struct {
	Disk      *disk.Watch
	Cluster   Cluster // a database of our own; nil: somebody else's
	Collector *collect.Collector
	Models    *model.Keeper
	Trusting  string // the address on which everybody is let in; blank: loopback only
}

// troubles reports what is wrong. It asks no database: that may be what is wrong.
func (s *Troubles) troubles(_ context.Context, _ *struct{}) (*server.Body[[]Trouble], error) {
	return server.OK(s.troubled()), nil
}

func (s *Troubles) troubled() []Trouble {
	out := []Trouble{}
	since := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	full := false
	for _, d := range s.Disk.States() {
		full = full || d.Low
		if d.Low && !d.Alike {
			out = append(out, Trouble{"disk", true,
				fmt.Sprintf("The disk of %s (%s) is full: %s. Until then, no change and no traffic can be "+
					"stored. %s", d.Name, d.Path, d.Room(), s.losing()),
				"Free space on that disk.", since(d.Since)})
		}
	}
	if s.Cluster != nil {
		if t := s.Cluster.Trouble(); !t.Since.IsZero() {
			out = append(out, Trouble{"database", true,
				"The database stopped and is restarting. Meanwhile, nothing can be read or changed. " +
					s.losing(), "If it does not come back, check the server's log.", since(t.Since)})
		}
	} else if away, err := s.Models.Away(); err != nil {
		out = append(out, Trouble{"database", true,
			"The database is unreachable. Meanwhile, nothing can be read or changed. " + s.losing(),
			"Check that it runs and that this machine reaches it; work then continues automatically.", since(away)})
	}
	if s.Collector != nil {
		st := s.Collector.Status()
		if st.Trouble != "" && !full {
			var at time.Time
			if st.TroubleAt != nil {
				at = *st.TroubleAt
			}
			out = append(out, Trouble{"collector", true,
				"Traffic from exporters is not stored, because the database refuses it. " + s.losing(),
				"See Flows, Exporters for the reason.", since(at)})
		}
		if st.SetAside > 0 {
			out = append(out, Trouble{"collector", false,
				fmt.Sprintf("%s of traffic were rejected by the database because of their contents.",
					plural.Of(int(st.SetAside), "batch", "batches")), "See Flows, Exporters.", ""})
		}
		if j := st.Jump; j != nil && time.Since(j.At).Abs() < 24*time.Hour {
			way := "ahead"
			if j.Seconds < 0 {
				way = "back"
			}
			out = append(out, Trouble{"clock", false,
				fmt.Sprintf("The clock of this machine was set %s by %s. Traffic without its own times has wrong "+
					"times.", way, time.Duration(max(j.Seconds, -j.Seconds)*1e9).Round(time.Second)),
				"Synchronize the clock with a time service.", since(j.At)})
		}
		if by, n := collect.OffAgainst(s.Collector.Exporters(), time.Now()); n > 1 {
			out = append(out, Trouble{"clock", false,
				fmt.Sprintf("All %d exporters agree that this machine's clock is %s. Their records were moved to its "+
					"time.", n, clockWords(by)),
				"Check this machine's clock, and synchronize it with a time service.", ""})
		}
	}
	if m := s.Models.Held(); m != nil && len(m.Errors) > 0 {
		out = append(out, Trouble{"policy", true,
			fmt.Sprintf("The stored policy has %s that an earlier version of this program accepted. The statements "+
				"that contain them decide nothing until you fix them. The first is on line %d: %s",
				plural.Of(len(m.Errors), "error", "errors"), m.Errors[0].Line, m.Errors[0].Message),
			"Fix it under Policy, Text.", ""})
	}
	if s.Trusting != "" {
		out = append(out, Trouble{"network", false, "Everybody who reaches " + s.Trusting +
			" may read and change everything, because there are no accounts.",
			"Listen on loopback, or restrict access to this address.", ""})
	}
	return out
}

// clockWords describes by how much a clock is off.
func clockWords(off time.Duration) string {
	if off < 0 {
		return (-off).Round(time.Second).String() + " behind"
	}
	return off.Round(time.Second).String() + " ahead"
}

// losing reports what becomes of traffic that is not stored.
func (s *Troubles) losing() string {
	if s.Collector == nil {
		return ""
	}
	st := s.Collector.Status()
	switch {
	case st.Lost > 0:
		return fmt.Sprintf("%d records of traffic have been lost so far.", st.Lost)
	case st.Spooled > 0 || st.Waiting > 0:
		return fmt.Sprintf("No traffic is lost so far: %s and %d records are "+
			"queued.", plural.Of(st.Spooled, "batch", "batches"),
			st.Waiting)
	}
	return "No traffic is lost so far."
}

func (s *Troubles) Routes(r server.Routes) {
	server.Get(r, "list-troubles", "/troubles", "Current problems of the server, its disk and its database", s.troubles)
}

// Cluster is a database of our own.
type Cluster interface {
	Trouble() database.ClusterTrouble
}
