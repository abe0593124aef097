-- +goose Up
-- Where devices are reached without a cable: addresses that a person has given, and where each
-- device answered last.
CREATE TABLE address (
	address TEXT PRIMARY KEY,
	device TEXT NOT NULL DEFAULT '', -- id; '' while none has answered there
	given INTEGER NOT NULL DEFAULT 0, -- by a person
	at TEXT NOT NULL
);
CREATE UNIQUE INDEX address_last ON address (device) WHERE device <> '' AND NOT given;
