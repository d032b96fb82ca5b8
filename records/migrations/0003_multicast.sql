-- +goose Up
ALTER TABLE deliveries ADD COLUMN wait_at_most INTEGER NOT NULL DEFAULT 0;  -- seconds; then it starts with whoever is ready
ALTER TABLE deliveries ADD COLUMN when_done TEXT NOT NULL DEFAULT 'stay';   -- what a workstation does after it
ALTER TABLE deliveries ADD COLUMN reuse INTEGER NOT NULL DEFAULT 0;         -- workstations keep what is right already
ALTER TABLE deliveries ADD COLUMN seal_key BLOB;                            -- of a sealed one, until it is over
ALTER TABLE deliveries ADD COLUMN sealed INTEGER NOT NULL DEFAULT 0;
ALTER TABLE deliveries ADD COLUMN aside TEXT NOT NULL DEFAULT '{}';         -- JSON: who is set aside
ALTER TABLE deliveries ADD COLUMN paused INTEGER NOT NULL DEFAULT 0;

-- What was done to a delivery after it was ordered, by whom.
CREATE TABLE delivery_changes (
    id          INTEGER PRIMARY KEY,
    delivery_id INTEGER NOT NULL REFERENCES deliveries (id),
    at          TIMESTAMP NOT NULL,
    done_by     TEXT NOT NULL,
    what        TEXT NOT NULL
);
CREATE INDEX delivery_changes_delivery ON delivery_changes (delivery_id);
