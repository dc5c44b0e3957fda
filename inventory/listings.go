package inventory

import (
	"fmt"
	"strconv"
	"time"

	"lucidorchard/core/estate"
	"lucidorchard/refuse"
)

// ImportRank is the rank of the first source; each that is heard later comes
// after those that are known.
const ImportRank = 100

// Listing is what an inventory source says.
type Listing struct {
	Source string
	// Keys are the tag keys that it speaks of: its values for them are replaced.
	// nil: all that it has ever said of the workloads listed.
	Keys []string
	// Workloads come with their tags, and with the addresses that the source
	// gives them; without any, their leases stay.
	Workloads []estate.Workload
	Complete  bool              // what the source has listed and does not list now goes
	Confirm   int               // of a complete list that lacks much: how many it lacks, as somebody has looked at it
	Mapping   map[string]string // what the headings of its file are; nil: not known
	Author    string
	At        time.Time // when it was heard; zero: now
	Words     string    // of a list that somebody imports: the change that can be undone; blank: none
}

// Taken is what a listing did.
type Taken struct {
	Changed   int               // workloads that are not as they were
	Retired   []string          // ids of those that nobody lists any more
	Conflicts []estate.Conflict // leases that were left out
}

// LacksError reports that a complete list lacks more than a tenth of what its source
// has listed before: such a list may have been cut off.
type LacksError struct{ Listed, Missing int }

func (e *LacksError) Error() string {
	return fmt.Sprintf("the list lacks %d of the %d workloads that its source has listed before, and they would be "+
		"retired", e.Missing, e.Listed)
}

// Much reports whether a list that lacks so many of so many has to be confirmed.
func (e *LacksError) Much() bool { return e.Missing*10 > e.Listed }

// Unwrap returns the error as a problem that whoever asked can put right, with how.
func (e *LacksError) Unwrap() error {
	return &refuse.Problem{Kind: refuse.IsLacking,
		Detail: e.Error() + "; nothing was changed. If the list is complete, send it again with confirm=" +
			strconv.Itoa(e.Missing)}
}
