-- +goose Up
-- Versions that a day was looked at with: of the conversations, of the newest of them, of workloads,
-- draft and points. What is older never takes the place of what is newer.
ALTER TABLE watch_days ADD versions bigint[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE watch_days DROP versions;
