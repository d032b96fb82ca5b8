-- +goose Up
-- Domains that delivered systems join, each with the directory account that creates computers in
-- one unit. secret is its password, sealed (service/access).
CREATE TABLE domains (
    name        TEXT PRIMARY KEY COLLATE NOCASE,  -- DNS name
    server      TEXT NOT NULL,                    -- ldaps://HOST[:PORT]
    account     TEXT NOT NULL,
    secret      TEXT NOT NULL,
    unit        TEXT NOT NULL,                    -- distinguished name
    certificate TEXT NOT NULL,                    -- PEM of the authority that is trusted; empty: those of the system
    added       TIMESTAMP NOT NULL
);

-- What a delivery does with workstations that are to join a domain whose controller is away.
ALTER TABLE deliveries ADD COLUMN domain_away TEXT NOT NULL DEFAULT 'refuse';
