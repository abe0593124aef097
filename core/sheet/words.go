package sheet

import (
	"maps"
	"regexp"
	"slices"
	"strings"
)

var (
	placeholder = regexp.MustCompile(`\{([a-z][a-z0-9 ]*)\}`)
	languageTag = regexp.MustCompile(`^[a-z]{2,3}(-[A-Za-z0-9]{2,8})*$`)
	idShape     = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)
)

// OfDevice are the words whose values come from the device; every text may use them.
var OfDevice = []string{"handle", "bench", "fingerprint", "set", "trouble", "holder", "number", "figures", "crew", "shown", "battery", "denied", "kit", "amiss", "copy", "companion", "lender", "away", "there", "signer"}

// Words returns the names that a device's screens use in a language, with {maker} and
// {model}. A word that the language does not define keeps the sheet's own value.
func (s *Sheet) Words(language string) map[string]string {
	out := make(map[string]string, len(s.words[""])+len(OfDevice)) // which callers add
	maps.Copy(out, s.words[""])
	for tag := language; tag != ""; {
		if more, ok := s.words[tag]; ok {
			maps.Copy(out, more)
			break
		}
		i := strings.LastIndexByte(tag, '-') // RFC 4647, 3.4: look up, the tag cut from its end
		tag = tag[:max(i, 0)]
	}
	return out
}

// Languages returns the languages that the sheet has words in besides its own.
func (s *Sheet) Languages() []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(s.words)), func(l string) bool { return l == "" })
}

// Fill replaces each {word} of a text; unknown words are left as they are.
func Fill(s string, words map[string]string) string {
	before, rest, found := strings.Cut(s, "{")
	if !found {
		return s
	}
	var out strings.Builder
	for found {
		out.WriteString(before)
		name, after, closed := strings.Cut(rest, "}")
		if w, ok := words[name]; ok && closed {
			out.WriteString(w)
			rest = after
		} else {
			out.WriteByte('{')
		}
		before, rest, found = strings.Cut(rest, "{")
	}
	out.WriteString(before)
	return out.String()
}
