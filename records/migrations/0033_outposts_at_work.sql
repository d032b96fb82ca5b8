-- +goose Up
-- What an outpost has handed in: items of its box come once, however often it sends them. Another box is that of another data folder.
ALTER TABLE outposts ADD COLUMN box TEXT NOT NULL DEFAULT '';
ALTER TABLE outposts ADD COLUMN handed_in INTEGER NOT NULL DEFAULT 0;
-- How its line may be used: api.OutpostSettings.
ALTER TABLE outposts ADD COLUMN settings TEXT NOT NULL DEFAULT '{}';
-- Versions that an outpost is to hold ahead of time: one, or the newest of an image, or of all that a group has.
CREATE TABLE placements (
	id INTEGER PRIMARY KEY AUTOINCREMENT,
	outpost TEXT NOT NULL COLLATE NOCASE REFERENCES outposts (name) ON DELETE CASCADE,
	image TEXT NOT NULL DEFAULT '',
	version INTEGER NOT NULL DEFAULT 0,
	newest INTEGER NOT NULL DEFAULT 0,
	group_id INTEGER REFERENCES groups (id) ON DELETE CASCADE,
	placed TIMESTAMP NOT NULL,
	placed_by TEXT NOT NULL,
	CHECK ((image <> '') <> (group_id IS NOT NULL)),
	CHECK ((version > 0) <> (newest > 0))
);
CREATE UNIQUE INDEX placements_once ON placements (outpost, image, version, newest, coalesce(group_id, 0));
