-- +goose Up
-- From where a browser is signed in, and when it was used last.
ALTER TABLE session ADD COLUMN agent TEXT NOT NULL DEFAULT '';
ALTER TABLE session ADD COLUMN used TEXT NOT NULL DEFAULT '';
