-- +goose Up
-- A notice may be of whatever traffic a filter of the ledger selects.
ALTER TABLE notices ADD filter text NOT NULL DEFAULT '';

-- How much of it there was on a day by now: what is more is told.
CREATE TABLE notice_days (
    notice      bigint NOT NULL REFERENCES notices ON DELETE CASCADE,
    day         date   NOT NULL,
    traffic     text   NOT NULL, -- who, to what, on which service
    connections bigint NOT NULL,
    PRIMARY KEY (day, notice, traffic)
);

-- +goose Down
DROP TABLE notice_days;
ALTER TABLE notices DROP filter;
