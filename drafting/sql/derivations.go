package sql

import (
	"context"
	"encoding/json"
	"fmt"
	"net/netip"

	"github.com/jmoiron/sqlx"

	"lucidorchard/database"
	"lucidorchard/drafting"
)

// keptDerivations is how many derivations are kept.
const keptDerivations = 20

// AddDerivation stores a derivation with its proposals and what it set aside. body is called with the
// ids of the proposals, in their order.
func (s *Store) AddDerivation(ctx context.Context, d drafting.Derivation, proposals []drafting.KeptProposal,
	aside []drafting.AsideTalk,
	body func(ids []int64) (json.RawMessage, error)) (id int64, err error) {
	reasons, clients, servers, points := make([]string, len(aside)), make([]string, len(aside)),
		make([]string, len(aside)), make([]int64, len(aside))
	for i, x := range aside {
		reasons[i], points[i] = x.Reason, int64(x.Point)
		clients[i], servers[i] = x.Client.WithZone("").String(), x.Server.WithZone("").String()
	}
	err = s.Write(ctx, database.EditLock, func(tx *sqlx.Tx) error {
		if err := tx.GetContext(ctx, &id, `INSERT INTO derivations (revision, body, seen) VALUES ($1, '{}', $2)
			RETURNING id`,
			d.Revision, d.Seen); err != nil {
			return err
		}
		rules, bodies, seen := make([]string, len(proposals)), make([]string, len(proposals)),
			make([][]byte, len(proposals))
		for i, p := range proposals {
			rules[i], bodies[i], seen[i] = p.Rule, string(p.Body), p.Seen
		}
		ids := []int64{}
		if err := tx.SelectContext(ctx, &ids, `WITH made AS (
			INSERT INTO proposals (derivation, rule, body, seen)
			SELECT $1, rule, body::jsonb, seen FROM unnest($2::text[], $3::text[], $4::bytea[])
			WITH ORDINALITY AS p (rule, body, seen, n) ORDER BY n RETURNING id)
			SELECT id FROM made ORDER BY id`, id, rules, bodies, seen); err != nil {
			return fmt.Errorf("storing proposals: %w", err)
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO set_aside SELECT $1, *
			FROM unnest($2::text[], $3::inet[], $4::inet[], $5::bigint[])`,
			id, reasons, clients, servers, points); err != nil {
			return fmt.Errorf("storing what is set aside: %w", err)
		}
		text, err := body(ids)
		if err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE derivations SET body = $2 WHERE id = $1`, id,
			[]byte(text)); err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx,
			`DELETE FROM derivations WHERE id NOT IN (SELECT id FROM derivations ORDER BY id DESC LIMIT $1)`,
			keptDerivations)
		return err
	})
	return id, err
}

// SetAside returns what the newest derivation set aside for a reason; for any, if
// it is "all".
func (s *Store) SetAside(ctx context.Context, reason string) ([]drafting.AsideTalk, error) {
	rows, err := s.SQL.QueryContext(ctx, `SELECT reason, host(client), host(server), point FROM set_aside
		WHERE derivation = (SELECT max(id) FROM derivations) AND $1 IN (reason, 'all')`, reason)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []drafting.AsideTalk
	for rows.Next() {
		var x drafting.AsideTalk
		var client, server string
		if err := rows.Scan(&x.Reason, &client, &server, &x.Point); err != nil {
			return nil, err
		}
		if x.Client, err = netip.ParseAddr(client); err == nil {
			x.Server, err = netip.ParseAddr(server)
		}
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, rows.Err()
}

// NewestDerivationID returns the id of the newest derivation; 0 if there is none.
func (s *Store) NewestDerivationID(ctx context.Context) (id int64, err error) {
	err = s.SQL.GetContext(ctx, &id, `SELECT coalesce(max(id), 0) FROM derivations`)
	return id, err
}

// ReadDerivation returns a derivation with its proposals, in the order in which they were
// stored. Neither changes once it is stored. The error is sql.ErrNoRows if there is none
// with this id.
func (s *Store) ReadDerivation(ctx context.Context, id int64) (drafting.Derivation, []drafting.KeptProposal, error) {
	var d drafting.Derivation
	if err := s.SQL.GetContext(ctx, &d, `SELECT id, revision, body, seen FROM derivations WHERE id = $1`,
		id); err != nil {
		return d, nil, err
	}
	out := []drafting.KeptProposal{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM proposals WHERE derivation = $1 ORDER BY id`, id)
	return d, out, err
}

// Proposals returns proposals by their ids, in the order of ids; those that are not
// there are left out.
func (s *Store) Proposals(ctx context.Context, ids []int64) ([]drafting.KeptProposal, error) {
	out := []drafting.KeptProposal{}
	err := s.SQL.SelectContext(ctx, &out, `SELECT * FROM proposals WHERE id = ANY($1) ORDER BY id`, ids)
	return out, err
}
