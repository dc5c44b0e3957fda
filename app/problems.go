package app

import (
	"context"
	"errors"
	"fmt"

	"lucidorchard/database"
	"lucidorchard/disk"
	"lucidorchard/inventory"
	"lucidorchard/jobs"
	"lucidorchard/model"
	"lucidorchard/refuse"
	"lucidorchard/transfer"
)

// movedFrom says what a statement was that somebody else has changed, and what it
// is in the newest revision.
func movedFrom(was, now string, revision int) error {
	return &refuse.Problem{Kind: refuse.IsMoved, Detail: fmt.Sprintf("somebody has changed this statement meanwhile. It was: %s. Now, in "+
		"revision %d: %s. Nothing was changed; make the edit again on what stands there now", was, revision, now),
		Revision: revision, Was: was, Now: now}
}

// Told says in words that anybody may read what an error means: what the database
// says of users, hosts and queries stays in the log.
func (a *App) Told(err error) string {
	var (
		problem  *refuse.Problem
		unknown  *database.UnknownError
		repeated *database.RepeatedError
		changed  *inventory.ChangedError
		lacks    *inventory.LacksError
		line     *transfer.LineError
		full     *disk.FullError
		fault    *model.Fault
	)
	switch {
	case errors.As(err, &problem), errors.As(err, &repeated), errors.As(err, &changed), errors.As(err, &lacks),
		errors.As(err, &line), errors.Is(err, ErrSpill), errors.Is(err, jobs.ErrFault):
		return err.Error()
	case errors.As(err, &full):
		return full.Error() + "; nothing was changed. Make room on it, then try again"
	case errors.As(err, &fault):
		return jobs.ErrFault.Error()
	case database.Full(err):
		return "the disk of the database is full; nothing was changed. Make room on it, then try again"
	case errors.As(err, &unknown):
		return "the database went away in the very moment of storing: whether this was stored is not known"
	case database.Refused(err) != nil:
		return "the database cannot store this: " + database.Refused(err).Reason + "; nothing was changed"
	case errors.Is(err, context.Canceled):
		return "it was cancelled; nothing was changed"
	}
	return "the database cannot be used just now; nothing was changed, try again"
}
