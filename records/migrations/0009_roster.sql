-- +goose Up
-- What engineers say of a workstation, and fields of their own as JSON: {"room": "2.14"}.
ALTER TABLE workstations ADD COLUMN note   TEXT NOT NULL DEFAULT '';
ALTER TABLE workstations ADD COLUMN fields TEXT NOT NULL DEFAULT '';

-- A group with a condition (docs/conditions.md) has whoever fits it.
ALTER TABLE groups ADD COLUMN condition TEXT NOT NULL DEFAULT '';

-- What is set where of what workstations are to become (core/answers). owner is the number of
-- the image, group or workstation, 0 for the service and for models; a model has its name.
-- Secrets are sealed; only service/access can open them.
CREATE TABLE answers (
    kind   TEXT NOT NULL CHECK (kind IN ('service', 'image', 'model', 'group', 'workstation')),
    owner  INTEGER NOT NULL,
    model  TEXT NOT NULL COLLATE NOCASE,
    key    TEXT NOT NULL,
    value  TEXT NOT NULL,
    PRIMARY KEY (kind, owner, model, key)
);
-- +goose StatementBegin
CREATE TRIGGER groups_take_their_answers AFTER DELETE ON groups BEGIN
    DELETE FROM answers WHERE kind = 'group' AND owner = old.id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER workstations_take_their_answers AFTER DELETE ON workstations BEGIN
    DELETE FROM answers WHERE kind = 'workstation' AND owner = old.id;
END;
-- +goose StatementEnd

-- Whether a delivery answers: 'set' where something is set, or 'none'.
ALTER TABLE deliveries ADD COLUMN answers TEXT NOT NULL DEFAULT 'none';

-- A delivered system reports its first start with a token that is good for that alone. The
-- report is the second entry of its receipt: number counts reports, each with a digest over
-- the one before, its receipt and itself.
CREATE TABLE arrivals (
    digest         TEXT PRIMARY KEY,               -- of the token
    delivery_id    INTEGER NOT NULL REFERENCES deliveries (id),
    workstation_id INTEGER NOT NULL REFERENCES workstations (id),
    issued         TIMESTAMP NOT NULL,
    name           TEXT NOT NULL,                  -- that the computer is to have
    number         INTEGER UNIQUE,                 -- NULL until it has arrived, as all that follows
    arrived        TIMESTAMP,
    content        TEXT NOT NULL DEFAULT '',       -- JSON, as the system told it
    remark         TEXT NOT NULL DEFAULT '',       -- what is odd about it
    machine_id     TEXT NOT NULL DEFAULT '',
    previous       TEXT NOT NULL DEFAULT '',
    chain          TEXT NOT NULL DEFAULT '',
    UNIQUE (delivery_id, workstation_id)
);
CREATE INDEX arrivals_machine_id ON arrivals (machine_id) WHERE machine_id <> '';
