-- +goose Up
-- A second factor (RFC 6238): its secret, sealed; one that is not confirmed yet; and the last step whose code was used.
ALTER TABLE people ADD COLUMN factor TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN factor_offered TEXT NOT NULL DEFAULT '';
ALTER TABLE people ADD COLUMN factor_step INTEGER NOT NULL DEFAULT 0;
-- Whoever comes from a directory has its name, and who they are there.
ALTER TABLE people ADD COLUMN directory TEXT NOT NULL DEFAULT '' COLLATE NOCASE;
ALTER TABLE people ADD COLUMN subject TEXT NOT NULL DEFAULT '';
-- Directories that people come from: by LDAP, or OpenID Connect for the console. secret is sealed (service/access).
CREATE TABLE directories (
    name        TEXT PRIMARY KEY COLLATE NOCASE,
    kind        TEXT NOT NULL CHECK (kind IN ('ldap', 'openid')),
    server      TEXT NOT NULL,                    -- ldaps://HOST[:PORT], or the issuer
    account     TEXT NOT NULL,                    -- that searches; or the client's id
    secret      TEXT NOT NULL,
    base        TEXT NOT NULL DEFAULT '',         -- distinguished name
    certificate TEXT NOT NULL DEFAULT '',         -- PEM of the authority that is trusted; empty: those of the system
    roles       TEXT NOT NULL,                    -- JSON: groups there, and what they are granted here
    added       TIMESTAMP NOT NULL
);
