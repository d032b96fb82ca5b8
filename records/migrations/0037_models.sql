-- +goose Up
-- What the desk knows of a model, and wants its machines to be. The name is maker and model.
CREATE TABLE models (
	name TEXT NOT NULL PRIMARY KEY COLLATE NOCASE,
	boot_key TEXT NOT NULL,
	setup_key TEXT NOT NULL,
	adapter TEXT NOT NULL,
	firmware TEXT NOT NULL,
	settings TEXT NOT NULL, -- JSON
	note TEXT NOT NULL
);
