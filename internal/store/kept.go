package store

import (
	"context"
	"time"
)

// KeptFile is a file that a record names.
type KeptFile struct {
	Digest string // SHA-256 of the file
	Kind   KeptKind
	ID     string // of the record
	Name   string // such as "fellgate/callout 2.3"
	Size   int64  // in bytes; 0 where the record does not say
	At     time.Time
}

// KeptKind is what a kept file is.
type KeptKind string

// The kinds of kept files.
const (
	KeptApp     KeptKind = "app file"
	KeptDriver  KeptKind = "driver set"
	KeptSupport KeptKind = "support pack"
	KeptPicture KeptKind = "picture"
)

// KeptFiles returns the files that records name, the oldest first.
func (s *Store) KeptFiles(ctx context.Context) ([]KeptFile, error) {
	return query(ctx, s.db, func(r row) (k KeptFile, err error) {
		var at string
		err = r.Scan(&k.Digest, &k.Kind, &k.ID, &k.Name, &k.Size, &at)
		k.At = moment(at)
		return k, err
	}, `SELECT digest, kind, id, name, size, at FROM (
		SELECT file AS digest, 'app file' AS kind, digest AS id, app || ' ' || version AS name, size, created AS at FROM app_file
		UNION ALL SELECT digest, 'driver set', digest, name || ' ' || version, 0, '' FROM driver_set
		UNION ALL SELECT digest, 'support pack', digest, name || ' ' || version, 0, added FROM support
		UNION ALL SELECT json_extract(record, '$.picture'), 'picture', id, app, 0, created FROM tryout WHERE json_valid(record) AND json_extract(record, '$.picture') <> ''
	) ORDER BY at, id`)
}
