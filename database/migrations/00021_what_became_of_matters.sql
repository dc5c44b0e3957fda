-- +goose Up
-- Of the connections of a matter, how many were carried and how many dropped in each hour
-- of the day; of the rest that is not known.
ALTER TABLE matter_days ADD COLUMN carried bigint[] NOT NULL DEFAULT '{}';
ALTER TABLE matter_days ADD COLUMN dropped bigint[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE matter_days DROP COLUMN dropped;
ALTER TABLE matter_days DROP COLUMN carried;
