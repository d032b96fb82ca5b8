-- +goose Up
ALTER TABLE deliveries ADD COLUMN drivers TEXT NOT NULL DEFAULT '{}';        -- JSON: which drivers go into the delivered system
ALTER TABLE receipts ADD COLUMN drivers TEXT NOT NULL DEFAULT '';            -- JSON: the packages that were put in, after the copy was checked

CREATE TABLE driver_sets (
    name       TEXT PRIMARY KEY COLLATE NOCASE,
    definition TEXT NOT NULL                        -- JSON
);

-- Errands have a third kind, and a result in words. SQLite cannot change a CHECK.
CREATE TABLE errands_new (
    id             INTEGER PRIMARY KEY,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    kind           TEXT NOT NULL CHECK (kind IN ('capture', 'receive', 'drivers')),
    state          TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped')),
    image          TEXT NOT NULL,
    version        INTEGER NOT NULL,               -- a capture's result; 0 until then
    note           TEXT NOT NULL,
    delivery_id    INTEGER REFERENCES deliveries (id),
    error          TEXT NOT NULL DEFAULT '',
    created        TIMESTAMP NOT NULL,
    ended          TIMESTAMP,
    options        TEXT NOT NULL DEFAULT '{}',     -- JSON: how to do it
    result         TEXT NOT NULL DEFAULT ''        -- of drivers: JSON
);
INSERT INTO errands_new (id, workstation_id, kind, state, image, version, note, delivery_id, error, created, ended, options)
    SELECT id, workstation_id, kind, state, image, version, note, delivery_id, error, created, ended, options FROM errands;
DROP TABLE errands;
ALTER TABLE errands_new RENAME TO errands;
CREATE INDEX errands_open ON errands (workstation_id) WHERE state IN ('waiting', 'running');
CREATE INDEX errands_delivery ON errands (delivery_id);
