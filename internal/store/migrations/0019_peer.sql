-- +goose Up
-- Other benches that this one knows by key, and what they may do with its devices.
CREATE TABLE peer (
	name TEXT PRIMARY KEY,
	key TEXT NOT NULL UNIQUE, -- fingerprint
	addresses TEXT NOT NULL, -- JSON; [] where only the other bench connects
	via TEXT NOT NULL DEFAULT '', -- SSH server through which it is reached
	via_key TEXT NOT NULL DEFAULT '',
	rights TEXT NOT NULL, -- JSON
	added TEXT NOT NULL
);
-- Invitations that were not used yet, by the digest of their secret.
CREATE TABLE invitation (
	digest TEXT PRIMARY KEY,
	rights TEXT NOT NULL, -- JSON, of who uses it
	made TEXT NOT NULL,
	ends TEXT NOT NULL
);
