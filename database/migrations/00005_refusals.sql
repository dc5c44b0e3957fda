-- +goose Up
-- What was behind a proposal when it was refused: it is asked for again when
-- there is much more. And the rule that was taken instead, if one was: while it
-- stands in the draft, the refusal holds.
ALTER TABLE refusals
    ADD conversations integer,
    ADD callers       integer,
    ADD instead       text;

-- +goose Down
ALTER TABLE refusals DROP conversations, DROP callers, DROP instead;
