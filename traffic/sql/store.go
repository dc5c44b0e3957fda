// Package sql keeps traffic in PostgreSQL: conversations by the hour and the single records
// behind them, both in partitions of a day, batches that are counted once, and what is known
// of exporters and collectors.
//
// It must not know what a policy says of traffic. A Store is safe for concurrent use. Start
// reading at Store.AddEncoded.
package sql

import "lucidorchard/database"

// Store keeps traffic.
type Store struct{ *database.DB }
