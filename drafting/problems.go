package drafting

import (
	"fmt"

	"lucidorchard/refuse"
)

// movedFrom reports what a statement was that somebody else has changed, and what it
// is in the newest revision.
func movedFrom(was, now string, revision int) error {
	return &refuse.Problem{Kind: refuse.IsMoved,
		Detail: fmt.Sprintf("somebody has changed this statement meanwhile. It was: %s. Now, in "+
			"revision %d: %s. Nothing was changed; repeat the edit on the current text", was, revision, now),
		Revision: revision, Was: was, Now: now}
}
