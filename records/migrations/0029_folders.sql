-- +goose Up
-- Folders that a workstation has handed in before its disk was erased, as a file of the data folder by the number of that errand.
CREATE TABLE folders (
    errand_id      INTEGER PRIMARY KEY REFERENCES errands (id),
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    digest         TEXT NOT NULL,    -- BLAKE3-256 of the file
    bytes          INTEGER NOT NULL,
    expires        TIMESTAMP NOT NULL,
    returned       TIMESTAMP         -- when they were on its disk again
);
CREATE INDEX folders_workstation ON folders (workstation_id, errand_id);
CREATE INDEX folders_expire ON folders (expires);
