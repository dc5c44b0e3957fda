package app

import (
	"context"
	"errors"
	"fmt"

	"lucidorchard/database"
	"lucidorchard/disk"
	"lucidorchard/model"
	"lucidorchard/store"
)

// Kind says what is wrong with what was asked for.
type Kind int

// The kinds of a Problem.
const (
	IsMissing  Kind = iota // it is not there
	IsInvalid              // it cannot be meant
	IsMoved                // somebody else was faster
	IsConflict             // it does not go with what there is
)

// Problem is something that whoever asked can put right. Nothing was changed.
type Problem struct {
	Kind   Kind
	Detail string // what, where, and what to do
	// Of what somebody else was faster with: the newest revision, what the edit was
	// made on, and what stands there now.
	Revision int
	Was, Now string
}

func (p *Problem) Error() string { return p.Detail }

// Missing says that something is not there.
func Missing(detail string) error { return &Problem{Kind: IsMissing, Detail: detail} }

// Invalid says that something cannot be meant.
func Invalid(detail string) error { return &Problem{Kind: IsInvalid, Detail: detail} }

// Conflict says that something does not go with what there is.
func Conflict(detail string) error { return &Problem{Kind: IsConflict, Detail: detail} }

// Moved says that somebody else was faster.
func Moved(detail string) error { return &Problem{Kind: IsMoved, Detail: detail} }

// movedFrom says what a statement was that somebody else has changed, and what it
// is in the newest revision.
func movedFrom(was, now string, revision int) error {
	return &Problem{IsMoved, fmt.Sprintf("somebody has changed this statement meanwhile. It was: %s. Now, in "+
		"revision %d: %s. Nothing was changed; make the edit again on what stands there now", was, revision, now),
		revision, was, now}
}

// Told says in words that anybody may read what an error means: what the database
// says of users, hosts and queries stays in the log.
func (a *App) Told(err error) string {
	var (
		problem  *Problem
		unknown  *database.UnknownError
		repeated *database.RepeatedError
		changed  *store.ChangedError
		lacks    *store.LacksError
		line     *store.LineError
		full     *disk.FullError
		fault    *model.Fault
	)
	switch {
	case errors.As(err, &problem), errors.As(err, &repeated), errors.As(err, &changed), errors.As(err, &lacks),
		errors.As(err, &line), errors.Is(err, ErrSpill), errors.Is(err, errFault):
		return err.Error()
	case errors.As(err, &full):
		return full.Error() + "; nothing was changed. Make room on it, then try again"
	case errors.As(err, &fault):
		return errFault.Error()
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

// errFault is a fault of the program.
var errFault = errors.New("the program has a fault, which is in its log; nothing of this was stored")
