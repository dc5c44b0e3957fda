-- +goose Up
ALTER TABLE conversations
    ADD unsure bigint  NOT NULL DEFAULT 0, -- connections that may be the wrong way round
    ADD part   bigint  NOT NULL DEFAULT 0; -- microseconds from the hour's start to when an address changed hands; 0: it did not
ALTER TABLE conversations DROP CONSTRAINT conversations_pkey;
ALTER TABLE conversations ADD PRIMARY KEY (hour, client, server, point, outcome, part);

-- Single records, in partitions of a day, kept for less long than conversations.
CREATE TABLE records (
    hour          integer     NOT NULL, -- of started
    key           bigint      NOT NULL, -- hash of client, server and point
    client        inet        NOT NULL,
    server        inet        NOT NULL,
    point         bigint      NOT NULL,
    client_port   integer     NOT NULL,
    started       timestamptz NOT NULL,
    ended         timestamptz NOT NULL,
    outcome       smallint    NOT NULL,
    connections   bigint      NOT NULL, -- 0: a later part of one that goes on
    packets       bigint      NOT NULL, -- both ways
    bytes         bigint      NOT NULL,
    reply_packets bigint      NOT NULL,
    reply_bytes   bigint      NOT NULL,
    flags         smallint    NOT NULL, -- TCP control bits from the client; -1: not known
    reply_flags   smallint    NOT NULL,
    confidence    smallint    NOT NULL, -- that client and server are the right way round, in percent
    reason        smallint    NOT NULL,
    observer      text        NOT NULL
) PARTITION BY RANGE (hour);
CREATE INDEX records_key ON records (key);
CREATE INDEX records_hour ON records USING brin (hour) WITH (pages_per_range = 16);

-- Which hours have conversations, and the version of the conversations that last
-- changed each.
CREATE TABLE hours (
    hour    integer PRIMARY KEY,
    version bigint NOT NULL
);
INSERT INTO hours SELECT DISTINCT hour, 0 FROM conversations;

-- What people said of ports: this one is a service there.
CREATE TABLE service_ports (
    protocol smallint    NOT NULL,
    port     integer     NOT NULL,
    kind     text        NOT NULL CHECK (kind IN ('everywhere', 'group', 'workload', 'address')),
    place    text        NOT NULL, -- name, id or CIDR; blank: everywhere
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    applied  boolean     NOT NULL DEFAULT false, -- to what was stored before
    PRIMARY KEY (protocol, port, kind, place)
);

-- At which changes of hands the stored conversations were cut.
CREATE TABLE cuts (
    addr inet        NOT NULL,
    at   timestamptz NOT NULL,
    PRIMARY KEY (addr, at)
);

-- What collectors know of those who send, as each last told.
CREATE TABLE exporters (
    collector text        NOT NULL,
    addr      inet        NOT NULL,
    state     json        NOT NULL,
    at        timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (collector, addr)
);

CREATE TABLE collectors (
    name  text PRIMARY KEY,
    state json NOT NULL,
    at    timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE collectors, exporters, cuts, service_ports, hours, records;
DELETE FROM conversations WHERE part <> 0;
ALTER TABLE conversations DROP CONSTRAINT conversations_pkey;
ALTER TABLE conversations ADD PRIMARY KEY (hour, client, server, point, outcome);
ALTER TABLE conversations DROP unsure, DROP part;
