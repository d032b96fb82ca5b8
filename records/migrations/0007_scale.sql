-- +goose Up
-- Lists of workstations do not drag what they do not show.
CREATE TABLE inventories (
    workstation_id INTEGER PRIMARY KEY REFERENCES workstations (id) ON DELETE CASCADE,
    content        TEXT NOT NULL                   -- JSON, as the agent told it last
);
INSERT INTO inventories (workstation_id, content) SELECT id, inventory FROM workstations;
ALTER TABLE workstations ADD COLUMN disks TEXT NOT NULL DEFAULT '';         -- their sizes in bytes, a space between
UPDATE workstations SET disks = coalesce((SELECT group_concat(json_extract(d.value, '$.size'), ' ') FROM json_each(inventory, '$.disks') d), '')
    WHERE json_valid(inventory);
ALTER TABLE workstations DROP COLUMN inventory;

-- Whatever a list filters or sorts by has an index. Each ends with the row's number, which
-- SQLite adds: it decides among equals.
CREATE INDEX workstations_by_name   ON workstations (state, name);
CREATE INDEX workstations_by_model  ON workstations (state, model);
CREATE INDEX workstations_by_serial ON workstations (state, serial);
CREATE INDEX workstations_model     ON workstations (model);
CREATE INDEX workstations_serial    ON workstations (serial);
CREATE INDEX workstations_last_seen ON workstations (last_seen);
CREATE INDEX workstations_seen_since ON workstations (state, last_seen);
DROP INDEX workstations_state;
CREATE INDEX addresses_state ON addresses (state, address);
CREATE INDEX errands_workstation ON errands (workstation_id);
CREATE INDEX errands_running ON errands (workstation_id) WHERE state = 'running';
CREATE INDEX errands_state   ON errands (state);
CREATE INDEX errands_kind    ON errands (kind);
CREATE INDEX errands_created ON errands (created);
CREATE INDEX errands_waiting ON errands (state, not_before) WHERE state IN ('waiting', 'running');
CREATE INDEX errands_image   ON errands (image, state);
CREATE INDEX deliveries_state   ON deliveries (state);
CREATE INDEX deliveries_image   ON deliveries (image);
CREATE INDEX deliveries_created ON deliveries (created);
-- Most receipts have one outcome, so that it alone narrows nothing.
CREATE INDEX receipts_outcome ON receipts (outcome);
CREATE INDEX receipts_outcome_ended ON receipts (outcome, ended);
CREATE INDEX receipts_outcome_image ON receipts (outcome, image);
CREATE INDEX receipts_outcome_name  ON receipts (outcome, workstation COLLATE NOCASE);
CREATE INDEX receipts_image   ON receipts (image);
CREATE INDEX receipts_ended   ON receipts (ended);
CREATE INDEX receipts_name    ON receipts (workstation COLLATE NOCASE);

-- Any three characters or more of a receipt are found without reading all of them.
CREATE VIRTUAL TABLE receipts_text USING fts5 (workstation, hardware_address, image, reason, content = 'receipts', content_rowid = 'id', tokenize = 'trigram');
INSERT INTO receipts_text (receipts_text) VALUES ('rebuild');
-- +goose StatementBegin
CREATE TRIGGER receipts_are_found AFTER INSERT ON receipts BEGIN
    INSERT INTO receipts_text (rowid, workstation, hardware_address, image, reason) VALUES (new.id, new.workstation, new.hardware_address, new.image, new.reason);
END;
-- +goose StatementEnd

-- How many receipts there are of each outcome: nearly all have one and the same, and counting
-- them takes as long as reading them.
CREATE TABLE receipt_counts (
    outcome TEXT PRIMARY KEY,
    n       INTEGER NOT NULL
);
INSERT INTO receipt_counts (outcome, n) SELECT outcome, count(*) FROM receipts GROUP BY outcome;
-- +goose StatementBegin
CREATE TRIGGER receipts_are_counted AFTER INSERT ON receipts BEGIN
    INSERT INTO receipt_counts (outcome, n) VALUES (new.outcome, 1) ON CONFLICT DO UPDATE SET n = n + 1;
END;
-- +goose StatementEnd
