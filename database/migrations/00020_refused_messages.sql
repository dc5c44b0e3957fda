-- +goose Up
-- What a destination refuses for good is set aside, so that the rest goes on.
ALTER TABLE outbox ADD COLUMN refused timestamptz;
DROP INDEX outbox_destination_due_idx;
CREATE INDEX outbox_waiting ON outbox (destination, due) WHERE sent IS NULL AND refused IS NULL;
CREATE INDEX outbox_set_aside ON outbox (destination) WHERE refused IS NOT NULL;
CREATE INDEX outbox_sent ON outbox (sent) WHERE sent IS NOT NULL;
ALTER TABLE destinations ADD COLUMN refusal text NOT NULL DEFAULT ''; -- why it refused a message last

-- +goose Down
ALTER TABLE destinations DROP COLUMN refusal;
DROP INDEX outbox_sent;
DROP INDEX outbox_set_aside;
DROP INDEX outbox_waiting;
CREATE INDEX outbox_destination_due_idx ON outbox (destination, due) WHERE sent IS NULL;
ALTER TABLE outbox DROP COLUMN refused;
