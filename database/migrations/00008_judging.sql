-- +goose Up
ALTER TABLE requests ADD location text;

-- A change may set several things at once: its before and after are objects with
-- a member for each; those of earlier ones are a number (a revision) or an array
-- (tags).
ALTER TABLE changes DROP CONSTRAINT changes_kind_check;
ALTER TABLE changes ADD CONSTRAINT changes_kind_check CHECK (kind IN ('policy', 'tags', 'judging', 'probes'));

-- Derivations, and what they proposed.
CREATE TABLE derivations (
    id       bigserial PRIMARY KEY,
    at       timestamptz NOT NULL DEFAULT now(),
    revision integer     NOT NULL, -- that it was derived on
    body     jsonb       NOT NULL
);
CREATE TABLE proposals (
    id         bigserial PRIMARY KEY,
    derivation bigint  NOT NULL REFERENCES derivations ON DELETE CASCADE,
    rule       text    NOT NULL, -- its sentence: what a refusal is kept under
    body       jsonb   NOT NULL
);
CREATE INDEX proposals_derivation ON proposals (derivation);

-- What the headings of flows were read as is now a part of how their files are
-- written.
UPDATE settings SET name = 'flow form', value = json_build_object('columns', value) WHERE name = 'flow headings';

-- +goose Down
UPDATE settings SET name = 'flow headings', value = value -> 'columns' WHERE name = 'flow form';
DROP TABLE proposals;
DROP TABLE derivations;
DELETE FROM changes WHERE kind NOT IN ('policy', 'tags');
ALTER TABLE changes DROP CONSTRAINT changes_kind_check;
ALTER TABLE changes ADD CONSTRAINT changes_kind_check CHECK (kind IN ('policy', 'tags'));
ALTER TABLE requests DROP location;
