// Package sql keeps evidence, and reads in one transaction what a promise is judged by. It reads
// the tables of other steps, and writes none of them.
//
// Start reading at Store.Recall.
package sql

import "lucidorchard/database"

// Store keeps evidence. It is safe for concurrent use.
type Store struct{ *database.DB }
