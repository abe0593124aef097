-- +goose Up
-- The SSH server through which a host is reached, as ssh://USER@HOST:PORT, and the fingerprint
-- of its key that the owner has accepted. Empty for none.
ALTER TABLE host ADD COLUMN ssh TEXT NOT NULL DEFAULT '';
ALTER TABLE host ADD COLUMN ssh_key TEXT NOT NULL DEFAULT '';
