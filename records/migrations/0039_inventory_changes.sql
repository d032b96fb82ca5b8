-- +goose Up
-- What was other than before when a workstation checked in: a disk, the memory, a card, its firmware.
CREATE TABLE inventory_changes (
	id INTEGER NOT NULL PRIMARY KEY,
	workstation_id INTEGER NOT NULL REFERENCES workstations (id) ON DELETE CASCADE,
	at TIMESTAMP NOT NULL,
	what TEXT NOT NULL
);
CREATE INDEX inventory_changes_workstation ON inventory_changes (workstation_id, id);
