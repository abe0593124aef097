package fact

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Type is what a fact's value may be.
type Type string

// The types. A Release is ordered by its parts; Texts is a list of texts.
const (
	Bool    Type = "bool"
	Int     Type = "int"
	Text    Type = "text"
	Texts   Type = "texts"
	Version Type = "release"
)

// Release is an OS version: numbers parted by dots, such as 12 or 6.2. The zero
// value means not known, and is before every other.
type Release string

// ParseRelease takes one to four numbers parted by dots.
func ParseRelease(s string) (Release, error) {
	parts := strings.Split(s, ".")
	if len(parts) > 4 {
		return "", fmt.Errorf("release %q has more than four parts", s)
	}
	for _, p := range parts {
		if _, err := strconv.ParseUint(p, 10, 32); err != nil {
			return "", fmt.Errorf("release %q is not made of numbers parted by dots", s)
		}
	}
	return Release(s), nil
}

// Compare orders releases by their parts as numbers; a missing part counts as
// zero, so 12 and 12.0 are the same.
func (r Release) Compare(other Release) int {
	a, b := strings.Split(string(r), "."), strings.Split(string(other), ".")
	for i := range max(len(a), len(b)) {
		if c := cmp.Compare(part(a, i), part(b, i)); c != 0 {
			return c
		}
	}
	return 0
}

func part(parts []string, i int) int64 {
	if i >= len(parts) || parts[i] == "" {
		return 0
	}
	n, err := strconv.ParseInt(parts[i], 10, 64)
	if err != nil {
		return -1
	}
	return n
}

// Value is a typed value. The zero value has no type.
type Value struct {
	typ   Type
	truth bool
	num   int64
	text  string // of a list: its texts, each behind a NUL
}

// Of makes a value from a bool, int, int64, string, Release or []string.
// Texts lose their NUL bytes.
func Of[T bool | int | int64 | string | Release | []string](v T) Value {
	switch v := any(v).(type) {
	case bool:
		return Value{typ: Bool, truth: v}
	case int:
		return Value{typ: Int, num: int64(v)}
	case int64:
		return Value{typ: Int, num: v}
	case string:
		return Value{typ: Text, text: v}
	case Release:
		return Value{typ: Version, text: string(v)}
	case []string:
		var b strings.Builder
		for _, s := range v {
			b.WriteByte(0)
			b.WriteString(strings.ReplaceAll(s, "\x00", ""))
		}
		return Value{typ: Texts, text: b.String()}
	}
	return Value{}
}

// Type tells the value's type.
func (v Value) Type() Type { return v.typ }

// IsTrue tells whether the value is a bool that holds.
func (v Value) IsTrue() bool { return v.truth }

// Text returns a text or release as it is, and "" for others.
func (v Value) Text() string {
	if v.typ == Texts {
		return ""
	}
	return v.text
}

// Any returns the value as a Go value: bool, int64, string, Release, []string.
func (v Value) Any() any {
	switch v.typ {
	case Bool:
		return v.truth
	case Int:
		return v.num
	case Version:
		return Release(v.text)
	case Texts:
		return v.list()
	case Text:
		return v.text
	}
	return nil
}

func (v Value) list() []string {
	if v.text == "" {
		return []string{}
	}
	return strings.Split(v.text[1:], "\x00")
}

// String is the value as people read it.
func (v Value) String() string {
	switch v.typ {
	case Bool:
		if v.truth {
			return "yes"
		}
		return "no"
	case Int:
		return strconv.FormatInt(v.num, 10)
	case Texts:
		return strings.Join(v.list(), ", ")
	}
	return v.text
}

// MarshalJSON writes the plain JSON value.
func (v Value) MarshalJSON() ([]byte, error) { return json.Marshal(v.Any()) }

// ParseValue reads a JSON value of a known type.
func ParseValue(t Type, raw []byte) (Value, error) {
	var err error
	switch t {
	case Bool:
		var x bool
		err = json.Unmarshal(raw, &x)
		return Of(x), typed(t, raw, err)
	case Int:
		var x int64
		err = json.Unmarshal(raw, &x)
		return Of(x), typed(t, raw, err)
	case Texts:
		var x []string
		err = json.Unmarshal(raw, &x)
		return Of(x), typed(t, raw, err)
	case Text, Version:
		var x string
		if err = json.Unmarshal(raw, &x); err == nil && t == Version {
			_, err = ParseRelease(x)
			return Of(Release(x)), typed(t, raw, err)
		}
		return Of(x), typed(t, raw, err)
	}
	return Value{}, fmt.Errorf("there is no type %q", t)
}

func typed(t Type, raw []byte, err error) error {
	if err != nil {
		return fmt.Errorf("%.80s is no %s: %w", raw, t, err)
	}
	return nil
}
