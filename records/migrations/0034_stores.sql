-- +goose Up
-- Object stores that slabs may lie in, beside the data folder's own, which is called "folder".
CREATE TABLE stores (
	name TEXT NOT NULL PRIMARY KEY COLLATE NOCASE CHECK (name <> 'folder'),
	place TEXT NOT NULL UNIQUE,
	region TEXT NOT NULL DEFAULT '',
	key TEXT NOT NULL DEFAULT '',
	secret TEXT NOT NULL DEFAULT '',
	added TIMESTAMP NOT NULL
);
-- Where new versions go, and how many bytes the data folder may have of slabs that are elsewhere.
CREATE TABLE storing (
	only_one INTEGER NOT NULL PRIMARY KEY CHECK (only_one = 1),
	store TEXT NOT NULL,
	cache_bytes INTEGER NOT NULL
);
INSERT INTO storing (only_one, store, cache_bytes) VALUES (1, 'folder', 107374182400);
-- Where a version is, and where it is moved to; empty while it is not.
ALTER TABLE versions ADD COLUMN store TEXT NOT NULL DEFAULT 'folder';
ALTER TABLE versions ADD COLUMN moves_to TEXT NOT NULL DEFAULT '';
CREATE INDEX versions_moving ON versions (moves_to) WHERE moves_to <> '';
-- When backups are made by themselves: at a time of day into a store; none while that is empty.
CREATE TABLE backing (
	only_one INTEGER NOT NULL PRIMARY KEY CHECK (only_one = 1),
	store TEXT NOT NULL,
	at TEXT NOT NULL,
	slabs BOOLEAN NOT NULL,
	keep INTEGER NOT NULL,
	begun TIMESTAMP,
	ended TIMESTAMP,
	trouble TEXT NOT NULL
);
INSERT INTO backing (only_one, store, at, slabs, keep, trouble) VALUES (1, '', '02:00', FALSE, 14, '');
-- The store that the records are copied into as they change, so that another machine can become the service; none while it is empty.
ALTER TABLE backing ADD COLUMN copy_to TEXT NOT NULL DEFAULT '';
