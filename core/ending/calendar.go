package ending

import (
	"bytes"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// stamp is how times are written in UTC (RFC 5545, section 3.3.5).
const stamp = "20060102T150405Z"

// Calendar writes terms that end as iCalendar (RFC 5545): an event for each, with an alarm at the
// beginning of its notice. The same term has the same UID each time, so that nothing is in a
// calendar twice.
func Calendar(all []Term, bench, domain string, now time.Time) []byte {
	var b bytes.Buffer
	line := func(name, text string) { fold(&b, name+":"+text) }
	line("BEGIN", "VCALENDAR")
	line("VERSION", "2.0")
	line("PRODID", "-//Early Bench//Endings//EN")
	line("METHOD", "PUBLISH")
	line("X-WR-CALNAME", escaped("Endings of "+bench))
	line("REFRESH-INTERVAL;VALUE=DURATION", "PT6H") // RFC 7986, section 5.7
	for _, t := range all {
		if t.Ends.IsZero() {
			continue
		}
		line("BEGIN", "VEVENT")
		line("UID", escaped(t.ID+"@"+domain))
		line("DTSTAMP", now.UTC().Format(stamp))
		line("DTSTART", t.Ends.UTC().Format(stamp))
		line("SUMMARY", escaped(fmt.Sprintf("%s %s ends", t.Kind, t.Name)))
		line("DESCRIPTION", escaped(strings.TrimSpace(strings.Join([]string{t.Stops, t.Step, t.Command}, "\n"))))
		line("TRANSP", "TRANSPARENT")
		if t.Mine && !t.Alone {
			line("BEGIN", "VALARM")
			line("ACTION", "DISPLAY")
			line("DESCRIPTION", escaped(fmt.Sprintf("%s %s ends soon", t.Kind, t.Name)))
			line("TRIGGER", "-"+duration(t.Notice))
			line("END", "VALARM")
		}
		line("END", "VEVENT")
	}
	line("END", "VCALENDAR")
	return b.Bytes()
}

// duration writes a duration of whole minutes (RFC 5545, section 3.3.6).
func duration(d time.Duration) string {
	if d%(24*time.Hour) == 0 {
		return fmt.Sprintf("P%dD", d/(24*time.Hour))
	}
	return fmt.Sprintf("PT%dM", d/time.Minute)
}

// escaped writes a text (RFC 5545, section 3.3.11).
func escaped(s string) string {
	return strings.NewReplacer(`\`, `\\`, ";", `\;`, ",", `\,`, "\r\n", `\n`, "\n", `\n`, "\r", "").Replace(s)
}

// lineLength is the longest line, in bytes without its end (RFC 5545, section 3.1).
const lineLength = 75

// fold writes a line, folded between characters.
func fold(b *bytes.Buffer, s string) {
	for limit := lineLength; len(s) > limit; limit = lineLength - 1 {
		cut := limit
		for !utf8.RuneStart(s[cut]) {
			cut--
		}
		b.WriteString(s[:cut] + "\r\n ")
		s = s[cut:]
	}
	b.WriteString(s + "\r\n")
}
