-- +goose Up
-- What deliveries did over time, for a picture of it: see core/course. Compressed (Zstandard).
CREATE TABLE courses (
	delivery_id INTEGER NOT NULL PRIMARY KEY REFERENCES deliveries (id) ON DELETE CASCADE,
	content BLOB NOT NULL
);
