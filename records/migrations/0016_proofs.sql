-- +goose Up
-- Every receipt, arrival and line of the logbook is a leaf of a Merkle tree (core/proof).
CREATE TABLE leaves (
    n    INTEGER PRIMARY KEY,           -- from 0 on
    kind TEXT NOT NULL CHECK (kind IN ('receipt', 'arrival', 'line')),
    ref  INTEGER NOT NULL,              -- of a receipt or line its id, of an arrival its number
    hash BLOB NOT NULL,                 -- of its content
    UNIQUE (kind, ref)
);
CREATE TABLE hashes (
    i    INTEGER PRIMARY KEY,           -- in the order of golang.org/x/mod/sumdb/tlog
    hash BLOB NOT NULL
);
-- Signed heads: the newest, and those that witnesses have countersigned.
CREATE TABLE heads (
    size   INTEGER PRIMARY KEY,
    at     TIMESTAMP NOT NULL,
    signed TEXT NOT NULL,               -- C2SP tlog-checkpoint, with the signatures of witnesses
    countersigned INTEGER NOT NULL DEFAULT 0
);
-- Who countersigns our heads.
CREATE TABLE witnesses (
    name        TEXT PRIMARY KEY COLLATE NOCASE,
    url         TEXT NOT NULL,
    verifier    TEXT NOT NULL,          -- the witness's key (C2SP tlog-cosignature)
    certificate TEXT NOT NULL,          -- PEM of the authority that is trusted; empty: those of the system
    size        INTEGER NOT NULL DEFAULT 0, -- of the last head that it has countersigned
    at          TIMESTAMP,
    problem     TEXT NOT NULL DEFAULT ''
);
-- Whose heads we countersign.
CREATE TABLE witnessed (
    name      TEXT PRIMARY KEY COLLATE NOCASE,
    verifier  TEXT NOT NULL UNIQUE,     -- of the service's key (C2SP signed-note)
    signed    TEXT NOT NULL DEFAULT '', -- the last head that was seen; empty if none was
    at        TIMESTAMP,
    statement TEXT NOT NULL DEFAULT ''  -- of a restore, which somebody here has to confirm (C2SP tlog-proof)
);
-- +goose StatementBegin
CREATE TRIGGER leaves_stay BEFORE DELETE ON leaves BEGIN SELECT RAISE(ABORT, 'leaves are never deleted'); END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER leaves_stay_as_they_are BEFORE UPDATE ON leaves BEGIN SELECT RAISE(ABORT, 'leaves are never changed'); END;
-- +goose StatementEnd
