// Package sql writes a whole estate but for its traffic as lines, and reads it back.
//
// Start reading at Store.Export.
package sql

import "lucidorchard/database"

// Store exports and restores. It is safe for concurrent use.
type Store struct{ *database.DB }
