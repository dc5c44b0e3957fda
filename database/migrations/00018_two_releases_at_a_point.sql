-- +goose Up
-- A point runs two releases at most: it enforces one and observes another.
ALTER TABLE points ADD enforces integer REFERENCES releases (no), ADD observes integer REFERENCES releases (no);
UPDATE points SET enforces = release WHERE mode = 'enforce';
UPDATE points SET observes = release WHERE mode = 'observe';
ALTER TABLE points DROP release, DROP mode;
ALTER TABLE points ADD CHECK (enforces <> observes);

-- Another point sees part of the packets of its connections.
ALTER TABLE points ADD paired boolean NOT NULL DEFAULT false;

-- Enforcement that has to be confirmed: until when, and what the point ran before.
ALTER TABLE points ADD trial text NOT NULL DEFAULT '', ADD trial_until timestamptz, ADD trial_enforces integer REFERENCES releases (no);

-- A person decided that a point which took this order follows the server, though that does not have it.
ALTER TABLE points ADD yields_epoch text NOT NULL DEFAULT '', ADD yields_order bigint NOT NULL DEFAULT 0;

-- Who uses the token: the run of the agent, from where, and who else did while it was in use.
ALTER TABLE points ADD run text NOT NULL DEFAULT '', ADD run_from text NOT NULL DEFAULT '', ADD run_at timestamptz,
    ADD other_run text NOT NULL DEFAULT '', ADD other_from text NOT NULL DEFAULT '', ADD other_at timestamptz;
-- The token that the present one replaces is valid until the new one is used.
ALTER TABLE points ADD former_hash bytea UNIQUE;

-- Epochs of this database, each with the orders that it gave. A database that is restored
-- from a back-up begins a new one. place tells a restored database from the original.
CREATE TABLE epochs (
    no     serial PRIMARY KEY,
    id     text        NOT NULL UNIQUE,
    made   timestamptz NOT NULL DEFAULT now(),
    orders bigint      NOT NULL DEFAULT 0,
    place  text        NOT NULL
);

-- Numbers of releases that exist somewhere: none is given twice.
CREATE TABLE release_numbers (
    one  boolean PRIMARY KEY DEFAULT true CHECK (one),
    last integer NOT NULL
);
INSERT INTO release_numbers (last) SELECT coalesce(max(no), 0) FROM releases;

-- What a point also observed; the release and mode of an event are those that decided.
ALTER TABLE point_history ADD observes integer;

-- +goose Down
ALTER TABLE point_history DROP observes;
DROP TABLE release_numbers;
DROP TABLE epochs;
ALTER TABLE points DROP former_hash, DROP run, DROP run_from, DROP run_at, DROP other_run, DROP other_from, DROP other_at,
    DROP yields_epoch, DROP yields_order, DROP trial, DROP trial_until, DROP trial_enforces, DROP paired;
ALTER TABLE points ADD release integer REFERENCES releases (no), ADD mode text NOT NULL DEFAULT 'off'
    CHECK (mode IN ('off', 'observe', 'enforce'));
UPDATE points SET release = coalesce(enforces, observes),
    mode = CASE WHEN enforces IS NOT NULL THEN 'enforce' WHEN observes IS NOT NULL THEN 'observe' ELSE 'off' END;
ALTER TABLE points DROP enforces, DROP observes, ADD CHECK ((release IS NULL) = (mode = 'off'));
