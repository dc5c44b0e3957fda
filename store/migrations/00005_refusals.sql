-- +goose Up
-- What was behind a proposal when it was refused: it is asked for again when
-- there is much more.
ALTER TABLE refusals
    ADD conversations integer,
    ADD callers       integer;

-- +goose Down
ALTER TABLE refusals DROP conversations, DROP callers;
