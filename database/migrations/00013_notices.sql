-- +goose Up
-- Where messages go.
CREATE TABLE destinations (
    name     text PRIMARY KEY,
    kind     text  NOT NULL CHECK (kind IN ('syslog', 'webhook', 'mail')),
    settings jsonb NOT NULL, -- address and secrets
    author   text  NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    sent     timestamptz, -- when it took a message last
    failing  timestamptz, -- since when it takes none
    problem  text NOT NULL DEFAULT ''
);

-- When who is told of what.
CREATE TABLE notices (
    id       bigserial PRIMARY KEY,
    kinds    text[] NOT NULL, -- of matters; none: any
    who      text   NOT NULL DEFAULT '', -- an expression that a client agrees with; blank: any
    what     text   NOT NULL DEFAULT '', -- that a server agrees with
    matter   text   NOT NULL DEFAULT '', -- just this one
    pace     text   NOT NULL CHECK (pace IN ('at once', 'hourly', 'daily')),
    to_      text[] NOT NULL, -- destinations
    quiet    int4range, -- minutes of the day (UTC) in which nothing is sent; its end may be on the next day
    ends     timestamptz,
    paused   boolean NOT NULL DEFAULT false,
    author   text NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    fired    timestamptz
);

-- What is to be sent, until it is. What is sent is kept for a while.
CREATE TABLE outbox (
    id          text PRIMARY KEY,
    notice      bigint REFERENCES notices ON DELETE CASCADE, -- none: a trial
    destination text NOT NULL REFERENCES destinations ON DELETE CASCADE,
    matter      text NOT NULL,
    message     json NOT NULL,
    times       bigint NOT NULL DEFAULT 1, -- how often it happened while it waited
    made        timestamptz NOT NULL DEFAULT now(),
    due         timestamptz NOT NULL DEFAULT now(),
    claimed     timestamptz, -- until when a server tries it
    tries       integer NOT NULL DEFAULT 0,
    sent        timestamptz,
    sent_as     text NOT NULL DEFAULT '' -- id of the message that it went with
);
CREATE INDEX ON outbox (destination, due) WHERE sent IS NULL;
CREATE INDEX ON outbox (notice, matter, made);

-- +goose Down
DROP TABLE outbox;
DROP TABLE notices;
DROP TABLE destinations;
