package driver

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/usb"
)

// Access is who may open the nodes of devices.
type Access struct {
	Group string // "" leaves the group as it is
	Seat  bool   // also whoever sits at the computer (udev's tag uaccess)
}

// Rule is what a driver set contributes to the rules file: the devices whose nodes may be
// opened.
type Rule struct {
	Name, Version, Digest string
	USB                   []string // ids, or ranges of them, as in [Match]
}

var (
	groupShape   = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)
	versionShape = regexp.MustCompile(`^[0-9A-Za-z.+~_-]{1,64}$`)
)

// rulesHead tells people who find the file where it comes from.
const rulesHead = `# Made by Early Bench. It writes this file anew whenever that changes which devices
# it may open; change other files instead.
`

// Rules makes the text of a udev rules file. It is made of ids alone: nothing of a driver set
// is taken over as text. Rules of equal input are equal.
func Rules(rules []Rule, a Access) (string, error) {
	if a.Group != "" && !groupShape.MatchString(a.Group) {
		return "", fmt.Errorf("group %.40q cannot be used in a rule", a.Group)
	}
	rules = slices.Clone(rules)
	slices.SortFunc(rules, func(a, b Rule) int { return strings.Compare(a.Name+" "+a.Digest, b.Name+" "+b.Digest) })
	var out strings.Builder
	out.WriteString(rulesHead)
	for _, r := range rules {
		if !nameShape.MatchString(r.Name) || !versionShape.MatchString(r.Version) || !digestShape.MatchString(r.Digest) {
			return "", fmt.Errorf("driver set %.80q %.64q cannot be written to a rules file", r.Name, r.Version)
		}
		if len(r.USB) == 0 {
			return "", fmt.Errorf("driver set %s has no USB ids, and a rule for every device would be too general", r.Name)
		}
		fmt.Fprintf(&out, "\n# driver set %s %s %s %s\n", r.Name, r.Version, r.Digest, strings.Join(r.USB, " "))
		for _, ids := range r.USB {
			s, err := parseSpan(ids)
			if err != nil {
				return "", fmt.Errorf("driver set %s: %w", r.Name, err)
			}
			for _, product := range globs(s.from, s.to) {
				out.WriteString(ruleLine(s.vendor, product, a))
			}
		}
	}
	return out.String(), nil
}

// ruleLine is one rule, with a comma between all its parts, since udev takes it as it is
// without one too, and means something else.
func ruleLine(vendor uint16, product string, a Access) string {
	parts := []string{`SUBSYSTEM=="usb"`, `ENV{DEVTYPE}=="usb_device"`, fmt.Sprintf(`ATTR{idVendor}=="%04x"`, vendor), fmt.Sprintf(`ATTR{idProduct}=="%s"`, product), `MODE="0660"`}
	if a.Group != "" {
		parts = append(parts, fmt.Sprintf(`GROUP="%s"`, a.Group))
	}
	if a.Seat {
		parts = append(parts, `TAG+="uaccess"`)
	}
	// The device's own serial could lead the link elsewhere: udev takes a slash in it as one. In
	// ID_SERIAL_SHORT every such character was replaced.
	parts = append(parts, `SYMLINK+="earlybench/$attr{idVendor}-$attr{idProduct}-$env{ID_SERIAL_SHORT}"`)
	return strings.Join(parts, ", ") + "\n"
}

// globs are the least patterns of four hexadecimal digits that match just the numbers from
// from to to.
func globs(from, to uint16) []string {
	return globsOf(int(from), int(to), 4)
}

func globsOf(from, to, digits int) []string {
	if digits == 0 {
		return []string{""}
	}
	unit := 1 << (4 * (digits - 1))
	first, last := from/unit, to/unit
	if first == last {
		return prefixed(hexDigits(first, first), globsOf(from%unit, to%unit, digits-1))
	}
	var out []string
	if from%unit != 0 {
		out = append(out, prefixed(hexDigits(first, first), globsOf(from%unit, unit-1, digits-1))...)
		first++
	}
	end := last
	if to%unit != unit-1 {
		end--
	}
	if first <= end {
		out = append(out, prefixed(hexDigits(first, end), globsOf(0, unit-1, digits-1))...)
	}
	if end < last {
		out = append(out, prefixed(hexDigits(last, last), globsOf(0, to%unit, digits-1))...)
	}
	return out
}

func prefixed(digit string, rest []string) []string {
	out := make([]string, len(rest))
	for i, r := range rest {
		out[i] = digit + r
	}
	return out
}

// hexDigits is a pattern for one digit from first to last.
func hexDigits(first, last int) string {
	const all = "0123456789abcdef"
	switch {
	case first == last:
		return all[first : first+1]
	case first == 0 && last == 15:
		return "[0-9a-f]"
	case last <= 9 || first >= 10:
		return "[" + all[first:first+1] + "-" + all[last:last+1] + "]"
	}
	return "[" + all[first:first+1] + "-9a-" + all[last:last+1] + "]"
}

var ruleHead = regexp.MustCompile(`(?m)^# driver set (\S+) (\S+) ([0-9a-f]{64}) ([0-9a-f: -]+)$`)

// ReadRules reads which driver sets a rules file is made of.
func ReadRules(text string) (out []Rule) {
	for _, m := range ruleHead.FindAllStringSubmatch(text, -1) {
		out = append(out, Rule{Name: m[1], Version: m[2], Digest: m[3], USB: strings.Fields(m[4])})
	}
	return out
}

// RuleOf is the rule of a set, by the digest of its file.
func RuleOf(h Held) Rule {
	r := Rule{Name: h.Manifest.Name, Version: h.Manifest.Version, Digest: h.Digest}
	for _, f := range h.Manifest.Fits {
		if f.USB != "" && !slices.Contains(r.USB, f.USB) {
			r.USB = append(r.USB, f.USB)
		}
	}
	return r
}

// NodeAccess is the set for a device on a Linux computer of one's own, which needs no driver,
// but the right on its node: it is made of the device's ids.
func NodeAccess(id usb.ID) Held {
	m := Manifest{Format: 1, Kind: "driver", Name: "linux-access", Version: strings.ReplaceAll(id.String(), ":", "-"), Maker: "this bench", About: "A rule that opens the device's node",
		Fits: []Match{{USB: id.String(), Class: usb.Class{Class: usb.LinkClass}.String(), Interface: usb.LinkName}}, Systems: []System{{Name: "linux"}}}
	return Held{Digest: bundle.Digest([]byte(m.Name + " " + id.String())), Manifest: m, Signer: "this bench"}
}
