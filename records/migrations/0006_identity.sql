-- +goose Up
-- Machines are told apart by the system UUID and serial number of their firmware
-- first, and by the hardware addresses of their own cards then.
ALTER TABLE workstations ADD COLUMN uuid TEXT NOT NULL DEFAULT '';          -- canonical; empty if the firmware has none worth the name
CREATE INDEX workstations_uuid ON workstations (uuid) WHERE uuid <> '';
CREATE INDEX workstations_state ON workstations (state, last_seen);

CREATE TABLE addresses_new (
    address        TEXT NOT NULL,                   -- canonical form of core/hwaddr
    workstation_id INTEGER NOT NULL REFERENCES workstations (id) ON DELETE CASCADE,
    -- A proposed address was seen in the machine, and an engineer has not accepted it
    -- yet. A shared one is of an adapter or dock that several machines use.
    state          TEXT NOT NULL DEFAULT 'accepted' CHECK (state IN ('accepted', 'proposed', 'shared')),
    PRIMARY KEY (address, workstation_id)
);
INSERT INTO addresses_new (address, workstation_id) SELECT address, workstation_id FROM addresses;
DROP TABLE addresses;
ALTER TABLE addresses_new RENAME TO addresses;
CREATE UNIQUE INDEX addresses_accepted ON addresses (address) WHERE state = 'accepted';
CREATE INDEX addresses_workstation ON addresses (workstation_id);

-- Hardware addresses that an engineer has said to be of adapters and docks.
CREATE TABLE shared_addresses (
    address TEXT PRIMARY KEY
);

-- Machines that are turned away for good.
CREATE TABLE refusals (
    value      TEXT PRIMARY KEY,                    -- hardware address or system UUID
    at         TIMESTAMP NOT NULL,
    refused_by TEXT NOT NULL,
    note       TEXT NOT NULL
);

ALTER TABLE leases ADD COLUMN client TEXT NOT NULL DEFAULT '';              -- client identifier in hexadecimal, if it says more than the hardware address

-- Keys of media can be limited; those and tickets can be withdrawn.
ALTER TABLE tickets ADD COLUMN until TIMESTAMP;                             -- NULL sets no end
ALTER TABLE tickets ADD COLUMN only_group TEXT NOT NULL DEFAULT '';         -- good for workstations of this group alone
ALTER TABLE tickets ADD COLUMN used TIMESTAMP;                              -- last time

ALTER TABLE errands ADD COLUMN not_before TIMESTAMP;                        -- its workstation gets it then

-- What could not be read at a start, so that it stands in the way of none.
CREATE TABLE set_aside (
    id      INTEGER PRIMARY KEY,
    at      TIMESTAMP NOT NULL,
    kind    TEXT NOT NULL,
    content TEXT NOT NULL,                          -- JSON
    reason  TEXT NOT NULL
);

ALTER TABLE receipts ADD COLUMN remark TEXT NOT NULL DEFAULT '';             -- what else there is to say of the disk, such as a file system that does not fill its partition
