-- +goose Up
-- Who may do what. Roles that every service has are not here.
CREATE TABLE people (
    id        INTEGER PRIMARY KEY,
    name      TEXT NOT NULL UNIQUE COLLATE NOCASE, -- with which they sign in
    full_name TEXT NOT NULL,
    password  TEXT NOT NULL DEFAULT '',            -- Argon2id, in the PHC string format; empty if there is none
    shut_out  INTEGER NOT NULL DEFAULT 0,
    added     TIMESTAMP NOT NULL,
    seen      TIMESTAMP                            -- when they did something last
);
CREATE TABLE roles (
    name   TEXT PRIMARY KEY COLLATE NOCASE,
    note   TEXT NOT NULL,
    rights TEXT NOT NULL                           -- JSON
);
CREATE TABLE grants (
    person_id INTEGER NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    role      TEXT NOT NULL COLLATE NOCASE,
    kind      TEXT NOT NULL CHECK (kind IN ('everything', 'group', 'image')),
    owner     INTEGER NOT NULL,                    -- of the group or image; 0 for everything
    PRIMARY KEY (person_id, role, kind, owner)
);
CREATE INDEX grants_owner ON grants (kind, owner);
-- +goose StatementBegin
CREATE TRIGGER groups_take_their_grants AFTER DELETE ON groups BEGIN
    DELETE FROM grants WHERE kind = 'group' AND owner = old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER images_take_their_grants AFTER DELETE ON images BEGIN
    DELETE FROM grants WHERE kind = 'image' AND owner = old.id;
END;
-- +goose StatementEnd
-- Secrets that open the interface are kept by their digest.
CREATE TABLE tokens (
    name      TEXT PRIMARY KEY COLLATE NOCASE,
    digest    TEXT NOT NULL UNIQUE,
    person_id INTEGER NOT NULL REFERENCES people (id) ON DELETE CASCADE,
    rights    TEXT NOT NULL,                       -- JSON: no more than these; all of the person's if there is none
    issued    TIMESTAMP NOT NULL,
    expires   TIMESTAMP NOT NULL,
    used      TIMESTAMP,
    used_from TEXT NOT NULL DEFAULT ''
);
CREATE INDEX tokens_person ON tokens (person_id);
CREATE TABLE sessions (
    digest    TEXT PRIMARY KEY,
    person_id INTEGER REFERENCES people (id) ON DELETE CASCADE, -- NULL for the key of last resort
    opened    TIMESTAMP NOT NULL,
    expires   TIMESTAMP NOT NULL,
    from_addr TEXT NOT NULL,
    program   TEXT NOT NULL
);
CREATE INDEX sessions_person ON sessions (person_id);
-- Links with which people set their password, once.
CREATE TABLE invitations (
    digest    TEXT PRIMARY KEY,
    person_id INTEGER REFERENCES people (id) ON DELETE CASCADE, -- NULL: the first administrator chooses a name
    expires   TIMESTAMP NOT NULL
);
