-- +goose Up
-- The image that the workstations of a group should have; version is 0 for the newest.
ALTER TABLE groups ADD COLUMN image TEXT NOT NULL DEFAULT '';
ALTER TABLE groups ADD COLUMN version INTEGER NOT NULL DEFAULT 0;

-- Orders that run by themselves for a workstation that is behind, and the version that each was brought so, which is not tried again.
ALTER TABLE orders ADD COLUMN when_behind BOOLEAN NOT NULL DEFAULT 0;
CREATE INDEX orders_when_behind ON orders (name) WHERE when_behind;
CREATE TABLE tried (
    order_id       INTEGER NOT NULL REFERENCES orders (id) ON DELETE CASCADE,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id) ON DELETE CASCADE,
    version        TEXT NOT NULL, -- NAME@VERSION
    PRIMARY KEY (order_id, workstation_id)
);
CREATE INDEX tried_workstation ON tried (workstation_id);

-- A run for some of its order's workstations alone: only_ids is a JSON list of their numbers, empty for all. One that goes on for those
-- that another failed for names that, and how often it was tried with it.
ALTER TABLE runs ADD COLUMN only_ids TEXT NOT NULL DEFAULT '';
ALTER TABLE runs ADD COLUMN continues INTEGER REFERENCES runs (id);
ALTER TABLE runs ADD COLUMN attempt INTEGER NOT NULL DEFAULT 1;
CREATE INDEX runs_continues ON runs (continues) WHERE continues IS NOT NULL;

-- Times in which no order runs by itself.
CREATE TABLE quiet_times (
    name  TEXT PRIMARY KEY COLLATE NOCASE,
    begin TIMESTAMP NOT NULL,
    until TIMESTAMP NOT NULL,
    note  TEXT NOT NULL
);
CREATE INDEX quiet_times_until ON quiet_times (until);
