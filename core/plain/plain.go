// Package plain makes text from outside safe to show: it removes what controls terminals or
// changes the direction of text, and never cuts within a character. Text is cleaned only when
// it is sent to a terminal or a page, so that records contain what was really sent.
package plain

import (
	"bytes"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Line returns s as one line: line ends and tabs become spaces; other characters that control
// terminals or the direction of text are removed. Bytes that are not UTF-8 become U+FFFD.
func Line(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\r' || r == '\t' || r == 0x2028 || r == 0x2029:
			return ' '
		case steers(r):
			return -1
		}
		return r
	}, s)
}

// Text is [Line] for text of several lines: line feeds and tabs stay.
func Text(s string) string {
	return strings.Map(func(r rune) rune {
		if r != '\n' && r != '\t' && steers(r) {
			return -1
		}
		return r
	}, s)
}

// Cut returns s in at most most bytes, whole characters only, and with an
// ellipsis (counted) where something was left out.
func Cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	const more = "…"
	end := max(most-len(more), 0)
	for end > 0 && !utf8.RuneStart(s[end]) {
		end--
	}
	return s[:end] + more
}

// CutTelling is [Cut] with the size of what was left out after the ellipsis; that is not counted.
func CutTelling(s string, most int) string {
	if len(s) <= most {
		return s
	}
	cut := Cut(s, most)
	return cut + " (" + strconv.Itoa(len(s)-len(cut)+len("…")) + " bytes more)"
}

// steers reports whether a character is to be removed: control characters (C0, DEL, C1), marks
// that change the direction of text (Unicode, UAX 9), and invisible characters.
func steers(r rune) bool {
	switch {
	case r < ' ', r >= 0x7f && r < 0xa0:
		return true
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069:
		return true
	case r == 0x2028, r == 0x2029, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb:
		return true
	}
	return unicode.Is(unicode.Noncharacter_Code_Point, r) || r >= 0xe0000 && r <= 0xe007f
}

// JSON returns encoded JSON with every string in it as [Text] makes it. raw must
// be valid JSON; structure, numbers and lengths of lists stay.
func JSON(raw []byte) []byte {
	if !needs(raw) {
		return raw
	}
	out := make([]byte, 0, len(raw))
	for i := 0; i < len(raw); {
		if r, n := escaped(raw[i:]); n > 0 {
			if !steers(r) || r == '\n' || r == '\t' {
				out = append(out, raw[i:i+n]...)
			}
			i += n
			continue
		}
		r, n := utf8.DecodeRune(raw[i:])
		if r < ' ' || !steers(r) { // below a space it is JSON's own white space
			out = append(out, raw[i:i+n]...)
		}
		i += n
	}
	return out
}

// needs reports whether there is anything that JSON might have to leave out.
func needs(raw []byte) bool {
	return bytes.Contains(raw, []byte(`\u`)) || bytes.ContainsAny(raw, `\`) || bytes.ContainsFunc(raw, func(r rune) bool { return r >= 0x7f && steers(r) })
}

// escaped reads an escape at the beginning of raw; of a surrogate pair or any
// other escape than one of a control character it returns a rune that steers
// nothing.
func escaped(raw []byte) (r rune, n int) {
	if len(raw) < 2 || raw[0] != '\\' {
		return 0, 0
	}
	switch raw[1] {
	case 'u':
		if len(raw) < 6 {
			return 'x', len(raw)
		}
		code, err := strconv.ParseUint(string(raw[2:6]), 16, 32)
		if err != nil {
			return 'x', 2
		}
		return rune(code), 6
	case 'b':
		return '\b', 2
	case 'f':
		return '\f', 2
	case 'r':
		return '\r', 2
	}
	return 'x', 2
}

// Capital makes the first letter a capital, so that an error becomes a sentence. A path stays as
// it is.
func Capital(s string) string {
	if s == "" || strings.HasPrefix(s, "/") {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
