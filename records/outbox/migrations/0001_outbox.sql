-- +goose Up
-- What an outpost keeps for a time when nobody answers: answers of the service by what was asked, and leases.
CREATE TABLE kept (
	kind TEXT NOT NULL,
	key TEXT NOT NULL,
	at TIMESTAMP NOT NULL,
	body TEXT NOT NULL,
	PRIMARY KEY (kind, key)
);
CREATE INDEX kept_oldest ON kept (kind, at);
