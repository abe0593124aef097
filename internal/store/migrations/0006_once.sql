-- +goose Up
-- Requests that are to be done once, by the key that their sender gave them.
CREATE TABLE once (
  actor   TEXT NOT NULL,
  key     TEXT NOT NULL,
  request TEXT NOT NULL,              -- SHA-256 of what was asked
  at      TEXT NOT NULL,
  made    TEXT NOT NULL DEFAULT '',   -- what it made, written together with that: job/ID, device/ID, access/NAME
  status  INTEGER NOT NULL DEFAULT 0, -- of its answer; 0 while there is none
  kind    TEXT NOT NULL DEFAULT '',   -- media type of its answer
  body    BLOB NOT NULL DEFAULT x'',
  PRIMARY KEY (actor, key)
) STRICT, WITHOUT ROWID;
CREATE INDEX once_at ON once (at);
