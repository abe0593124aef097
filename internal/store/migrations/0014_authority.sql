-- +goose Up
-- Authorities that the owner has accepted, with what they said last of themselves.
CREATE TABLE authority (
	name TEXT PRIMARY KEY,
	url TEXT NOT NULL UNIQUE,
	root BLOB NOT NULL,
	about TEXT NOT NULL,
	read TEXT NOT NULL
);
-- Accounts at authorities, each with the key of the safe by which it is signed in.
CREATE TABLE account (
	authority TEXT NOT NULL,
	id TEXT NOT NULL,
	key TEXT NOT NULL,
	record TEXT NOT NULL,
	crew TEXT NOT NULL,
	used INTEGER NOT NULL,
	state TEXT NOT NULL,
	since TEXT NOT NULL,
	PRIMARY KEY (authority, id)
);
