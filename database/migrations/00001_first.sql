-- +goose Up
CREATE TABLE sources (
    name text PRIMARY KEY,
    rank integer NOT NULL -- the lower one's values win
);

CREATE TABLE workloads (
    id         text PRIMARY KEY,
    name       text NOT NULL DEFAULT '',
    os         text NOT NULL DEFAULT '',
    kind       text NOT NULL DEFAULT '',
    source     text NOT NULL REFERENCES sources (name),
    changed_at timestamptz NOT NULL DEFAULT now()
);

-- What each source says of a tag. A value set by hand outranks all sources; an
-- empty one set by hand says that the workload does not have the tag.
CREATE TABLE tags (
    workload text        NOT NULL REFERENCES workloads (id) ON DELETE CASCADE,
    key      text        NOT NULL,
    source   text        NOT NULL REFERENCES sources (name),
    value    text        NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workload, key, source)
);

CREATE TABLE leases (
    workload text NOT NULL REFERENCES workloads (id) ON DELETE CASCADE,
    addr     inet NOT NULL,
    from_at  timestamptz, -- null: since always
    until_at timestamptz, -- null: for ever
    UNIQUE NULLS NOT DISTINCT (workload, addr, from_at, until_at)
);

-- The policy document. Every edit makes a revision; the text is canonical, one
-- statement a line, and blame has for each line the revision that wrote it.
CREATE TABLE revisions (
    no     integer PRIMARY KEY,
    text   text        NOT NULL,
    blame  json        NOT NULL,
    author text        NOT NULL,
    at     timestamptz NOT NULL DEFAULT now(),
    words  text        NOT NULL
);

-- What can be undone: edits of the draft, and tags set by hand.
CREATE TABLE changes (
    id       bigserial PRIMARY KEY,
    kind     text        NOT NULL CHECK (kind IN ('policy', 'tags')),
    words    text        NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    before   jsonb       NOT NULL,
    after    jsonb       NOT NULL,
    state    text        NOT NULL DEFAULT 'done' CHECK (state IN ('done', 'undone', 'gone'))
);

-- Conversations by hour, in partitions of a day.
CREATE TABLE conversations (
    hour        integer     NOT NULL, -- hours since 1970-01-01T00:00:00Z
    client      inet        NOT NULL,
    server      inet        NOT NULL,
    point       bigint      NOT NULL, -- protocol << 17 | port, see core/service
    outcome     smallint    NOT NULL, -- 0 unknown, 1 carried, 2 dropped
    connections bigint      NOT NULL,
    bytes       bigint      NOT NULL,
    packets     bigint      NOT NULL,
    first_at    timestamptz NOT NULL,
    last_at     timestamptz NOT NULL,
    observer    text        NOT NULL,
    PRIMARY KEY (hour, client, server, point, outcome)
) PARTITION BY RANGE (hour);

-- Batches that were counted; one that comes again is not counted again.
CREATE TABLE batches (
    id   text PRIMARY KEY,
    at   timestamptz NOT NULL DEFAULT now(),
    rows integer NOT NULL
);

CREATE TABLE jobs (
    id       bigserial PRIMARY KEY,
    kind     text        NOT NULL,
    title    text        NOT NULL,
    state    text        NOT NULL DEFAULT 'running' CHECK (state IN ('running', 'done', 'failed', 'cancelled')),
    done     double precision NOT NULL DEFAULT 0,
    message  text        NOT NULL DEFAULT '',
    result   jsonb,
    started  timestamptz NOT NULL DEFAULT now(),
    finished timestamptz
);

CREATE TABLE refusals (
    rule   text PRIMARY KEY, -- the proposed rule without its note
    reason text        NOT NULL,
    author text        NOT NULL,
    at     timestamptz NOT NULL DEFAULT now()
);

-- Counted up by every write to the workloads and the conversations, so that each
-- server sees what another has changed.
CREATE TABLE versions (
    name text PRIMARY KEY,
    n    bigint NOT NULL
);
INSERT INTO versions VALUES ('workloads', 0), ('conversations', 0);

-- +goose Down
DROP TABLE versions, refusals, jobs, batches, conversations, changes, revisions, leases, tags, workloads, sources;
