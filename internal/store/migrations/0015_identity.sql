-- +goose Up
-- Signing identities: a key of the safe with its certificate.
CREATE TABLE identity (
	name TEXT PRIMARY KEY,
	authority TEXT NOT NULL,
	crew TEXT NOT NULL,
	key TEXT NOT NULL,
	certificate BLOB NOT NULL,
	roots BLOB NOT NULL,
	former BLOB NOT NULL,
	revoked TEXT NOT NULL
);
