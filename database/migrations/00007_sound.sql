-- +goose Up
-- Requests that stored something, so that one that is sent again is not stored
-- again. What was answered is kept with it.
CREATE TABLE requests (
    key         text PRIMARY KEY,
    fingerprint text        NOT NULL,
    at          timestamptz NOT NULL DEFAULT now(),
    status      integer,
    type        text,
    body        bytea
);
CREATE INDEX requests_at ON requests (at);

-- Which server runs a job, and when it last said so. stored is set in the
-- transaction that stores what the job makes.
ALTER TABLE jobs
    ADD owner  text        NOT NULL DEFAULT '',
    ADD beat   timestamptz NOT NULL DEFAULT now(),
    ADD stored timestamptz;
CREATE INDEX jobs_running ON jobs (id) WHERE state = 'running';

-- Batches that the database refused for what they hold.
CREATE TABLE refused_batches (
    id        text PRIMARY KEY,
    collector text        NOT NULL,
    at        timestamptz NOT NULL DEFAULT now(),
    reason    text        NOT NULL,
    rows      integer     NOT NULL,
    records   bytea       NOT NULL -- CSV
);

-- Collectors have names of their own now.
DELETE FROM collectors WHERE name = 'server';
DELETE FROM exporters WHERE collector = 'server';

-- +goose Down
DROP TABLE refused_batches;
ALTER TABLE jobs DROP owner, DROP beat, DROP stored;
DROP INDEX IF EXISTS jobs_running;
DROP TABLE requests;
