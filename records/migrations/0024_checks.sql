-- +goose Up
-- Errands have two more kinds, and say who has ordered them. SQLite cannot change a CHECK.
CREATE TABLE errands_new (
    id             INTEGER PRIMARY KEY,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    kind           TEXT NOT NULL CHECK (kind IN ('capture', 'receive', 'drivers', 'payloads', 'check', 'wipe')),
    state          TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped')),
    image          TEXT NOT NULL,
    version        INTEGER NOT NULL,               -- a capture's result; 0 until then
    note           TEXT NOT NULL,
    delivery_id    INTEGER REFERENCES deliveries (id),
    error          TEXT NOT NULL DEFAULT '',
    created        TIMESTAMP NOT NULL,
    ended          TIMESTAMP,
    options        TEXT NOT NULL DEFAULT '{}',     -- JSON: how to do it
    result         TEXT NOT NULL DEFAULT '',       -- of drivers and payloads: JSON
    not_before     TIMESTAMP,                      -- its workstation gets it then
    run_id         INTEGER REFERENCES runs (id),
    run_part       INTEGER,
    ordered_by     TEXT NOT NULL DEFAULT ''
);
INSERT INTO errands_new (id, workstation_id, kind, state, image, version, note, delivery_id, error, created, ended, options, result, not_before, run_id, run_part)
    SELECT id, workstation_id, kind, state, image, version, note, delivery_id, error, created, ended, options, result, not_before, run_id, run_part FROM errands;
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

-- What checks of a machine have found out, by the machine as it was then.
CREATE TABLE checks (
    id             INTEGER PRIMARY KEY,
    errand_id      INTEGER NOT NULL REFERENCES errands (id),
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    workstation    TEXT NOT NULL,                  -- its name at the time
    hardware_address TEXT NOT NULL,
    maker          TEXT NOT NULL,
    model          TEXT NOT NULL,
    serial         TEXT NOT NULL,
    ended          TIMESTAMP NOT NULL,
    verdict        TEXT NOT NULL,
    findings       TEXT NOT NULL,                  -- JSON
    result         TEXT NOT NULL,                  -- JSON, see core/check
    ordered_by     TEXT NOT NULL
);
CREATE UNIQUE INDEX checks_errand ON checks (errand_id);
CREATE INDEX checks_workstation ON checks (workstation_id, id);
CREATE INDEX checks_model   ON checks (model, id);
CREATE INDEX checks_verdict ON checks (verdict, id);
CREATE INDEX checks_ended   ON checks (ended);

-- Workstations that a part of a run took out, with why: JSON, by number. The parts after it leave them alone.
ALTER TABLE run_parts ADD COLUMN left_out TEXT NOT NULL DEFAULT '';

-- Receipts are of versions and of wipes; of a wipe, details says as JSON how it was done.
CREATE TABLE receipts_new (
    id               INTEGER PRIMARY KEY,
    delivery_id      INTEGER REFERENCES deliveries (id),
    workstation_id   INTEGER NOT NULL REFERENCES workstations (id),
    workstation      TEXT NOT NULL,                -- its name at the time
    hardware_address TEXT NOT NULL,
    image            TEXT NOT NULL,
    version          INTEGER NOT NULL,
    digest           TEXT NOT NULL,
    started          TIMESTAMP,
    ended            TIMESTAMP NOT NULL,
    bytes_multicast  INTEGER NOT NULL,
    bytes_unicast    INTEGER NOT NULL,
    verified         INTEGER NOT NULL,
    outcome          TEXT NOT NULL,
    reason           TEXT NOT NULL,
    ordered_by       TEXT NOT NULL,
    unreadable_bytes INTEGER NOT NULL DEFAULT 0,
    drivers          TEXT NOT NULL DEFAULT '',
    remark           TEXT NOT NULL DEFAULT '',
    kind             TEXT NOT NULL DEFAULT 'version',
    details          TEXT NOT NULL DEFAULT '',
    UNIQUE (delivery_id, workstation_id),
    CHECK (kind <> 'version' OR delivery_id IS NOT NULL AND verified = (outcome = 'delivered'))
);
INSERT INTO receipts_new (id, delivery_id, workstation_id, workstation, hardware_address, image, version, digest, started, ended, bytes_multicast, bytes_unicast, verified, outcome, reason, ordered_by, unreadable_bytes, drivers, remark)
    SELECT id, delivery_id, workstation_id, workstation, hardware_address, image, version, digest, started, ended, bytes_multicast, bytes_unicast, verified, outcome, reason, ordered_by, unreadable_bytes, drivers, remark FROM receipts;
DROP TABLE receipts;
ALTER TABLE receipts_new RENAME TO receipts;
CREATE INDEX receipts_workstation ON receipts (workstation_id);
CREATE INDEX receipts_outcome ON receipts (outcome);
CREATE INDEX receipts_outcome_ended ON receipts (outcome, ended);
CREATE INDEX receipts_outcome_image ON receipts (outcome, image);
CREATE INDEX receipts_outcome_name  ON receipts (outcome, workstation COLLATE NOCASE);
CREATE INDEX receipts_image   ON receipts (image);
CREATE INDEX receipts_ended   ON receipts (ended);
CREATE INDEX receipts_name    ON receipts (workstation COLLATE NOCASE);
-- +goose StatementBegin
CREATE TRIGGER receipts_stay BEFORE DELETE ON receipts BEGIN SELECT RAISE(ABORT, 'receipts are never deleted'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER receipts_stay_as_they_are BEFORE UPDATE ON receipts BEGIN SELECT RAISE(ABORT, 'receipts are never changed'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER receipts_are_found AFTER INSERT ON receipts BEGIN
    INSERT INTO receipts_text (rowid, workstation, hardware_address, image, reason) VALUES (new.id, new.workstation, new.hardware_address, new.image, new.reason);
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER receipts_are_counted AFTER INSERT ON receipts BEGIN
    INSERT INTO receipt_counts (outcome, n) VALUES (new.outcome, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER deliveries_are_counted AFTER INSERT ON receipts WHEN new.outcome = 'delivered' BEGIN
    UPDATE deliveries SET delivered = delivered + 1 WHERE id = new.delivery_id;
END;
-- +goose StatementEnd
