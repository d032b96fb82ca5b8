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
