-- +goose Up
-- Who is told of which events: by mail, or at an address that takes webhooks.
CREATE TABLE notification_rules (
	id INTEGER NOT NULL PRIMARY KEY,
	name TEXT NOT NULL UNIQUE COLLATE NOCASE,
	events TEXT NOT NULL, -- JSON, as the lists below
	groups TEXT NOT NULL,
	mail_to TEXT NOT NULL,
	webhook TEXT NOT NULL,
	certificate TEXT NOT NULL,
	secret TEXT NOT NULL, -- sealed
	paused BOOLEAN NOT NULL,
	trouble TEXT NOT NULL,
	added TIMESTAMP NOT NULL
);
-- What was told, or is to be. subject is what an event is told of just once.
CREATE TABLE messages (
	id TEXT NOT NULL PRIMARY KEY,
	rule_id INTEGER NOT NULL REFERENCES notification_rules (id) ON DELETE CASCADE,
	event TEXT NOT NULL,
	subject TEXT NOT NULL,
	what TEXT NOT NULL,
	body BLOB NOT NULL,
	created TIMESTAMP NOT NULL,
	state TEXT NOT NULL CHECK (state IN ('waiting', 'sent', 'given up')),
	attempts INTEGER NOT NULL DEFAULT 0,
	due TIMESTAMP,
	trouble TEXT NOT NULL DEFAULT '',
	ended TIMESTAMP,
	UNIQUE (rule_id, event, subject)
);
CREATE INDEX messages_due ON messages (due) WHERE due IS NOT NULL;
CREATE INDEX messages_waiting ON messages (rule_id) WHERE state = 'waiting';
CREATE INDEX messages_created ON messages (created);
-- The server that takes mail; there is none while its name is empty.
CREATE TABLE mailing (
	only_one INTEGER NOT NULL PRIMARY KEY CHECK (only_one = 1),
	server TEXT NOT NULL,
	security TEXT NOT NULL,
	account TEXT NOT NULL,
	secret TEXT NOT NULL, -- sealed
	sender TEXT NOT NULL,
	certificate TEXT NOT NULL
);
INSERT INTO mailing VALUES (1, '', 'starttls', '', '', '', '');
-- How each part of the service was when it was told of last, so that a change is told once.
CREATE TABLE told_parts (
	part TEXT NOT NULL PRIMARY KEY,
	state TEXT NOT NULL
);
