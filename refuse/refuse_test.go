package refuse_test

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/stretchr/testify/require"

	"lucidorchard/database"
	"lucidorchard/disk"
	"lucidorchard/inventory"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/transfer"
)

// What an error means is said in words that anybody may read: nothing of users, hosts or
// queries comes from the database to whoever asked.
func TestWordsOfErrors(t *testing.T) {
	old := "live"
	for _, x := range []struct {
		err   error
		words string
	}{
		{refuse.Missing("there is no group live"), "there is no group live"},
		{&inventory.LacksError{Listed: 20, Missing: 5}, "confirm=5"},
		{&inventory.ChangedError{TagEdit: inventory.TagEdit{Workload: "w-1", Key: "env", Was: &old}, Now: "trial"},
			"now it is trial"},
		{&transfer.LineError{Line: 7, Reason: "found no JSON object"}, "line 7: found no JSON object"},
		{&database.RepeatedError{Key: "k"}, "this was stored already"},
		{&database.UnknownError{Err: errors.New("FATAL at 10.0.0.9")}, "whether this was stored is not known"},
		{&disk.FullError{}, "Make room on it, then try again"},
		{&model.Fault{Value: "index out of range"}, refuse.Fault},
		{context.Canceled, "it was cancelled; nothing was changed"},
		{&pgconn.PgError{Code: "53100", Message: "could not extend file base/16384"}, "the disk of the database is full"},
		{&pgconn.PgError{Code: "57P01", Message: "terminating connection of user orchard"}, "cannot be used just now"},
		{errors.New("dial tcp 10.0.0.9:5432: connection refused"), "the database cannot be used just now"},
	} {
		for _, err := range []error{x.err, fmt.Errorf("storing it: %w", x.err)} {
			require.Contains(t, refuse.Words(err), x.words)
			require.NotContains(t, refuse.Words(err), "10.0.0.9")
			require.NotContains(t, refuse.Words(err), "orchard")
			require.NotContains(t, refuse.Words(err), "index out of range")
		}
	}
}

// Errors of steps say for themselves which kind of answer they are.
func TestKindsOfErrors(t *testing.T) {
	old := ""
	for _, x := range []struct {
		err  error
		kind refuse.Kind
	}{
		{&inventory.LacksError{Listed: 20, Missing: 5}, refuse.IsLacking},
		{&inventory.ChangedError{TagEdit: inventory.TagEdit{Was: &old}}, refuse.IsMoved},
		{&transfer.LineError{Line: 1}, refuse.IsInvalid},
		{refuse.Conflict("x"), refuse.IsConflict},
	} {
		var p *refuse.Problem
		require.ErrorAs(t, x.err, &p)
		require.Equal(t, x.kind, p.Kind, "%T", x.err)
	}
}
