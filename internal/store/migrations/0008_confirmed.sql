-- +goose Up
-- Until when the owner has confirmed that a browser may do what only the owner may.
ALTER TABLE session ADD COLUMN confirmed TEXT NOT NULL DEFAULT '';
