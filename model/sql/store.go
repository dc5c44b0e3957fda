// Package sql reads the state that a model is made of. It reads the tables of several steps in one
// transaction, and writes none.
//
// Start reading at Store.State.
package sql

import "lucidorchard/database"

// Store reads states. It is safe for concurrent use.
type Store struct{ *database.DB }
