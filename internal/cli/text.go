package cli

import (
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/plain"
)

// Styles. Colour never carries meaning alone: what it marks has a shape too.
// Each colour is given for terminals of 16, 256 and all colours.
var (
	colour = lipgloss.Complete(colorprofile.Detect(os.Stdout, os.Environ()))
	bold   = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
	lamp   = lipgloss.NewStyle().Bold(true).
		Foreground(colour(lipgloss.Color("0"), lipgloss.Color("16"), lipgloss.Color("#2b1d05"))).
		Background(colour(lipgloss.Color("3"), lipgloss.Color("214"), lipgloss.Color("#f5b13d")))
	good = lipgloss.NewStyle().Foreground(colour(lipgloss.Color("2"), lipgloss.Color("29"), lipgloss.Color("#3f8f63")))
	bad  = lipgloss.NewStyle().Bold(true).Foreground(colour(lipgloss.Color("1"), lipgloss.Color("130"), lipgloss.Color("#c2502e")))
)

// safe cleans text that may come from a device, before it is printed to the terminal.
func safe(s string) string { return plain.Text(s) }

// emphasis prints **words** bold, and drops single stars.
func emphasis(s string) string {
	parts := strings.Split(safe(s), "**")
	for i := range parts {
		if parts[i] = strings.ReplaceAll(parts[i], "*", ""); i%2 == 1 {
			parts[i] = bold.Render(parts[i])
		}
	}
	return strings.Join(parts, "")
}

// emphasisPlain drops all marks.
func emphasisPlain(s string) string { return strings.ReplaceAll(safe(s), "*", "") }

// wrapped prints s in lines of at most width, each after indent.
func wrapped(w io.Writer, indent, s string, width int) {
	style := lipgloss.NewStyle().Width(max(width-ansi.StringWidth(indent), 30))
	for line := range strings.SplitSeq(style.Render(s), "\n") {
		fmt.Fprintln(w, indent+strings.TrimRight(line, " "))
	}
}

// narrowest is the width below which no column of a table is cut.
const narrowest = 14

// table prints rows under headings, columns two spaces apart. On a terminal the widest
// columns are cut until a row fits.
func (p *program) table(head []string, rows [][]string) {
	w := p.out
	widths := make([]int, len(head))
	total := 2 * (len(head) - 1)
	for _, r := range append([][]string{head}, rows...) {
		for i, c := range r {
			widths[i] = max(widths[i], lipgloss.Width(c))
		}
	}
	for _, n := range widths {
		total += n
	}
	for p.terminal && total > p.width {
		widest := slices.Index(widths, slices.Max(widths))
		if widths[widest] <= narrowest {
			break
		}
		widths[widest]--
		total--
	}
	if p.terminal {
		for i, r := range rows {
			rows[i] = slices.Clone(r)
			for c := range r {
				rows[i][c] = cutTo(r[c], widths[c])
			}
		}
	}
	line := func(r []string, style lipgloss.Style) {
		var b strings.Builder
		for i, c := range r {
			if i == len(r)-1 {
				b.WriteString(c)
				break
			}
			b.WriteString(c + strings.Repeat(" ", widths[i]-lipgloss.Width(c)+2))
		}
		fmt.Fprintln(w, style.Render(strings.TrimRight(b.String(), " ")))
	}
	if strings.Join(head, "") != "" {
		line(head, faint)
	}
	for _, r := range rows {
		line(r, lipgloss.NewStyle())
	}
}

// sayf prints a sentence for people; with --json there is nothing to print.
func (p *program) sayf(format string, args ...any) {
	if !p.json {
		fmt.Fprintf(p.out, format, args...)
	}
}

// cutTo cuts a styled text to a width.
func cutTo(s string, width int) string {
	if lipgloss.Width(s) <= width {
		return s
	}
	return lipgloss.NewStyle().MaxWidth(max(width-1, 0)).Render(s) + "…"
}

// empty prints what an empty list says.
func empty(w io.Writer, text string) { fmt.Fprintln(w, text) }

// bytesText is a size for people.
func bytesText(n int64) string {
	switch {
	case n < 1000:
		return fmt.Sprintf("%d B", n)
	case n < 1000*1000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	case n < 1000*1000*1000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.1f GB", float64(n)/1e9)
}

// clockText is a time of today, or a date.
func clockText(t time.Time) string { return today(t, time.TimeOnly) }

// hourText is clockText without seconds.
func hourText(t time.Time) string { return today(t, "15:04") }

func today(t time.Time, layout string) string {
	t = t.Local()
	if t.Format(time.DateOnly) == time.Now().Format(time.DateOnly) {
		return t.Format(layout)
	}
	return t.Format("2 Jan 15:04")
}

func took(ms int64) string {
	if ms < 1000 {
		return fmt.Sprintf("%d ms", ms)
	}
	return fmt.Sprintf("%.1f s", float64(ms)/1000)
}

// leftText says when a gate that is open will shut.
func leftText(e client.Ending) string {
	left := time.Duration(e.Left) * time.Second
	switch {
	case left >= 48*time.Hour:
		return fmt.Sprintf("ends in %d days", int(math.Round(left.Hours()/24)))
	case left >= 2*time.Hour:
		return fmt.Sprintf("ends in %d hours", int(math.Round(left.Hours())))
	}
	if left <= time.Minute {
		return "ends in a minute"
	}
	return fmt.Sprintf("ends in %d minutes", int(math.Ceil(left.Minutes())))
}
