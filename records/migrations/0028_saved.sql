-- +goose Up
-- Disks that were captured before they were erased: such an image is of one workstation alone, and its versions expire.
ALTER TABLE images ADD COLUMN private_of INTEGER NOT NULL DEFAULT 0; -- number of that workstation; 0 for golden disks
ALTER TABLE versions ADD COLUMN expires TIMESTAMP;
CREATE INDEX images_private ON images (private_of) WHERE private_of <> 0;
CREATE INDEX versions_expire ON versions (expires) WHERE expires IS NOT NULL AND pruned IS NULL;
