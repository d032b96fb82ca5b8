-- +goose Up
CREATE TABLE workstations (
    id            INTEGER PRIMARY KEY,
    name          TEXT UNIQUE COLLATE NOCASE,      -- NULL for a newcomer
    state         TEXT NOT NULL CHECK (state IN ('newcomer', 'admitted', 'retired')),
    maker         TEXT NOT NULL,
    model         TEXT NOT NULL,
    serial        TEXT NOT NULL,
    memory        INTEGER NOT NULL,                -- bytes
    inventory     TEXT NOT NULL,                   -- JSON, as the agent told it last
    agent_version TEXT NOT NULL,
    first_seen    TIMESTAMP NOT NULL,
    last_seen     TIMESTAMP NOT NULL,
    CHECK (state = 'newcomer' OR name IS NOT NULL)
);

CREATE TABLE addresses (
    address        TEXT PRIMARY KEY,               -- canonical form of core/hwaddr
    workstation_id INTEGER NOT NULL REFERENCES workstations (id)
);
CREATE INDEX addresses_workstation ON addresses (workstation_id);

CREATE TABLE groups (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE COLLATE NOCASE
);

CREATE TABLE group_members (
    group_id       INTEGER NOT NULL REFERENCES groups (id) ON DELETE CASCADE,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    PRIMARY KEY (group_id, workstation_id)
);
CREATE INDEX group_members_workstation ON group_members (workstation_id);

CREATE TABLE images (
    id   INTEGER PRIMARY KEY,
    name TEXT NOT NULL UNIQUE
);

CREATE TABLE versions (
    image_id     INTEGER NOT NULL REFERENCES images (id),
    number       INTEGER NOT NULL,
    digest       TEXT NOT NULL,                    -- of the manifest's bytes
    captured     TIMESTAMP NOT NULL,
    workstation  TEXT NOT NULL,                    -- its name at the time
    note         TEXT NOT NULL,
    disk_bytes   INTEGER NOT NULL,
    used_bytes   INTEGER NOT NULL,
    slabs        INTEGER NOT NULL,
    new_slabs    INTEGER NOT NULL,                 -- that the store did not have before
    stored_bytes INTEGER NOT NULL,                 -- what those took in the store
    PRIMARY KEY (image_id, number)
);

CREATE TABLE deliveries (
    id         INTEGER PRIMARY KEY,
    image      TEXT NOT NULL,
    version    INTEGER NOT NULL,
    digest     TEXT NOT NULL,
    targets    TEXT NOT NULL,                      -- JSON list of the names that were ordered
    rule       TEXT NOT NULL,
    rate       INTEGER NOT NULL,                   -- bits a second
    group_addr TEXT NOT NULL,                      -- multicast address and port
    session    INTEGER NOT NULL,
    state      TEXT NOT NULL,
    reason     TEXT NOT NULL DEFAULT '',           -- why it was stopped
    ordered_by TEXT NOT NULL,
    created    TIMESTAMP NOT NULL,
    started    TIMESTAMP,
    ended      TIMESTAMP,
    used_bytes INTEGER NOT NULL,                   -- of the image
    wire_bytes INTEGER NOT NULL DEFAULT 0
);

CREATE TABLE errands (
    id             INTEGER PRIMARY KEY,
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    kind           TEXT NOT NULL CHECK (kind IN ('capture', 'receive')),
    state          TEXT NOT NULL CHECK (state IN ('waiting', 'running', 'done', 'failed', 'stopped')),
    image          TEXT NOT NULL,
    version        INTEGER NOT NULL,               -- a capture's result; 0 until then
    note           TEXT NOT NULL,
    delivery_id    INTEGER REFERENCES deliveries (id),
    error          TEXT NOT NULL DEFAULT '',
    created        TIMESTAMP NOT NULL,
    ended          TIMESTAMP
);
CREATE INDEX errands_open ON errands (workstation_id) WHERE state IN ('waiting', 'running');
CREATE INDEX errands_delivery ON errands (delivery_id);

CREATE TABLE receipts (
    id               INTEGER PRIMARY KEY,
    delivery_id      INTEGER NOT NULL REFERENCES deliveries (id),
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
    previous         TEXT NOT NULL,                -- the chain value of the receipt before
    chain            TEXT NOT NULL,
    UNIQUE (delivery_id, workstation_id),
    CHECK (verified = (outcome = 'delivered'))
);
CREATE INDEX receipts_workstation ON receipts (workstation_id);

-- +goose StatementBegin
CREATE TRIGGER receipts_stay BEFORE DELETE ON receipts BEGIN SELECT RAISE(ABORT, 'receipts are never deleted'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER receipts_stay_as_they_are BEFORE UPDATE ON receipts BEGIN SELECT RAISE(ABORT, 'receipts are never changed'); END;
-- +goose StatementEnd
