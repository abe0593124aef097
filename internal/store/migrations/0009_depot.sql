-- +goose Up
-- Depots whose TLS root and publisher the owner has accepted, with the index that was read last.
CREATE TABLE depot (
	name      TEXT PRIMARY KEY,
	url       TEXT NOT NULL UNIQUE,
	root      BLOB NOT NULL,  -- certificate in DER by which its TLS is trusted; empty without TLS or for the system's roots
	publisher TEXT NOT NULL,  -- SHA-256 of the key that signs its index
	signer    TEXT NOT NULL,  -- how the publisher calls itself
	idx       BLOB NOT NULL,
	read      TEXT NOT NULL   -- when the index was read
);
-- Support packs whose file is here.
CREATE TABLE support (
	digest  TEXT PRIMARY KEY, -- SHA-256 of the file
	name    TEXT NOT NULL,
	version TEXT NOT NULL,
	record  TEXT NOT NULL,    -- as in the index or in the pack itself, in JSON
	depot   TEXT NOT NULL,    -- where it came from; empty for a file that a person gave
	added   TEXT NOT NULL
);
