-- +goose Up
-- When the slabs that a version brought were held against those of the version before it, so as to lean on them; and when it was made to stand alone.
ALTER TABLE versions ADD COLUMN leaned TIMESTAMP;
ALTER TABLE versions ADD COLUMN settled TIMESTAMP;
