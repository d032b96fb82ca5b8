-- +goose Up
-- Errands start boot entries, too. SQLite cannot change a CHECK.
CREATE TABLE errands_new (
    id             INTEGER PRIMARY KEY,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    kind           TEXT NOT NULL CHECK (kind IN ('capture', 'receive', 'drivers', 'payloads', 'check', 'wipe', 'command', 'folders', 'entry')),
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

-- Boot entries: what workstations can boot beside builds of the boot environment.
CREATE TABLE boot_entries (
    id       INTEGER PRIMARY KEY,
    name     TEXT NOT NULL UNIQUE COLLATE NOCASE,
    settings TEXT NOT NULL,             -- JSON
    newest   INTEGER NOT NULL DEFAULT 0, -- number of the last version; none is used twice
    saved    TIMESTAMP NOT NULL,
    saved_by TEXT NOT NULL
);
CREATE TABLE boot_entry_versions (
    entry_id INTEGER NOT NULL REFERENCES boot_entries (id) ON DELETE CASCADE,
    number   INTEGER NOT NULL,
    found    TEXT NOT NULL,             -- JSON: what it is, how it is started, digests
    origin   TEXT NOT NULL,             -- the file's name
    added    TIMESTAMP NOT NULL,
    added_by TEXT NOT NULL,
    PRIMARY KEY (entry_id, number)
);
-- What a workstation boots in place of its disk: once, or at every start.
CREATE TABLE boot_choices (
    workstation_id INTEGER NOT NULL REFERENCES workstations (id) ON DELETE CASCADE,
    once           INTEGER NOT NULL,
    entry_id       INTEGER NOT NULL REFERENCES boot_entries (id) ON DELETE CASCADE,
    parameters     TEXT NOT NULL,       -- JSON
    chosen         TIMESTAMP NOT NULL,
    chosen_by      TEXT NOT NULL,
    PRIMARY KEY (workstation_id, once)
);
CREATE INDEX boot_choices_entry ON boot_choices (entry_id);
ALTER TABLE groups ADD COLUMN boot_entry INTEGER REFERENCES boot_entries (id) ON DELETE SET NULL;
CREATE INDEX groups_boot_entry ON groups (boot_entry);
-- Each start of a boot entry at a workstation.
CREATE TABLE boot_starts (
    id             INTEGER PRIMARY KEY,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id) ON DELETE CASCADE,
    entry          TEXT NOT NULL,
    version        INTEGER NOT NULL,
    way            TEXT NOT NULL,
    parameters     TEXT NOT NULL,       -- JSON
    file           TEXT NOT NULL,       -- digest of the program or kernel
    once           INTEGER NOT NULL,    -- it was chosen for one start
    errand_id      INTEGER REFERENCES errands (id),
    ticket         TEXT NOT NULL UNIQUE, -- digest
    made           TIMESTAMP NOT NULL,
    loaded         TIMESTAMP,           -- when the program or kernel had left
    fetched        TIMESTAMP,           -- the answer file, first
    fetched_by     TEXT NOT NULL DEFAULT '', -- an address; no other gets it
    fetches        INTEGER NOT NULL DEFAULT 0,
    ended          TIMESTAMP,
    how            TEXT NOT NULL DEFAULT '' -- told or restarted
);
CREATE INDEX boot_starts_workstation ON boot_starts (workstation_id, id);
CREATE INDEX boot_starts_entry ON boot_starts (entry, id);
CREATE INDEX boot_starts_errand ON boot_starts (errand_id) WHERE errand_id IS NOT NULL;
