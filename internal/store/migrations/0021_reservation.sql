-- +goose Up
-- Devices that are kept for one run of a command.
CREATE TABLE reservation (
	id TEXT PRIMARY KEY,
	number INTEGER NOT NULL UNIQUE, -- in the order of asking
	state TEXT NOT NULL, -- waiting, active, ended
	record TEXT NOT NULL -- JSON
);
CREATE INDEX reservation_state ON reservation (state, number);
