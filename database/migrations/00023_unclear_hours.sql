-- +goose Up
-- Connections of an hour in which what a point held changed while they were counted together.
ALTER TABLE watch_hours ADD COLUMN unclear bigint NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE watch_hours DROP COLUMN unclear;
