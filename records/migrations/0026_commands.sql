-- +goose Up
-- Errands run commands and bring folders back, too. SQLite cannot change a CHECK.
CREATE TABLE errands_new (
    id             INTEGER PRIMARY KEY,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    kind           TEXT NOT NULL CHECK (kind IN ('capture', 'receive', 'drivers', 'payloads', 'check', 'wipe', 'command', 'folders')),
    state          TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped')),
    image          TEXT NOT NULL,
    version        INTEGER NOT NULL,               -- a capture's result; 0 until then
    note           TEXT NOT NULL,
    delivery_id    INTEGER REFERENCES deliveries (id),
    error          TEXT NOT NULL DEFAULT '',
    created        TIMESTAMP NOT NULL,
    ended          TIMESTAMP,
    options        TEXT NOT NULL DEFAULT '{}',     -- JSON: how to do it
    result         TEXT NOT NULL DEFAULT '',       -- of drivers, payloads, folders and commands: JSON
    not_before     TIMESTAMP,                      -- its workstation gets it then
    run_id         INTEGER REFERENCES runs (id),
    run_part       INTEGER,
    ordered_by     TEXT NOT NULL DEFAULT ''
);
INSERT INTO errands_new SELECT id, workstation_id, kind, state, image, version, note, delivery_id, error, created, ended, options, result, not_before, run_id, run_part, ordered_by FROM errands;
DROP TABLE errands;
ALTER TABLE errands_new RENAME TO errands;
CREATE INDEX errands_open ON errands (workstation_id) WHERE state IN ('waiting', 'running');
CREATE INDEX errands_delivery ON errands (delivery_id);
CREATE INDEX errands_workstation ON errands (workstation_id);
CREATE INDEX errands_running ON errands (workstation_id) WHERE state = 'running';
CREATE INDEX errands_state   ON errands (state);
CREATE INDEX errands_kind    ON errands (kind);
CREATE INDEX errands_created ON errands (created);
CREATE INDEX errands_waiting ON errands (state, not_before) WHERE state IN ('waiting', 'running');
CREATE INDEX errands_image   ON errands (image, state);
CREATE INDEX errands_run     ON errands (run_id, run_part) WHERE run_id IS NOT NULL;
-- +goose StatementBegin
CREATE TRIGGER deliveries_have_members AFTER INSERT ON errands WHEN new.delivery_id IS NOT NULL BEGIN
    UPDATE deliveries SET members = members + 1 WHERE id = new.delivery_id;
END;
-- +goose StatementEnd

-- What each command, by its name, has said at a workstation when it was run there last.
CREATE TABLE said (
    workstation_id INTEGER NOT NULL REFERENCES workstations (id) ON DELETE CASCADE,
    command        TEXT NOT NULL COLLATE NOCASE,
    errand_id      INTEGER NOT NULL REFERENCES errands (id),
    passed         INTEGER NOT NULL,
    last_line      TEXT NOT NULL,
    PRIMARY KEY (workstation_id, command)
) WITHOUT ROWID;
