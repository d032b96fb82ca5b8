-- +goose Up
ALTER TABLE versions ADD COLUMN despite TEXT NOT NULL DEFAULT '';           -- reason to capture in spite of findings
ALTER TABLE versions ADD COLUMN unreadable_bytes INTEGER NOT NULL DEFAULT 0; -- of the golden disk
ALTER TABLE versions ADD COLUMN retired TIMESTAMP;                          -- no longer delivered
ALTER TABLE versions ADD COLUMN swept TIMESTAMP;                            -- its slabs were given up
ALTER TABLE errands ADD COLUMN options TEXT NOT NULL DEFAULT '{}';          -- JSON: how to capture
ALTER TABLE deliveries ADD COLUMN options TEXT NOT NULL DEFAULT '{}';       -- JSON: how the image is to lie on disks
ALTER TABLE receipts ADD COLUMN unreadable_bytes INTEGER NOT NULL DEFAULT 0; -- that the image lacks
