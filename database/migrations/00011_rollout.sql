-- +goose Up
-- What a point held after each thing that happened to it: leaks are judged by it.
ALTER TABLE point_history ADD COLUMN release integer, ADD COLUMN mode text;
-- Of those that were told nothing but words before, what the words say.
UPDATE point_history SET release = substring(words FROM 'release (\d+)')::integer,
    mode = CASE WHEN words LIKE '%enforce' THEN 'enforce' ELSE 'observe' END
    WHERE what = 'applied' AND words ~ '^release \d+, ';
UPDATE point_history SET release = 0, mode = 'off' WHERE what = 'applied' AND words = 'nothing is held';
INSERT INTO versions VALUES ('points', 0);

-- Points that cannot be talked to: they fetch a file, or are given one.
ALTER TABLE points DROP CONSTRAINT points_kind_check;
ALTER TABLE points ADD CONSTRAINT points_kind_check CHECK (kind IN ('host', 'gate', 'file'));
ALTER TABLE points ADD COLUMN aimed timestamptz; -- when it was told what to hold
UPDATE points SET aimed = (SELECT max(at) FROM point_history WHERE point = name AND what = 'told');

-- What has to be true before a wave enforces. A wave that is not here has the usual
-- conditions.
CREATE TABLE waves (
    no        integer PRIMARY KEY CHECK (no > 0),
    title     text    NOT NULL,
    minutes   integer NOT NULL CHECK (minutes >= 0), -- how long it observes at least
    asserts   boolean NOT NULL, -- assertions hold
    probes    boolean NOT NULL, -- probes get the verdict that is expected
    way_back  boolean NOT NULL, -- the way back stays open
    settled   boolean NOT NULL, -- what would be rejected is settled as right
    by_itself boolean NOT NULL, -- it goes on as soon as all that is so
    author    text    NOT NULL,
    at        timestamptz NOT NULL DEFAULT now()
);

-- Somebody holds the roll-out: nothing goes on until it is let go on.
CREATE TABLE hold (
    one    boolean PRIMARY KEY DEFAULT true CHECK (one),
    author text        NOT NULL,
    at     timestamptz NOT NULL DEFAULT now(),
    reason text        NOT NULL
);

-- Some tokens may release policies instead of feeding a source.
ALTER TABLE tokens ADD COLUMN releases boolean NOT NULL DEFAULT false;

-- Workloads that no point guards, until a day.
CREATE TABLE exemptions (
    workload text PRIMARY KEY,
    reason   text        NOT NULL,
    owner    text        NOT NULL,
    ends     timestamptz NOT NULL,
    author   text        NOT NULL,
    at       timestamptz NOT NULL DEFAULT now()
);

-- +goose Down
DROP TABLE exemptions;
ALTER TABLE tokens DROP COLUMN releases;
DROP TABLE hold;
DROP TABLE waves;
ALTER TABLE points DROP COLUMN aimed;
DELETE FROM points WHERE kind = 'file';
ALTER TABLE points DROP CONSTRAINT points_kind_check;
ALTER TABLE points ADD CONSTRAINT points_kind_check CHECK (kind IN ('host', 'gate'));
DELETE FROM versions WHERE name = 'points';
ALTER TABLE point_history DROP COLUMN release, DROP COLUMN mode;
