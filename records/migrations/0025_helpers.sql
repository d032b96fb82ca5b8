-- +goose Up
-- What stays on a delivered system, if that is wanted: by its key it is known, and it is told one of two things.
CREATE TABLE helpers (
    workstation_id INTEGER PRIMARY KEY REFERENCES workstations (id) ON DELETE CASCADE,
    key            TEXT NOT NULL UNIQUE, -- BLAKE3-256 of its public key
    since          TIMESTAMP NOT NULL,
    number         INTEGER NOT NULL DEFAULT 0, -- of what it is told; another each time
    verb           TEXT NOT NULL DEFAULT '' CHECK (verb IN ('', 'restart', 'power-off')),
    warn_seconds   INTEGER NOT NULL DEFAULT 0,
    why            TEXT NOT NULL DEFAULT '',
    until          TIMESTAMP,                  -- it is not told any more then
    boot           TEXT NOT NULL DEFAULT ''    -- in which it was told
);

-- Which workstations were on when a run began, as a list of numbers; empty if nobody asked.
ALTER TABLE runs ADD COLUMN were_on TEXT NOT NULL DEFAULT '';

-- Answers of a delivery's own, as JSON by key; they count before all that is set.
ALTER TABLE deliveries ADD COLUMN own_answers TEXT NOT NULL DEFAULT '';
