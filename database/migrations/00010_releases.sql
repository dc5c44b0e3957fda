-- +goose Up
-- A release is a revision of the policy that was put in force under a number; it
-- never changes again.
CREATE TABLE releases (
    no       integer PRIMARY KEY,
    revision integer     NOT NULL REFERENCES revisions (no),
    title    text        NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now()
);

-- Enforcement points: what they guard, what they are to hold, and what they said last
-- that they hold.
CREATE TABLE points (
    name      text PRIMARY KEY,
    kind      text        NOT NULL CHECK (kind IN ('host', 'gate')),
    side      text        NOT NULL CHECK (side IN ('server', 'client', 'both')),
    guards    text        NOT NULL, -- an expression
    wave      integer     NOT NULL CHECK (wave > 0),
    puts_back boolean     NOT NULL, -- drift, by itself
    hash      bytea       NOT NULL UNIQUE, -- SHA-256 of its token
    author    text        NOT NULL,
    made      timestamptz NOT NULL DEFAULT now(),
    release   integer REFERENCES releases (no),
    mode      text        NOT NULL DEFAULT 'off' CHECK (mode IN ('off', 'observe', 'enforce')),
    CHECK ((release IS NULL) = (mode = 'off')),
    again     integer     NOT NULL DEFAULT 0, -- how often it was told the same anew
    heard     timestamptz,
    said      jsonb
);

-- What happened at each point.
CREATE TABLE point_history (
    id    bigserial PRIMARY KEY,
    point text        NOT NULL REFERENCES points (name) ON DELETE CASCADE,
    at    timestamptz NOT NULL DEFAULT now(),
    what  text        NOT NULL, -- told, applied, refused, drifted, put back, went back
    words text        NOT NULL
);
CREATE INDEX point_history_point ON point_history (point, id);

-- +goose Down
DROP TABLE point_history;
DROP TABLE points;
DROP TABLE releases;
