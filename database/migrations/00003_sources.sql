-- +goose Up
ALTER TABLE sources
    ADD mapping jsonb,        -- what each heading of its files is, by heading
    ADD taken   timestamptz,  -- when it was heard last
    ADD whole   timestamptz;  -- when it last gave its complete list

-- Which sources list a workload. One that none lists any more is retired.
CREATE TABLE listed (
    workload text NOT NULL REFERENCES workloads (id) ON DELETE CASCADE,
    source   text NOT NULL REFERENCES sources (name),
    PRIMARY KEY (workload, source)
);
INSERT INTO listed SELECT id, source FROM workloads UNION SELECT DISTINCT workload, source FROM tags WHERE source <> 'by hand';

ALTER TABLE workloads ADD retired timestamptz;
ALTER TABLE leases ADD source text NOT NULL DEFAULT '';
UPDATE leases SET source = workloads.source FROM workloads WHERE workloads.id = leases.workload;
CREATE INDEX leases_addr ON leases (addr);

-- Tags come by the million: to check both references of each takes longer than
-- all the rest. What writes tags writes their workloads in the same transaction.
ALTER TABLE tags DROP CONSTRAINT tags_workload_fkey, DROP CONSTRAINT tags_source_fkey;

-- What sources and people said before, and until when.
CREATE TABLE tag_history (
    workload text        NOT NULL,
    key      text        NOT NULL,
    source   text        NOT NULL,
    value    text        NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL,
    until    timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX tag_history_workload ON tag_history (workload);

-- +goose StatementBegin
CREATE FUNCTION keep_tag_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        INSERT INTO tag_history (workload, key, source, value, author, at)
            SELECT o.workload, o.key, o.source, o.value, o.author, o.at FROM old_tags o JOIN new_tags n USING (workload, key, source) WHERE o.value <> n.value;
    ELSE
        INSERT INTO tag_history (workload, key, source, value, author, at) SELECT workload, key, source, value, author, at FROM old_tags;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER tags_updated AFTER UPDATE ON tags REFERENCING OLD TABLE AS old_tags NEW TABLE AS new_tags FOR EACH STATEMENT EXECUTE FUNCTION keep_tag_history();
CREATE TRIGGER tags_deleted AFTER DELETE ON tags REFERENCING OLD TABLE AS old_tags FOR EACH STATEMENT EXECUTE FUNCTION keep_tag_history();

-- Scripts that feed one source. A token is shown once and kept as its SHA-256.
CREATE TABLE tokens (
    id      bigserial PRIMARY KEY,
    name    text        NOT NULL,
    source  text        NOT NULL,
    hash    bytea       NOT NULL UNIQUE,
    author  text        NOT NULL,
    made    timestamptz NOT NULL DEFAULT now(),
    used    timestamptz,
    revoked timestamptz
);

-- Tags that were suggested and that somebody said are wrong.
CREATE TABLE refused_tags (
    workload text        NOT NULL,
    key      text        NOT NULL,
    value    text        NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (workload, key, value)
);

-- Filters under a name, by the list that they are for.
CREATE TABLE selections (
    list   text        NOT NULL,
    name   text        NOT NULL,
    filter text        NOT NULL, -- the query of the page's address
    author text        NOT NULL,
    at     timestamptz NOT NULL DEFAULT now(),
    PRIMARY KEY (list, name)
);

CREATE TABLE settings (
    name  text PRIMARY KEY,
    value json NOT NULL
);

-- +goose Down
DROP TABLE settings, selections, refused_tags, tokens;
DROP TRIGGER tags_updated ON tags;
DROP TRIGGER tags_deleted ON tags;
DROP FUNCTION keep_tag_history;
DROP TABLE tag_history, listed;
ALTER TABLE tags ADD FOREIGN KEY (workload) REFERENCES workloads (id) ON DELETE CASCADE, ADD FOREIGN KEY (source) REFERENCES sources (name);
ALTER TABLE leases DROP source;
ALTER TABLE workloads DROP retired;
ALTER TABLE sources DROP mapping, DROP taken, DROP whole;
