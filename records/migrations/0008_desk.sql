-- +goose Up
-- How many workstations a delivery goes to, and how many of them it has reached, so that a
-- list can say it.
ALTER TABLE deliveries ADD COLUMN members   INTEGER NOT NULL DEFAULT 0;
ALTER TABLE deliveries ADD COLUMN delivered INTEGER NOT NULL DEFAULT 0;
UPDATE deliveries SET members = (SELECT count(*) FROM errands e WHERE e.delivery_id = deliveries.id),
    delivered = (SELECT count(*) FROM receipts r WHERE r.delivery_id = deliveries.id AND r.outcome = 'delivered');
-- +goose StatementBegin
CREATE TRIGGER deliveries_have_members AFTER INSERT ON errands WHEN new.delivery_id IS NOT NULL BEGIN
    UPDATE deliveries SET members = members + 1 WHERE id = new.delivery_id;
END;
-- +goose StatementEnd
-- +goose StatementBegin
CREATE TRIGGER deliveries_are_counted AFTER INSERT ON receipts WHEN new.outcome = 'delivered' BEGIN
    UPDATE deliveries SET delivered = delivered + 1 WHERE id = new.delivery_id;
END;
-- +goose StatementEnd

-- What a prune does to a version has its name.
ALTER TABLE versions RENAME COLUMN swept TO pruned;
