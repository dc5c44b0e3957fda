package refuse

import (
	"context"
	"errors"

	"lucidorchard/database"
)

// Worded is an error that says in words that anybody may read what it means to
// whoever asked.
type Worded interface {
	error
	Words() string
}

// Fault is the message for a bug.
const Fault = "it failed because of a bug; the server's log has the details. Nothing was stored"

// Words returns what an error means, in words that anybody may read: what the
// database says of users, hosts and queries stays in the log.
func Words(err error) string {
	var (
		worded   Worded
		problem  *Problem
		unknown  *database.UnknownError
		repeated *database.RepeatedError
	)
	switch {
	case errors.As(err, &problem):
		return problem.Detail
	case errors.As(err, &repeated):
		return err.Error()
	case errors.As(err, &worded):
		return worded.Words()
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
