-- +goose Up
-- Receipts and arrivals were chained before they were leaves; where the chains ended is in the logbook.
ALTER TABLE receipts DROP COLUMN previous;
ALTER TABLE receipts DROP COLUMN chain;
ALTER TABLE arrivals DROP COLUMN previous;
ALTER TABLE arrivals DROP COLUMN chain;
