// Package strict reads YAML that people wrote, or that came from somebody else.
package strict

import (
	"errors"
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
)

// YAML reads one document into v. A field that v does not have is an error. An error shows
// the place of the mistake, in several lines. No text makes it panic, as some do with the
// decoder beneath.
func YAML(raw []byte, v any) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("this is no YAML that can be read (%v)", p)
		}
	}()
	if err := yaml.UnmarshalWithOptions(raw, v, yaml.Strict()); err != nil {
		return errors.New(strings.TrimRight(yaml.FormatError(err, false, true), "\n"))
	}
	return nil
}
