-- +goose Up
ALTER TABLE workstations ADD COLUMN fixed_address TEXT;                      -- IPv4, of mode whole
ALTER TABLE workstations ADD COLUMN build INTEGER;                           -- of the boot environment; NULL takes the group's
ALTER TABLE groups ADD COLUMN build INTEGER;                                 -- NULL takes the one that is offered
ALTER TABLE groups ADD COLUMN menu_seconds INTEGER NOT NULL DEFAULT 0;       -- how long a menu is shown; 0 shows none
CREATE UNIQUE INDEX workstations_fixed_address ON workstations (fixed_address);

-- Which build of the boot environment was offered when. The last one is offered.
CREATE TABLE offers (
    id         INTEGER PRIMARY KEY,
    build      INTEGER NOT NULL,
    at         TIMESTAMP NOT NULL,
    offered_by TEXT NOT NULL
);

-- Addresses that mode whole has given. An empty hardware address is an address that
-- somebody else was found to use.
CREATE TABLE leases (
    address  TEXT PRIMARY KEY,
    hardware TEXT NOT NULL,
    until    TIMESTAMP NOT NULL
);

-- What lets a workstation check in: a ticket for one boot of one hardware address,
-- or the key of media, which is good for any.
CREATE TABLE tickets (
    digest  TEXT PRIMARY KEY,                        -- the ticket itself is not kept
    address TEXT NOT NULL,                           -- empty for media
    issued  TIMESTAMP NOT NULL,
    boot    TEXT NOT NULL DEFAULT '',                -- the boot that used it first
    note    TEXT NOT NULL DEFAULT ''
);
CREATE INDEX tickets_address ON tickets (address);

-- Who may receive an image; an image without a line goes to everybody.
CREATE TABLE image_access (
    image_id INTEGER NOT NULL REFERENCES images (id) ON DELETE CASCADE,
    kind     TEXT NOT NULL CHECK (kind IN ('group', 'address', 'model')),
    value    TEXT NOT NULL COLLATE NOCASE,
    PRIMARY KEY (image_id, kind, value)
);
