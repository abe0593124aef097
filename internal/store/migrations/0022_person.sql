-- +goose Up
-- An access key may be for some devices only, and have a page for the browser of a person who has no bench.
ALTER TABLE access ADD COLUMN devices TEXT NOT NULL DEFAULT ''; -- ids, parted by commas; '' for all
ALTER TABLE access ADD COLUMN page TEXT NOT NULL DEFAULT ''; -- JSON; '' for a program's
