-- +goose Up
-- Directories of kits that the owner has named.
CREATE TABLE kit (
	name TEXT NOT NULL,
	path TEXT NOT NULL,
	PRIMARY KEY (name, path)
);
-- Descriptions of kits that the owner has given, as they were read (docs/formats/kit.md).
CREATE TABLE kit_description (
	name TEXT PRIMARY KEY,
	text TEXT NOT NULL
);
