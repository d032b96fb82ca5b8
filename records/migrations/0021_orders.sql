-- +goose Up
-- Work that was prepared. Content is an api.Order as JSON; person_id is who saved it, whose rights count when it runs by
-- itself: 0 for whoever has the key of last resort, and -1 if the person is gone; due is when it runs next by itself.
CREATE TABLE orders (
    id        INTEGER PRIMARY KEY,
    name      TEXT NOT NULL UNIQUE COLLATE NOCASE,
    content   TEXT NOT NULL,
    saved     TIMESTAMP NOT NULL,
    saved_by  TEXT NOT NULL,
    person_id INTEGER NOT NULL,
    due       TIMESTAMP
);
CREATE INDEX orders_due ON orders (due);

-- One execution of an order, with the order as it was then; person_id is whose rights count: 0 for every right.
CREATE TABLE runs (
    id         INTEGER PRIMARY KEY,
    name       TEXT NOT NULL COLLATE NOCASE,
    content    TEXT NOT NULL,
    state      TEXT NOT NULL,
    reason     TEXT NOT NULL DEFAULT '',
    ordered_by TEXT NOT NULL,
    person_id  INTEGER NOT NULL,
    began      TIMESTAMP NOT NULL,
    ended      TIMESTAMP
);
CREATE INDEX runs_name ON runs (name, id);
CREATE INDEX runs_open ON runs (id) WHERE ended IS NULL;

-- Whoever is removed takes their rights along, whoever gets their number.
-- +goose StatementBegin
CREATE TRIGGER people_and_orders AFTER DELETE ON people BEGIN
    UPDATE orders SET person_id = -1 WHERE person_id = old.id;
    UPDATE runs SET person_id = -1 WHERE person_id = old.id AND ended IS NULL;
END;
-- +goose StatementEnd

CREATE TABLE run_parts (
    run_id INTEGER NOT NULL REFERENCES runs (id),
    number INTEGER NOT NULL, -- from 0
    work   TEXT NOT NULL,
    state  TEXT NOT NULL,
    reason TEXT NOT NULL DEFAULT '',
    began  TIMESTAMP,
    ended  TIMESTAMP,
    PRIMARY KEY (run_id, number)
);

-- Deliveries and errands that are a part of a run.
ALTER TABLE deliveries ADD COLUMN run_id INTEGER REFERENCES runs (id);
ALTER TABLE deliveries ADD COLUMN run_part INTEGER;
ALTER TABLE errands ADD COLUMN run_id INTEGER REFERENCES runs (id);
ALTER TABLE errands ADD COLUMN run_part INTEGER;
CREATE INDEX deliveries_run ON deliveries (run_id, run_part) WHERE run_id IS NOT NULL;
CREATE INDEX errands_run ON errands (run_id, run_part) WHERE run_id IS NOT NULL;
