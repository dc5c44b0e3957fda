package sql_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/require"

	"lucidorchard/database"
	"lucidorchard/database/databasetest"
	"lucidorchard/history"
	historysql "lucidorchard/history/sql"
)

func TestMain(m *testing.M) { databasetest.Main(m) }

// kept is a history whose parts write down what they are to set.
func kept(t *testing.T) (*historysql.Store, *[]string) {
	db, err := database.Open(t.Context(), databasetest.Database(t))
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	set := &[]string{}
	note := func(name string) historysql.Part {
		return historysql.Of(name, func(_ context.Context, _ *sqlx.Tx, to any, c *history.Change, author, words string) error {
			*set = append(*set, fmt.Sprintf("%s=%v by %s: %s", name, to, author, words))
			if to == "fails" {
				return errors.New("it cannot be set")
			}
			c.Note = "noted by " + name
			return nil
		})
	}
	return &historysql.Store{DB: db, Parts: []historysql.Part{note("tags"), note("revision")}}, set
}

func change(t *testing.T, s *historysql.Store, words string, before, after history.Setting) {
	require.NoError(t, s.Write(t.Context(), database.EditLock, func(tx *sqlx.Tx) error {
		return historysql.Note(t.Context(), tx, "policy", words, "ann", before, after)
	}))
}

func TestChangesAreUndoneAndRedoneInTurn(t *testing.T) {
	s, set := kept(t)
	ctx := t.Context()
	_, err := s.Undo(ctx, "ben")
	require.ErrorIs(t, err, history.ErrNothing)
	change(t, s, "first", history.Setting{"revision": 0}, history.Setting{"revision": 1})
	change(t, s, "second", history.Setting{"revision": 1, "tags": "old"}, history.Setting{"revision": 2, "tags": "new"})
	for _, words := range []string{"second", "first"} {
		c, err := s.Undo(ctx, "ben")
		require.NoError(t, err)
		require.Equal(t, words, c.Words)
		require.Equal(t, "noted by revision", c.Note)
	}
	_, err = s.Undo(ctx, "ben")
	require.ErrorIs(t, err, history.ErrNothing)
	require.Equal(t, []string{"tags=old by ben: Undo: second", "revision=1 by ben: Undo: second",
		"revision=0 by ben: Undo: first"}, *set, "parts are set in their order")
	undo, redo, err := s.Undoable(ctx)
	require.NoError(t, err)
	require.Nil(t, undo)
	require.Equal(t, "first", redo.Words)
	c, err := s.Redo(ctx, "ben")
	require.NoError(t, err)
	require.Equal(t, "first", c.Words)
	require.Equal(t, "revision=1 by ben: Redo: first", (*set)[3])
	change(t, s, "third", history.Setting{"revision": 1}, history.Setting{"revision": 3})
	_, err = s.Redo(ctx, "ben")
	require.ErrorIs(t, err, history.ErrNothing, "what was undone before another change is gone")
}

// Of a change that cannot be set back as a whole, nothing is, and it stays to be undone.
func TestAChangeIsUndoneWholeOrNotAtAll(t *testing.T) {
	s, _ := kept(t)
	ctx := t.Context()
	change(t, s, "unknown", history.Setting{"something": 1}, history.Setting{"something": 2})
	_, err := s.Undo(ctx, "ben")
	require.ErrorContains(t, err, `sets "something", which this program does not know`)
	change(t, s, "failing", history.Setting{"tags": "fails"}, history.Setting{"tags": "new"})
	_, err = s.Undo(ctx, "ben")
	require.ErrorContains(t, err, "it cannot be set")
	undo, redo, err := s.Undoable(ctx)
	require.NoError(t, err)
	require.Equal(t, "failing", undo.Words)
	require.Nil(t, redo)
}

// Earlier programs stored the number of a revision alone, or an array of tags.
func TestChangesOfEarlierProgramsAreRead(t *testing.T) {
	s, set := kept(t)
	for _, before := range []string{`7`, `[{"workload": "w"}]`} {
		_, err := s.Exec(t.Context(), `INSERT INTO changes (kind, words, author, before, after)
			VALUES ('policy', 'old', 'ann', $1, '{}')`, before)
		require.NoError(t, err)
	}
	for range 2 {
		_, err := s.Undo(t.Context(), "ben")
		require.NoError(t, err)
	}
	require.Equal(t, []string{"tags=[map[workload:w]] by ben: Undo: old", "revision=7 by ben: Undo: old"}, *set)
}
