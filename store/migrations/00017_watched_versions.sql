-- +goose Up
-- Versions of the conversations, workloads, draft and points that a day was looked at with: what is
-- older never takes the place of what is newer.
ALTER TABLE watch_days ADD versions bigint[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE watch_days DROP versions;
