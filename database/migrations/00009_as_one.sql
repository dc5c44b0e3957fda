-- +goose Up
-- Files of traffic that people imported. Their rows are kept apart from those of
-- collectors, so that taking a file back leaves the rest exactly as it is; while
-- one is undone, nobody reads its rows.
CREATE TABLE files (
    id     serial PRIMARY KEY,
    batch  text      NOT NULL,
    hours  integer[] NOT NULL,
    rows   integer   NOT NULL,
    undone boolean   NOT NULL DEFAULT false
);
ALTER TABLE conversations ADD file integer NOT NULL DEFAULT 0; -- 0: none
ALTER TABLE conversations DROP CONSTRAINT conversations_pkey;
ALTER TABLE conversations ADD PRIMARY KEY (hour, client, server, point, outcome, part, file);
ALTER TABLE records ADD file integer NOT NULL DEFAULT 0;

-- What the workloads that an import changed were before it; of an import that was
-- undone, what it made of them. See store/former.go.
CREATE TABLE former (
    change   bigint NOT NULL REFERENCES changes (id) ON DELETE CASCADE,
    workload text   NOT NULL,
    image    jsonb,         -- null: there was none
    left_as  text   NOT NULL, -- MD5 of the image that the import, or its undoing, left
    PRIMARY KEY (change, workload)
);
ALTER TABLE changes DROP CONSTRAINT changes_kind_check;
ALTER TABLE changes ADD CONSTRAINT changes_kind_check CHECK (kind IN ('policy', 'tags', 'judging', 'probes', 'workloads', 'flows'));

-- What derivations set aside, so that it can be looked at and settled together.
CREATE TABLE set_aside (
    derivation bigint NOT NULL REFERENCES derivations ON DELETE CASCADE,
    reason     text   NOT NULL,
    client     inet   NOT NULL,
    server     inet   NOT NULL,
    point      bigint NOT NULL
);
CREATE INDEX set_aside_derivation ON set_aside (derivation);

-- +goose Down
DROP TABLE set_aside;
DELETE FROM changes WHERE kind IN ('workloads', 'flows');
ALTER TABLE changes DROP CONSTRAINT changes_kind_check;
ALTER TABLE changes ADD CONSTRAINT changes_kind_check CHECK (kind IN ('policy', 'tags', 'judging', 'probes'));
DROP TABLE former;
DELETE FROM conversations WHERE file IN (SELECT id FROM files WHERE undone);
DELETE FROM records WHERE file IN (SELECT id FROM files WHERE undone);
CREATE TEMP TABLE apart ON COMMIT DROP AS SELECT * FROM conversations WHERE file <> 0;
DELETE FROM conversations WHERE file <> 0;
ALTER TABLE conversations DROP CONSTRAINT conversations_pkey;
ALTER TABLE conversations DROP file;
ALTER TABLE conversations ADD PRIMARY KEY (hour, client, server, point, outcome, part);
INSERT INTO conversations (hour, client, server, point, outcome, part, connections, bytes, packets, unsure, first_at, last_at, observer)
    SELECT hour, client, server, point, outcome, part, sum(connections), sum(bytes), sum(packets), sum(unsure), min(first_at), max(last_at), max(observer) FROM apart
        GROUP BY hour, client, server, point, outcome, part
    ON CONFLICT (hour, client, server, point, outcome, part) DO UPDATE SET
        connections = conversations.connections + excluded.connections, bytes = conversations.bytes + excluded.bytes,
        packets = conversations.packets + excluded.packets, unsure = conversations.unsure + excluded.unsure,
        first_at = least(conversations.first_at, excluded.first_at), last_at = greatest(conversations.last_at, excluded.last_at);
ALTER TABLE records DROP file;
DROP TABLE files;
