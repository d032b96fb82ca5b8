-- +goose Up
-- What workstations of a delivery had on their disks already, so that it did not have to come: bytes of the image.
ALTER TABLE deliveries ADD COLUMN reused_bytes INTEGER NOT NULL DEFAULT 0;
