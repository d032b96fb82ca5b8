-- +goose Up
-- Files and packages that go onto delivered systems, kept by digest in the data folder.
CREATE TABLE payloads (
    name   TEXT PRIMARY KEY COLLATE NOCASE,
    digest TEXT NOT NULL,                -- BLAKE3-256
    size   INTEGER NOT NULL,             -- bytes
    note   TEXT NOT NULL,
    added  TIMESTAMP NOT NULL
);
CREATE INDEX payloads_digest ON payloads (digest);
