package sql

import (
	"context"
	"fmt"
	"slices"

	"github.com/jackc/pgx/v5"

	"lucidorchard/core/flow"
	"lucidorchard/traffic/rows"
)

func partition(table string, day int64) string {
	return pgx.Identifier{fmt.Sprintf("%s_day_%d", table, day)}.Sanitize()
}

// apart are partitions that a transaction makes beside their tables, to be attached when
// their rows are there: so their indexes are built at once, and meanwhile whoever reads the
// tables need not wait. Whoever makes partitions holds database.TrafficLock.
type apart struct {
	tx   pgx.Tx
	live bool                  // their rows change while they come
	seen map[partitionKey]bool // whether it is still to be attached
	made []partitionKey
}

type partitionKey struct {
	table string
	day   int64
}

func newApart(tx pgx.Tx) *apart { return &apart{tx: tx, seen: map[partitionKey]bool{}} }

// of returns the name of the partition for a day, and makes it if it is missing.
func (a *apart) of(ctx context.Context, table string, day int64) (name string, err error) {
	k := partitionKey{table, day}
	name = partition(table, day)
	if _, known := a.seen[k]; known {
		return name, nil
	}
	var there bool
	if err := a.tx.QueryRow(ctx, `SELECT to_regclass($1) IS NOT NULL`, name).Scan(&there); err != nil {
		return "", err
	}
	if !there {
		with := ""
		if a.live && table == "conversations" {
			with = " WITH (fillfactor = 70)" // a row is changed within its page, and no index with it
		}
		// The check spares the database looking at all rows when it is attached.
		if _, err := a.tx.Exec(ctx, fmt.Sprintf(`CREATE TABLE %s (LIKE %s INCLUDING DEFAULTS,
			CONSTRAINT of_the_day CHECK (hour >= %d AND hour < %d))%s`,
			name, table, day*24, (day+1)*24, with)); err != nil {
			return "", err
		}
		a.made = append(a.made, k)
	}
	a.seen[k] = !there
	return name, nil
}

// attach makes those that were made parts of their tables; done is told after each.
func (a *apart) attach(ctx context.Context, done func()) error {
	for _, k := range a.made {
		name := partition(k.table, k.day)
		for _, q := range []string{
			fmt.Sprintf(`ALTER TABLE %s ATTACH PARTITION %s FOR VALUES FROM (%d) TO (%d)`, k.table, name, k.day*24,
				(k.day+1)*24),
			fmt.Sprintf(`ALTER TABLE %s DROP CONSTRAINT of_the_day`, name),
		} {
			if _, err := a.tx.Exec(ctx, q); err != nil {
				return err
			}
		}
		done()
	}
	a.made = nil
	return nil
}

// partitions makes the partitions for some days.
func partitions(ctx context.Context, tx pgx.Tx, table string, days []int64) error {
	slices.Sort(days)
	a := newApart(tx)
	a.live = true
	for _, d := range slices.Compact(days) {
		if _, err := a.of(ctx, table, d); err != nil {
			return err
		}
	}
	return a.attach(ctx, func() {})
}

func partitionsOf(ctx context.Context, tx pgx.Tx, hours []flow.Hour) error {
	var days []int64
	for _, h := range hours {
		days = append(days, rows.DayOf(h))
	}
	return partitions(ctx, tx, "conversations", days)
}
