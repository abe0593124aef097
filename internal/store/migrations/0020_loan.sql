-- +goose Up
-- Devices that are lent to peers, and those that are borrowed from them.
CREATE TABLE loan (
	id TEXT PRIMARY KEY,
	side TEXT NOT NULL, -- lent, borrowed
	state TEXT NOT NULL,
	asked TEXT NOT NULL,
	record TEXT NOT NULL -- JSON
);
CREATE INDEX loan_open ON loan (state, asked);
