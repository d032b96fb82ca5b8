-- +goose Up
-- What is to be handed in, in order: JSON. Numbers are never used again, and are of one box.
CREATE TABLE items (
	number INTEGER PRIMARY KEY AUTOINCREMENT,
	body TEXT NOT NULL
);
CREATE TABLE box (name TEXT NOT NULL);
INSERT INTO box VALUES (lower(hex(randomblob(16))));
