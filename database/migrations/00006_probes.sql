-- +goose Up
-- Questions with the verdict that is expected, asked again after every change; a
-- reason says why, also why it is right that something is rejected.
CREATE TABLE probes (
    question text PRIMARY KEY, -- without the verdict
    want     text        NOT NULL CHECK (want IN ('permit', 'reject', 'uncovered')),
    reason   text        NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now()
);
INSERT INTO versions VALUES ('probes', 0);

-- +goose Down
DELETE FROM versions WHERE name = 'probes';
DROP TABLE probes;
