package client

import (
	"context"
	"net/url"
	"strconv"
)

// Select selects items of a list: by an expression (docs/where.md), at most a number (0: as
// many as usual for the list), after an item.
type Select struct {
	Where string
	Limit int
	After string
}

// query puts what is selected to an address's query.
func query(q url.Values, sel []Select) string {
	for _, s := range sel {
		for name, value := range map[string]string{"where": s.Where, "after": s.After} {
			if value != "" {
				q.Set(name, value)
			}
		}
		if s.Limit > 0 {
			q.Set("limit", strconv.Itoa(s.Limit))
		}
	}
	if len(q) == 0 {
		return ""
	}
	return "?" + q.Encode()
}

// list asks for a list.
func list[T any](ctx context.Context, c *Client, path string, q url.Values, sel []Select) ([]T, error) {
	if q == nil {
		q = url.Values{}
	}
	l, err := call[List[T]](ctx, c, "GET", path+query(q, sel), nil)
	return l.Items, err
}
