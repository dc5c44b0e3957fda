// Package sql keeps revisions of the policy, refusals, probes and derivations.
//
// Start reading at Store.Apply.
package sql

import "lucidorchard/database"

// Store keeps drafts. It is safe for concurrent use.
type Store struct{ *database.DB }
