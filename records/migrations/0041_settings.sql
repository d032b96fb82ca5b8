-- +goose Up
-- Settings that were changed while the service ran; they count before those of flags, the environment and the file.
CREATE TABLE settings (
	name TEXT NOT NULL PRIMARY KEY,
	"values" TEXT NOT NULL, -- a list as JSON
	by TEXT NOT NULL,
	at TIMESTAMP NOT NULL
);
