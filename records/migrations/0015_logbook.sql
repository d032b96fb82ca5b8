-- +goose Up
-- Who changed what. Lines are never changed.
CREATE TABLE logbook (
    id        INTEGER PRIMARY KEY,
    at        TIMESTAMP NOT NULL,
    who       TEXT NOT NULL,
    kind      TEXT NOT NULL,  -- of the actor
    from_addr TEXT NOT NULL,
    through   TEXT NOT NULL,  -- console, command line, program, workstation or service
    operation TEXT NOT NULL,
    subject   TEXT NOT NULL,  -- what it was done to, as the path names it
    details   TEXT NOT NULL   -- JSON, what was sent, with secrets left out
);
CREATE INDEX logbook_at ON logbook (at);
CREATE INDEX logbook_who ON logbook (who, id);
CREATE INDEX logbook_operation ON logbook (operation, id);
-- +goose StatementBegin
CREATE TRIGGER logbook_lines_stay AFTER UPDATE ON logbook BEGIN
    SELECT RAISE(ABORT, 'a line of the logbook cannot be changed');
END;
-- +goose StatementEnd
