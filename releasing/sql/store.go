// Package sql keeps releases, enforcement points, orders and what points report in
// PostgreSQL. Orders are numbered within the epoch of a database.
//
// It must not know what a plan is. A Store is safe for concurrent use. Start reading at
// Store.Order.
package sql

import "lucidorchard/database"

// Store keeps releases and points.
type Store struct{ *database.DB }
