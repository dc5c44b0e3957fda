-- +goose Up
-- What was, and until when: evidence speaks of the estate as it was.
CREATE TABLE workload_history (
    id      text        NOT NULL,
    name    text        NOT NULL,
    os      text        NOT NULL,
    kind    text        NOT NULL,
    retired timestamptz,
    until   timestamptz NOT NULL DEFAULT now()
);
CREATE INDEX ON workload_history (until);
ALTER TABLE workloads ADD added timestamptz; -- null: it is not known when
ALTER TABLE workloads ALTER added SET DEFAULT now();
-- +goose StatementBegin
CREATE FUNCTION keep_workload_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_OP = 'UPDATE' THEN
        INSERT INTO workload_history (id, name, os, kind, retired) SELECT o.id, o.name, o.os, o.kind, o.retired FROM old_workloads o JOIN new_workloads_ n USING (id)
            WHERE (o.name, o.os, o.kind, o.retired) IS DISTINCT FROM (n.name, n.os, n.kind, n.retired);
    ELSE
        INSERT INTO workload_history (id, name, os, kind, retired) SELECT id, name, os, kind, retired FROM old_workloads;
    END IF;
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER workloads_updated AFTER UPDATE ON workloads REFERENCING OLD TABLE AS old_workloads NEW TABLE AS new_workloads_ FOR EACH STATEMENT EXECUTE FUNCTION keep_workload_history();
CREATE TRIGGER workloads_deleted AFTER DELETE ON workloads REFERENCING OLD TABLE AS old_workloads FOR EACH STATEMENT EXECUTE FUNCTION keep_workload_history();
CREATE INDEX ON tag_history (until);

CREATE TABLE rank_history (
    name  text        NOT NULL,
    rank  integer     NOT NULL,
    until timestamptz NOT NULL DEFAULT now()
);
-- +goose StatementBegin
CREATE FUNCTION keep_rank_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO rank_history (name, rank) VALUES (OLD.name, OLD.rank);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER ranks_updated AFTER UPDATE OF rank ON sources FOR EACH ROW WHEN (OLD.rank <> NEW.rank) EXECUTE FUNCTION keep_rank_history();
CREATE TRIGGER ranks_deleted AFTER DELETE ON sources FOR EACH ROW EXECUTE FUNCTION keep_rank_history();

CREATE TABLE exemption_history (
    workload text        NOT NULL,
    reason   text        NOT NULL,
    owner    text        NOT NULL,
    ends     timestamptz NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL,
    until    timestamptz NOT NULL DEFAULT now()
);
-- +goose StatementBegin
CREATE FUNCTION keep_exemption_history() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO exemption_history (workload, reason, owner, ends, author, at) VALUES (OLD.workload, OLD.reason, OLD.owner, OLD.ends, OLD.author, OLD.at);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER exemptions_changed AFTER UPDATE OR DELETE ON exemptions FOR EACH ROW EXECUTE FUNCTION keep_exemption_history();

-- Points that are no more, with what they held.
CREATE TABLE former_points (
    name    text        NOT NULL,
    kind    text        NOT NULL,
    side    text        NOT NULL,
    guards  text        NOT NULL,
    made    timestamptz NOT NULL,
    dropped timestamptz NOT NULL DEFAULT now(),
    history jsonb       NOT NULL -- array of what happened: at, what, release, mode
);
-- +goose StatementBegin
CREATE FUNCTION keep_former_point() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO former_points (name, kind, side, guards, made, history) SELECT OLD.name, OLD.kind, OLD.side, OLD.guards, OLD.made,
        coalesce((SELECT jsonb_agg(jsonb_build_object('at', at, 'what', what, 'release', release, 'mode', mode) ORDER BY id)
            FROM point_history WHERE point = OLD.name AND release IS NOT NULL), '[]');
    RETURN OLD;
END $$;
-- +goose StatementEnd
CREATE TRIGGER points_dropped BEFORE DELETE ON points FOR EACH ROW EXECUTE FUNCTION keep_former_point();

-- When points were not heard of: what they held then is not known.
CREATE TABLE point_silences (
    point    text        NOT NULL,
    from_at  timestamptz NOT NULL,
    until_at timestamptz NOT NULL
);
CREATE INDEX ON point_silences (until_at);
-- +goose StatementBegin
CREATE FUNCTION keep_point_silence() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    INSERT INTO point_silences VALUES (OLD.name, OLD.heard, NEW.heard);
    RETURN NULL;
END $$;
-- +goose StatementEnd
CREATE TRIGGER points_heard AFTER UPDATE OF heard ON points FOR EACH ROW WHEN (OLD.kind <> 'file' AND NEW.heard > OLD.heard + interval '1 minute') EXECUTE FUNCTION keep_point_silence();

-- Evidence that was made; it never changes again.
CREATE TABLE evidence (
    id       bigserial PRIMARY KEY,
    promise  text        NOT NULL, -- an assertion, or "group NAME"
    from_at  timestamptz NOT NULL,
    to_at    timestamptz NOT NULL,
    made     timestamptz NOT NULL DEFAULT now(),
    author   text        NOT NULL,
    sentence text        NOT NULL,
    schedule bigint, -- that made it; none: somebody
    body     bytea       NOT NULL, -- signed JSON
    UNIQUE (schedule, from_at)
);

-- What is made by itself, when a month or a quarter is over.
CREATE TABLE evidence_schedules (
    id      bigserial PRIMARY KEY,
    promise text        NOT NULL,
    every   text        NOT NULL CHECK (every IN ('month', 'quarter')),
    author  text        NOT NULL,
    at      timestamptz NOT NULL DEFAULT now(),
    problem text        NOT NULL DEFAULT '', -- why the last was not made
    UNIQUE (promise, every)
);

-- The seed of the Ed25519 key by which evidence is signed.
CREATE TABLE signing_key (
    one  boolean PRIMARY KEY DEFAULT true CHECK (one),
    seed bytea       NOT NULL,
    made timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE signing_key;
DROP TABLE evidence_schedules;
DROP TABLE evidence;
DROP TRIGGER points_heard ON points;
DROP FUNCTION keep_point_silence;
DROP TABLE point_silences;
DROP TRIGGER points_dropped ON points;
DROP FUNCTION keep_former_point;
DROP TABLE former_points;
DROP TRIGGER exemptions_changed ON exemptions;
DROP FUNCTION keep_exemption_history;
DROP TABLE exemption_history;
DROP TRIGGER ranks_updated ON sources;
DROP TRIGGER ranks_deleted ON sources;
DROP FUNCTION keep_rank_history;
DROP TABLE rank_history;
DROP TRIGGER workloads_updated ON workloads;
DROP TRIGGER workloads_deleted ON workloads;
DROP FUNCTION keep_workload_history;
DROP TABLE workload_history;
ALTER TABLE workloads DROP added;
