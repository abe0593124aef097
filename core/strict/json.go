package strict

import "github.com/go-json-experiment/json"

// JSON reads one JSON value (RFC 8259) into v as it stands. A name that is there twice, a member that v
// does not have, be it by its case only, invalid UTF-8, and anything behind the value are errors: so
// nobody else reads something else in the same bytes.
func JSON(raw []byte, v any) error {
	return json.Unmarshal(raw, v, json.RejectUnknownMembers(true))
}

// NewerJSON is [JSON] for what a later version may have written: members that v does not have are left
// out. One that differs by its case only is such a member.
func NewerJSON(raw []byte, v any) error { return json.Unmarshal(raw, v) }
