-- +goose Up
-- Outposts: programs at other sites that answer network boot there. A code is good once; its digest is kept. The key is that of the
-- certificate that the outpost shows. told is what it said of itself last.
CREATE TABLE outposts (
	name TEXT PRIMARY KEY COLLATE NOCASE,
	note TEXT NOT NULL DEFAULT '',
	added TIMESTAMP NOT NULL,
	code TEXT NOT NULL DEFAULT '',
	code_until TIMESTAMP,
	key TEXT NOT NULL DEFAULT '',
	joined TIMESTAMP,
	good_until TIMESTAMP,
	withdrawn TIMESTAMP,
	seen TIMESTAMP,
	told TEXT NOT NULL DEFAULT '{}'
);
CREATE UNIQUE INDEX outposts_key ON outposts (key) WHERE key <> '';
-- The outpost that a workstation called by last; empty where that was the service itself.
ALTER TABLE workstations ADD COLUMN site TEXT NOT NULL DEFAULT '';
CREATE INDEX workstations_site ON workstations (site) WHERE site <> '';
