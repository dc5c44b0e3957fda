// Package sql keeps matters, what people say of them, notices and the messages that wait in
// PostgreSQL. A pass over a day is one transaction with a fixed number of statements.
//
// It must not know how matters are found. Start reading at Store.PutWatchedDay.
package sql

import (
	"encoding/json"
	"time"

	"lucidorchard/database"
	"lucidorchard/watching"
)

const matterColumns = `id, kind, title, why, about, state, holder, note, again, author, changed, first, last, opened, standing, ended`

// grown is SQL: a settled matter has grown by a half, and by 3 conversations, over its
// largest day before.
const grown = `conversations >= m.size + greatest(3, m.size / 2)`

// Rows of statements that take all of them at once, as JSON; matterRows and matterDayRows write them.
const (
	matterRow    = `id text, kind text, title json, why text, about json, first timestamptz, last timestamptz`
	matterDayRow = `id text, conversations bigint, connections bigint, clients bigint, servers bigint, hours bigint[],
		carried bigint[], dropped bigint[], first timestamptz, last timestamptz`
)

func recordset(row string) string { return `json_to_recordset($1) AS x (` + row + `)` }

func jsonOf(v any) []byte {
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // of types of our own
	}
	return raw
}

func matterRows(list []watching.Matter) []map[string]any {
	out := make([]map[string]any, len(list))
	for i, m := range list {
		out[i] = map[string]any{"id": m.ID, "kind": m.Kind, "title": m.Title, "why": m.Why, "about": m.About,
			"first": m.First, "last": m.Last}
	}
	return out
}

// matterDayRows returns the days of d's matters, with matterDayRow's columns.
func matterDayRows(d *watching.WatchedDay) []map[string]any {
	out := make([]map[string]any, len(d.Days))
	for i, x := range d.Days {
		out[i] = map[string]any{"id": d.Matters[i].ID, "conversations": x.Conversations, "connections": x.Connections,
			"clients": x.Clients, "servers": x.Servers, "hours": x.Hours, "carried": x.Carried, "dropped": x.Dropped,
			"first": x.First, "last": x.Last}
	}
	return out
}

// callersOf returns who called, as columns.
func callersOf(d *watching.WatchedDay) (who, what []string, points []int64, firsts []time.Time) {
	for c, first := range d.Callers {
		who, what = append(who, watching.SideKey(c.Who)), append(what, watching.SideKey(c.What))
		points, firsts = append(points, int64(c.Service)), append(firsts, first)
	}
	return who, what, points, firsts
}

// Store keeps matters, notices, and what waits to be sent. It is safe for concurrent use.
type Store struct{ *database.DB }
