-- +goose Up
-- What an outpost has handed in: items of its box come once, however often it sends them. Another box is that of another data folder.
ALTER TABLE outposts ADD COLUMN box TEXT NOT NULL DEFAULT '';
ALTER TABLE outposts ADD COLUMN handed_in INTEGER NOT NULL DEFAULT 0;
