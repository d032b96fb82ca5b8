-- +goose Up
-- How many workstations a group has, so that a list for who may see one group does not count them.
ALTER TABLE groups ADD COLUMN members INTEGER NOT NULL DEFAULT 0;
UPDATE groups SET members = (SELECT count(*) FROM group_members WHERE group_id = groups.id);
-- +goose StatementBegin
CREATE TRIGGER member_came AFTER INSERT ON group_members BEGIN
    UPDATE groups SET members = members + 1 WHERE id = new.group_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER member_went AFTER DELETE ON group_members BEGIN
    UPDATE groups SET members = members - 1 WHERE id = old.group_id;
END;
-- +goose StatementEnd
