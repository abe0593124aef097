-- +goose Up
-- Facts are ordered by the sequence in which they were kept, since clocks step back.
ALTER TABLE fact ADD COLUMN seq INTEGER NOT NULL DEFAULT 0;
UPDATE fact SET seq = numbered.n FROM (SELECT subject, key, source, row_number() OVER (ORDER BY at) AS n FROM fact) AS numbered
WHERE fact.subject = numbered.subject AND fact.key = numbered.key AND fact.source = numbered.source;
CREATE INDEX fact_seq ON fact (seq);

-- What tryouts showed is facts of an app on a device.
INSERT OR IGNORE INTO fact (subject, key, source, type, value, at, seq)
SELECT 'trial/' || device || '/' || app, 'app.tried', 'device', 'bool', CASE passed WHEN 1 THEN 'true' ELSE 'false' END, max(created),
       (SELECT coalesce(max(seq), 0) FROM fact) + row_number() OVER (ORDER BY created)
FROM tryout GROUP BY device, app;

-- Two devices may be alike in all that a bus tells of them.
CREATE TABLE device_new (
  id         TEXT PRIMARY KEY,
  handle     TEXT NOT NULL UNIQUE,
  usb        TEXT NOT NULL,
  serial     TEXT NOT NULL,             -- '' where it states none
  family     TEXT NOT NULL,
  maker      TEXT NOT NULL,
  code       TEXT NOT NULL,
  model      TEXT NOT NULL,
  hands_url  TEXT NOT NULL DEFAULT '',
  key        TEXT NOT NULL DEFAULT '',  -- fingerprint of the pinned device key
  place      TEXT NOT NULL DEFAULT '',  -- where it was seen last
  created    TEXT NOT NULL,
  retirement TEXT NOT NULL DEFAULT ''
) STRICT;
INSERT INTO device_new (id, handle, usb, serial, family, maker, code, model, hands_url, key, created, retirement)
SELECT id, handle, usb, serial, family, maker, code, model, hands_url, key, created, retirement FROM device;
CREATE TABLE tryout_new (
  id      TEXT PRIMARY KEY,
  device  TEXT NOT NULL REFERENCES device_new (id) ON DELETE CASCADE,
  app     TEXT NOT NULL,
  passed  INTEGER NOT NULL,
  created TEXT NOT NULL,
  record  TEXT NOT NULL                 -- JSON
) STRICT;
INSERT INTO tryout_new SELECT * FROM tryout;
DROP TABLE tryout;
DROP TABLE device;
ALTER TABLE device_new RENAME TO device;
ALTER TABLE tryout_new RENAME TO tryout;
CREATE INDEX tryout_device ON tryout (device, app, created);
CREATE INDEX device_key ON device (key) WHERE key <> '';

-- A job's parent, for work on many devices.
ALTER TABLE job ADD COLUMN parent TEXT NOT NULL DEFAULT '';
CREATE INDEX job_parent ON job (parent) WHERE parent <> '';
CREATE INDEX job_open ON job (state) WHERE state IN ('waiting', 'running');

-- Keys for programs and other people.
CREATE TABLE access (
  id      TEXT PRIMARY KEY,
  name    TEXT NOT NULL UNIQUE,
  secret  TEXT NOT NULL UNIQUE,         -- SHA-256 of the key
  rights  TEXT NOT NULL,                -- parted by commas
  created TEXT NOT NULL,
  ends    TEXT NOT NULL,
  used    TEXT NOT NULL DEFAULT ''      -- the last time
) STRICT;

-- Who did what. A line is written before the thing is done, and its outcome once it is.
CREATE TABLE audit (
  id        INTEGER PRIMARY KEY AUTOINCREMENT,
  at        TEXT NOT NULL,
  actor     TEXT NOT NULL,              -- such as owner/ada, browser/ada, access/nightly
  operation TEXT NOT NULL,
  subject   TEXT NOT NULL,              -- the address, without /api/v1
  outcome   INTEGER NOT NULL DEFAULT 0  -- HTTP status; 0: the service ended before it was known
) STRICT;

-- +goose Down
DROP TABLE audit; DROP TABLE access; DROP INDEX job_open; DROP INDEX job_parent; ALTER TABLE job DROP COLUMN parent;
DROP INDEX fact_seq; ALTER TABLE fact DROP COLUMN seq; DROP INDEX device_key; ALTER TABLE device DROP COLUMN place;
