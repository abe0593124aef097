package fact

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Type is the type of a fact's value.
type Type string

// The types. A Release is ordered by its parts; Texts is a list of texts; a
// Moment is a time to the second, RFC 3339 in JSON.
const (
	Bool    Type = "bool"
	Int     Type = "int"
	Text    Type = "text"
	Texts   Type = "texts"
	Version Type = "release"
	Moment  Type = "time"
)

// Types are all types, as sheets name them.
var Types = []Type{Bool, Int, Text, Texts, Version, Moment}

// Release is an OS version: numbers separated by dots, such as 12 or 6.2. The zero value
// means unknown and sorts before every other.
type Release string

// ParseRelease parses one to four numbers separated by dots.
func ParseRelease(s string) (Release, error) {
	parts := strings.Split(s, ".")
	if len(parts) > 4 {
		return "", fmt.Errorf("release %q has more than four parts", s)
	}
	for _, p := range parts {
		if _, err := strconv.ParseUint(p, 10, 32); err != nil {
			return "", fmt.Errorf("release %q is not numbers separated by dots", s)
		}
	}
	return Release(s), nil
}

// Compare orders releases by their parts as numbers; a missing part counts as
// zero, so 12 and 12.0 are the same.
func (r Release) Compare(other Release) int {
	a, b := string(r), string(other)
	for a != "" || b != "" {
		var x, y int64
		x, a = part(a)
		y, b = part(b)
		if c := cmp.Compare(x, y); c != 0 {
			return c
		}
	}
	return 0
}

// part splits the first number off a release.
func part(s string) (n int64, rest string) {
	first, rest, _ := strings.Cut(s, ".")
	if first == "" {
		return 0, rest
	}
	n, err := strconv.ParseInt(first, 10, 64)
	if err != nil {
		return -1, rest
	}
	return n, rest
}

// Value is a typed value. The zero value has no type.
type Value struct {
	typ   Type
	truth bool
	num   int64  // of a moment: seconds since 1970
	text  string // of a list: its texts, each behind a NUL
}

// Of makes a value from a bool, int, int64, string, Release, []string or
// time.Time. Texts lose their NUL bytes, times what is below a second.
func Of[T bool | int | int64 | string | Release | []string | time.Time](v T) Value {
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
	case time.Time:
		return Value{typ: Moment, num: v.Unix()}
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

// IsTrue reports whether the value is the bool true.
func (v Value) IsTrue() bool { return v.truth }

// Text returns a text or release as it is, and "" for others.
func (v Value) Text() string {
	if v.typ == Texts {
		return ""
	}
	return v.text
}

// Time returns a moment in UTC, and the zero time for others.
func (v Value) Time() time.Time {
	if v.typ != Moment {
		return time.Time{}
	}
	return time.Unix(v.num, 0).UTC()
}

// Int returns a whole number, and 0 for others.
func (v Value) Int() int64 {
	if v.typ != Int {
		return 0
	}
	return v.num
}

// Any returns the value as a Go value: bool, int64, string, Release, []string,
// time.Time.
func (v Value) Any() any {
	switch v.typ {
	case Bool:
		return v.truth
	case Int:
		return v.num
	case Version:
		return Release(v.text)
	case Texts:
		return v.Texts()
	case Moment:
		return v.Time()
	case Text:
		return v.text
	}
	return nil
}

// Has reports whether a text is among Texts; for other types it is false.
func (v Value) Has(text string) bool {
	if v.typ != Texts || strings.Contains(text, "\x00") {
		return false
	}
	item := "\x00" + text
	return strings.HasSuffix(v.text, item) || strings.Contains(v.text, item+"\x00")
}

// Texts returns the texts of Texts; none for other types.
func (v Value) Texts() []string {
	if v.text == "" {
		return []string{}
	}
	return strings.Split(v.text[1:], "\x00")
}

// String returns the value for people to read.
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
		return strings.Join(v.Texts(), ", ")
	case Moment:
		return v.Time().Format("2 Jan 2006 15:04") + " UTC"
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
	case Moment:
		var x time.Time
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
		return fmt.Errorf("%.80s is not of type %s: %w", raw, t, err)
	}
	return nil
}
