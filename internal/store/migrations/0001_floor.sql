-- +goose Up
CREATE TABLE setting (
  key   TEXT PRIMARY KEY,
  value TEXT NOT NULL
) STRICT;

CREATE TABLE host (
  name    TEXT PRIMARY KEY,
  usbip   TEXT NOT NULL,
  control TEXT NOT NULL
) STRICT;

CREATE TABLE device (
  id        TEXT PRIMARY KEY,
  handle    TEXT NOT NULL UNIQUE,
  usb       TEXT NOT NULL,
  serial    TEXT NOT NULL,
  family    TEXT NOT NULL,
  maker     TEXT NOT NULL,
  code      TEXT NOT NULL,
  model     TEXT NOT NULL,
  hands_url TEXT NOT NULL DEFAULT '',
  key       TEXT NOT NULL DEFAULT '',   -- fingerprint of the pinned device key
  created   TEXT NOT NULL,
  UNIQUE (usb, serial)
) STRICT;

-- The latest fact of a subject, key and source; the ones before are in history.
CREATE TABLE fact (
  subject TEXT NOT NULL,
  key     TEXT NOT NULL,
  source  TEXT NOT NULL,
  type    TEXT NOT NULL,
  value   TEXT NOT NULL,
  at      TEXT NOT NULL,
  told_by TEXT NOT NULL DEFAULT '',
  scope   TEXT NOT NULL DEFAULT '',
  PRIMARY KEY (subject, key, source)
) STRICT, WITHOUT ROWID;

CREATE TABLE history (
  id      INTEGER PRIMARY KEY,
  subject TEXT NOT NULL,
  key     TEXT NOT NULL,
  source  TEXT NOT NULL,
  value   TEXT NOT NULL,
  at      TEXT NOT NULL,
  told_by TEXT NOT NULL DEFAULT ''
) STRICT;
CREATE INDEX history_subject ON history (subject, id);

CREATE TABLE job (
  id      TEXT PRIMARY KEY,
  created TEXT NOT NULL,
  state   TEXT NOT NULL,
  device  TEXT NOT NULL DEFAULT '',
  record  TEXT NOT NULL             -- JSON
) STRICT;
CREATE INDEX job_created ON job (created);

CREATE TABLE driver_set (
  digest  TEXT PRIMARY KEY,         -- SHA-256 of the file
  name    TEXT NOT NULL,
  version TEXT NOT NULL,
  record  TEXT NOT NULL             -- its manifest, JSON
) STRICT;

CREATE TABLE project (
  app TEXT PRIMARY KEY,
  dir TEXT NOT NULL
) STRICT;

CREATE TABLE app_file (
  digest  TEXT PRIMARY KEY,         -- SHA-256 of the manifest: the app file's id
  app     TEXT NOT NULL,
  version TEXT NOT NULL,
  file    TEXT NOT NULL,            -- SHA-256 of the whole file
  size    INTEGER NOT NULL,
  created TEXT NOT NULL
) STRICT;

CREATE TABLE tryout (
  id      TEXT PRIMARY KEY,
  device  TEXT NOT NULL REFERENCES device (id),
  app     TEXT NOT NULL,
  passed  INTEGER NOT NULL,
  created TEXT NOT NULL,
  record  TEXT NOT NULL             -- JSON
) STRICT;
CREATE INDEX tryout_device ON tryout (device, app, created);

CREATE TABLE session (
  secret  TEXT PRIMARY KEY,         -- SHA-256 of the cookie's value
  created TEXT NOT NULL,
  ends    TEXT NOT NULL
) STRICT;

-- What others should hear of, written with the change itself.
CREATE TABLE outbox (
  sequence INTEGER PRIMARY KEY AUTOINCREMENT,
  type     TEXT NOT NULL,
  subject  TEXT NOT NULL,
  at       TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE outbox; DROP TABLE session; DROP TABLE tryout; DROP TABLE app_file; DROP TABLE project;
DROP TABLE driver_set; DROP TABLE job; DROP TABLE history; DROP TABLE fact; DROP TABLE device; DROP TABLE host; DROP TABLE setting;
