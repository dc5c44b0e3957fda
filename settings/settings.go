// Package settings keeps what people choose once, each under its name, as JSON.
//
// It knows no setting's meaning. Store is safe for concurrent use.
package settings

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
)

// Store keeps settings.
type Store struct{ *database.DB }

// Setting reads a setting into what to points to, which stays as it is if
// nothing was set.
func (s *Store) Setting(ctx context.Context, name string, to any) error {
	return Get(ctx, s.SQL, name, to)
}

// Get is Setting in a transaction, or outside of any.
func Get(ctx context.Context, q sqlx.QueryerContext, name string, to any) error {
	var raw []byte
	err := sqlx.GetContext(ctx, q, &raw, `SELECT value FROM settings WHERE name = $1`, name)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(raw, to)
}

// Set keeps a setting. Servers read it again with the workloads.
func (s *Store) Set(ctx context.Context, name string, value any) error {
	return s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error { return Set(ctx, tx, name, value) })
}

func Set(ctx context.Context, tx *sqlx.Tx, name string, value any) error {
	raw, err := json.Marshal(value)
	if err != nil {
		return fmt.Errorf("the setting %s cannot be kept: %w", name, err)
	}
	_, err = tx.ExecContext(ctx,
		`INSERT INTO settings VALUES ($1, $2) ON CONFLICT (name) DO UPDATE SET value = excluded.value`, name,
		string(raw))
	return err
}
