package assembly

import (
	"context"
	"fmt"
	"slices"

	auditingsql "lucidorchard/auditing/sql"
	"lucidorchard/database"
	draftingsql "lucidorchard/drafting/sql"
	historysql "lucidorchard/history/sql"
	inventorysql "lucidorchard/inventory/sql"
	jobssql "lucidorchard/jobs/sql"
	modelsql "lucidorchard/model/sql"
	releasingsql "lucidorchard/releasing/sql"
	"lucidorchard/settings"
	trafficsql "lucidorchard/traffic/sql"
	transfersql "lucidorchard/transfer/sql"
	watchingsql "lucidorchard/watching/sql"
)

// Store is an open database. It is safe for concurrent use.
type Store struct {
	*database.DB
	*jobsStore
	*watchingStore
	*trafficStore
	*releasingStore
	*historyStore
	*inventoryStore
	*settingsStore
	*draftingStore
	*auditingStore
	*modelStore
	*transferStore
}

// Each step of the work keeps what is its own.
type (
	jobsStore      = jobssql.Store
	watchingStore  = watchingsql.Store
	trafficStore   = trafficsql.Store
	releasingStore = releasingsql.Store
	historyStore   = historysql.Store
	inventoryStore = inventorysql.Store
	settingsStore  = settings.Store
	draftingStore  = draftingsql.Store
	auditingStore  = auditingsql.Store
	modelStore     = modelsql.Store
	transferStore  = transfersql.Store
)

// Open connects and brings the schema up to date; several servers may do so at
// once.
func Open(ctx context.Context, url string) (*Store, error) {
	db, err := database.Open(ctx, url)
	if err != nil {
		return nil, err
	}
	s := &Store{db, &jobssql.Store{DB: db}, &watchingsql.Store{DB: db}, &trafficsql.Store{DB: db},
		&releasingsql.Store{DB: db},
		&historysql.Store{DB: db, Parts: slices.Concat(inventorysql.Parts(), trafficsql.Parts(), draftingsql.Parts())},
		&inventorysql.Store{DB: db}, &settings.Store{DB: db}, &draftingsql.Store{DB: db}, &auditingsql.Store{DB: db},
		&modelsql.Store{DB: db}, &transfersql.Store{DB: db}}
	if _, err := s.OpenEpoch(ctx); err != nil {
		db.Close()
		return nil, fmt.Errorf("the epoch of the database cannot be opened: %w", err)
	}
	return s, nil
}
