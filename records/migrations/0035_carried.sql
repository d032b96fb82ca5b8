-- +goose Up
-- The outpost whose media carry a delivery: its workstations get it from there alone. Empty for all others.
ALTER TABLE deliveries ADD COLUMN carried_by TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
-- Whether an outpost is media, and comes and goes with them.
ALTER TABLE outposts ADD COLUMN on_media INTEGER NOT NULL DEFAULT 0;
-- People may sign in there for a time while its line is cut.
UPDATE outposts SET settings = json_set(settings, '$.sign_in_hours', 24);
