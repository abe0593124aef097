-- +goose Up
-- What causes turned out to be the ones, by family and host.
CREATE TABLE learned (
  family TEXT NOT NULL,             -- '' for devices that did not show up at all
  host   TEXT NOT NULL,
  cause  TEXT NOT NULL,
  cases  INTEGER NOT NULL,
  last   TEXT NOT NULL,
  PRIMARY KEY (family, host, cause)
) STRICT, WITHOUT ROWID;

-- The last good text of every sheet that lies beside the bench, so that a broken
-- edit never takes one out of force, not even over a restart.
CREATE TABLE sheet_file (
  name  TEXT PRIMARY KEY,
  text  TEXT NOT NULL,
  taken TEXT NOT NULL
) STRICT;

-- +goose Down
DROP TABLE sheet_file; DROP TABLE learned;
