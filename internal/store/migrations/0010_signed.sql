-- +goose Up
-- Who signed a driver set: SHA-256 of the key, and how the publisher calls itself; empty for nobody.
ALTER TABLE driver_set ADD COLUMN publisher TEXT NOT NULL DEFAULT '';
ALTER TABLE driver_set ADD COLUMN signer TEXT NOT NULL DEFAULT '';
