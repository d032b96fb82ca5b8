-- +goose Up
-- Machines at a repair bench: bench is 1 while a newcomer has something to do that somebody at it has ordered, though nobody has
-- admitted it, and 2 once it was forgotten but for what its receipts say of it.
ALTER TABLE workstations ADD COLUMN bench INTEGER NOT NULL DEFAULT 0;
ALTER TABLE workstations ADD COLUMN job TEXT NOT NULL DEFAULT ''; -- what was typed of whose it is, or a number, while bench is 1
CREATE INDEX workstations_bench ON workstations (bench) WHERE bench <> 0;
-- +goose StatementBegin
CREATE TRIGGER admitted_from_the_bench AFTER UPDATE OF state ON workstations WHEN new.state <> 'newcomer' AND new.bench <> 0 BEGIN
    UPDATE workstations SET bench = 0, job = '' WHERE id = new.id;
END;
-- +goose StatementEnd

-- What the machine was, as JSON: maker, model, serial number, and the job at a bench.
ALTER TABLE receipts ADD COLUMN machine TEXT NOT NULL DEFAULT '';
