package store

import "context"

// KeptFile is a file that a record names.
type KeptFile struct {
	Digest string // SHA-256 of the file
	Kind   string // app file, driver set, support pack, picture
	Name   string // such as "fellgate/callout 2.3"
}

// KeptFiles returns the files that records name, by their names.
func (s *Store) KeptFiles(ctx context.Context) ([]KeptFile, error) {
	return query(ctx, s.db, func(r row) (k KeptFile, err error) { return k, r.Scan(&k.Digest, &k.Kind, &k.Name) },
		`SELECT file, 'app file', app || ' ' || version AS name FROM app_file
		UNION ALL SELECT digest, 'driver set', name || ' ' || version FROM driver_set
		UNION ALL SELECT digest, 'support pack', name || ' ' || version FROM support
		UNION ALL SELECT json_extract(record, '$.picture'), 'picture', app FROM tryout WHERE json_valid(record) AND json_extract(record, '$.picture') <> ''
		ORDER BY name`)
}
