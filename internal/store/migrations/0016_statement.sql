-- +goose Up
-- Grants and debug tokens as they were signed, those that the bench asked for and others that
-- came to it.
CREATE TABLE statement (
	id TEXT PRIMARY KEY,
	authority TEXT NOT NULL,
	text TEXT NOT NULL,
	asked INTEGER NOT NULL,
	since TEXT NOT NULL
);
-- The newest list of each authority of what was withdrawn.
CREATE TABLE status_list (
	authority TEXT PRIMARY KEY,
	text TEXT NOT NULL
);
