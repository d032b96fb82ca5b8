-- +goose Up
-- What differs since: each field before and after, as JSON; empty where nothing of that is known.
ALTER TABLE logbook ADD COLUMN changes TEXT NOT NULL DEFAULT '';
