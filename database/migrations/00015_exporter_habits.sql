-- +goose Up
-- What people said of where an exporter writes the types of ICMP messages.
CREATE TABLE exporter_habits (
    addr   inet        PRIMARY KEY,
    icmp   text        NOT NULL CHECK (icmp IN ('destination', 'source', 'nowhere')),
    author text        NOT NULL,
    at     timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE exporter_habits;
