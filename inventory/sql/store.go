// Package sql keeps workloads, their tags and leases, and the sources that report them.
//
// Start reading at Store.Take.
package sql

import "lucidorchard/database"

// Store keeps the inventory. It is safe for concurrent use.
type Store struct{ *database.DB }
