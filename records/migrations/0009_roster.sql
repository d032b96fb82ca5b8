-- +goose Up
-- What engineers say of a workstation, and fields of their own as JSON: {"room": "2.14"}.
ALTER TABLE workstations ADD COLUMN note   TEXT NOT NULL DEFAULT '';
ALTER TABLE workstations ADD COLUMN fields TEXT NOT NULL DEFAULT '';

-- A group with a condition (docs/conditions.md) has whoever fits it.
ALTER TABLE groups ADD COLUMN condition TEXT NOT NULL DEFAULT '';
