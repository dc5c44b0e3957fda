-- +goose Up
-- Everything of one kind by one who to one what. It grows instead of repeating.
CREATE TABLE matters (
    id       text PRIMARY KEY, -- the same for the same kind, who and what
    kind     text        NOT NULL,
    title    json        NOT NULL, -- pieces of a sentence
    why      text        NOT NULL,
    about    json        NOT NULL, -- what it speaks of: group, point, exporter, line, workload
    state    text        NOT NULL DEFAULT 'new' CHECK (state IN ('new', 'seen', 'with', 'settled')),
    holder   text        NOT NULL DEFAULT '', -- with whom it is
    note     text        NOT NULL DEFAULT '',
    again    timestamptz, -- it opens again then
    size     bigint      NOT NULL DEFAULT 0, -- conversations of its largest day when it was settled
    author   text        NOT NULL DEFAULT '', -- of the state
    changed  timestamptz NOT NULL DEFAULT now(), -- the state
    first    timestamptz NOT NULL,
    last     timestamptz NOT NULL,
    opened   timestamptz NOT NULL DEFAULT now(), -- when it was new, the last time
    standing boolean     NOT NULL DEFAULT false, -- it is so until it is over; else it is what was seen on days
    ended    timestamptz -- of what was standing
);
CREATE INDEX ON matters (last);

-- What was seen of a matter on a day (UTC).
CREATE TABLE matter_days (
    matter        text   NOT NULL REFERENCES matters ON DELETE CASCADE,
    day           date   NOT NULL,
    conversations bigint NOT NULL,
    connections   bigint NOT NULL,
    clients       bigint NOT NULL,
    servers       bigint NOT NULL,
    hours         bigint[] NOT NULL, -- connections in each hour of the day
    first         timestamptz NOT NULL,
    last          timestamptz NOT NULL,
    PRIMARY KEY (matter, day)
);
CREATE INDEX ON matter_days (day);

-- What became of the connections of an hour.
CREATE TABLE watch_hours (
    hour      integer PRIMARY KEY,
    permitted bigint NOT NULL,
    uncovered bigint NOT NULL,
    held      bigint NOT NULL,
    leaks     bigint NOT NULL,
    chokes    bigint NOT NULL
);

-- Days that were looked at, and what they were then.
CREATE TABLE watch_days (
    day   date PRIMARY KEY,
    stamp text NOT NULL
);

-- Groups that are watched for newcomers, for callers that stop, and for their members.
-- While it is empty, those that assertions protect are.
CREATE TABLE watched (
    group_name text PRIMARY KEY,
    author     text        NOT NULL,
    at         timestamptz NOT NULL DEFAULT now()
);
CREATE TABLE watch_callers (
    who     text   NOT NULL,
    what    text   NOT NULL,
    point   bigint NOT NULL,
    first   timestamptz NOT NULL,
    PRIMARY KEY (who, what, point)
);

CREATE TABLE watch_caller_days (
    who   text   NOT NULL,
    what  text   NOT NULL,
    point bigint NOT NULL,
    day   date   NOT NULL,
    PRIMARY KEY (who, what, point, day)
);
CREATE INDEX ON watch_caller_days (day);
-- Who was in a group, and of whom that could not be told, when it was last looked at.
CREATE TABLE watch_members (
    group_name text PRIMARY KEY,
    members    text[] NOT NULL,
    undecided  text[] NOT NULL
);

-- What people did with a matter, and what it did by itself.
CREATE TABLE matter_log (
    matter text        NOT NULL REFERENCES matters ON DELETE CASCADE,
    at     timestamptz NOT NULL DEFAULT now(),
    author text        NOT NULL,
    words  text        NOT NULL
);
CREATE INDEX ON matter_log (matter, at);

-- +goose Down
DROP TABLE matter_log;
DROP TABLE watch_members;
DROP TABLE watch_caller_days;
DROP TABLE watch_callers;
DROP TABLE watched;
DROP TABLE watch_days;
DROP TABLE watch_hours;
DROP TABLE matter_days;
DROP TABLE matters;
