-- +goose Up
-- The conversations that a derivation looked at, and those behind each of its proposals, so that
-- what the draft has decided since is counted again.
ALTER TABLE derivations ADD COLUMN seen bytea;
ALTER TABLE proposals ADD COLUMN seen bytea;

-- +goose Down
ALTER TABLE proposals DROP COLUMN seen;
ALTER TABLE derivations DROP COLUMN seen;
