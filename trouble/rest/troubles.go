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

// troubles says what is wrong. It asks no database: that may be what is wrong.
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
				fmt.Sprintf("The disk of %s (%s) is full: %s. Until then nothing can be changed, and no traffic "+
					"is stored. %s", d.Name, d.Path, d.Room(), s.losing()),
				"Make room on that disk.", since(d.Since)})
		}
	}
	if s.Cluster != nil {
		if t := s.Cluster.Trouble(); !t.Since.IsZero() {
			out = append(out, Trouble{"database", true,
				"The database has ended and is being started again. Nothing can be looked at or changed meanwhile. " +
					s.losing(), "If it does not come back: its last words are in the server's log.", since(t.Since)})
		}
	} else if away, err := s.Models.Away(); err != nil {
		out = append(out, Trouble{"database", true,
			"The database cannot be reached. Nothing can be looked at or changed meanwhile. " + s.losing(),
			"Look whether it runs, and whether this machine reaches it; all goes on by itself then.", since(away)})
	}
	if s.Collector != nil {
		st := s.Collector.Status()
		if st.Trouble != "" && !full {
			var at time.Time
			if st.TroubleAt != nil {
				at = *st.TroubleAt
			}
			out = append(out, Trouble{"collector", true,
				"Traffic that exporters send is not stored: the database does not take it. " + s.losing(),
				"The reason stands under Flows, Exporters.", since(at)})
		}
		if st.SetAside > 0 {
			out = append(out, Trouble{"collector", false,
				fmt.Sprintf("%s of traffic cannot be stored for what they hold; they are set aside.",
					plural.Of(int(st.SetAside), "batch", "batches")), "Look at them under Flows, Exporters.", ""})
		}
		if j := st.Jump; j != nil && time.Since(j.At).Abs() < 24*time.Hour {
			way := "ahead"
			if j.Seconds < 0 {
				way = "back"
			}
			out = append(out, Trouble{"clock", false,
				fmt.Sprintf("The clock of this machine was set %s by %s. Traffic without times of its own stands "+
					"at the wrong time.", way, time.Duration(max(j.Seconds, -j.Seconds)*1e9).Round(time.Second)),
				"Keep the clock right with a time service.", since(j.At)})
		}
		if by, n := collect.OffAgainst(s.Collector.Exporters(), time.Now()); n > 1 {
			out = append(out, Trouble{"clock", false,
				fmt.Sprintf("All %d exporters agree that this machine's clock is %s. Their records were moved to its "+
					"time.", n, clockWords(by)),
				"Look at this machine's clock, and keep it right with a time service.", ""})
		}
	}
	if m := s.Models.Held(); m != nil && len(m.Errors) > 0 {
		out = append(out, Trouble{"policy", true,
			fmt.Sprintf("The stored policy has %s that an earlier version of this program took. What they are in "+
				"decides nothing until they are put right. The first is on line %d: %s",
				plural.Of(len(m.Errors), "error", "errors"), m.Errors[0].Line, m.Errors[0].Message),
			"Put it right under Policy, Text.", ""})
	}
	if s.Trusting != "" {
		out = append(out, Trouble{"network", false, "Everybody who reaches " + s.Trusting +
			" may read and change all of this: there are no accounts.",
			"Listen on loopback, or let only those reach it who may.", ""})
	}
	return out
}

// clockWords says by how much a clock is off.
func clockWords(off time.Duration) string {
	if off < 0 {
		return (-off).Round(time.Second).String() + " behind"
	}
	return off.Round(time.Second).String() + " ahead"
}

// losing says what becomes of traffic that is not stored.
func (s *Troubles) losing() string {
	if s.Collector == nil {
		return ""
	}
	st := s.Collector.Status()
	switch {
	case st.Lost > 0:
		return fmt.Sprintf("%d records of traffic were lost so far.", st.Lost)
	case st.Spooled > 0 || st.Waiting > 0:
		return fmt.Sprintf("No traffic is lost yet: %s and %d records wait.", plural.Of(st.Spooled, "batch", "batches"),
			st.Waiting)
	}
	return "No traffic is lost yet."
}

func (s *Troubles) Routes(r server.Routes) {
	server.Get(r, "list-troubles", "/troubles", "What is wrong with the server, its disk and its database", s.troubles)
}

// Cluster is a database of our own.
type Cluster interface {
	Trouble() database.ClusterTrouble
}
