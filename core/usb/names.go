package usb

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Names are the names of vendors and products, as the system's file usb.ids has them. The
// zero value knows none.
type Names struct {
	vendors  map[uint16]string
	products map[ID]string
}

// Limits of the file.
const (
	maxNames   = 200_000
	maxNameLen = 200 // bytes; longer ones are cut
)

// ReadNames reads a file in the format of usb.ids: lines "VVVV  vendor", below each of them
// "<tab>PPPP  product". Lines of other tables, which follow, end it.
func ReadNames(r io.Reader) (Names, error) {
	n := Names{vendors: map[uint16]string{}, products: map[ID]string{}}
	lines := bufio.NewScanner(r)
	var vendor uint16
	known := false
	for lines.Scan() {
		line := lines.Text()
		if strings.TrimSpace(line) == "" || line[0] == '#' || strings.HasPrefix(line, "\t\t") {
			continue
		}
		number, name, ok := entry(strings.TrimPrefix(line, "\t"))
		switch below := line[0] == '\t'; {
		case below && known && ok:
			n.products[ID{vendor, number}] = name
		case below:
		case ok:
			vendor, known = number, true
			n.vendors[number] = name
		default:
			known = false // a line of another table, such as "C 03  HID"
		}
		if len(n.vendors)+len(n.products) > maxNames {
			return n, fmt.Errorf("read the names of USB devices: more than %d", maxNames)
		}
	}
	if err := lines.Err(); err != nil {
		return n, fmt.Errorf("read the names of USB devices: %w", err)
	}
	return n, nil
}

// entry reads "VVVV  name".
func entry(line string) (number uint16, name string, ok bool) {
	digits, rest, ok := strings.Cut(line, "  ")
	if !ok || len(digits) != 4 {
		return 0, "", false
	}
	id, err := ParseID("0000:" + digits)
	name = strings.TrimSpace(rest)
	if err != nil || name == "" || !utf8.ValidString(name) {
		return 0, "", false
	}
	return id.Product, name[:min(len(name), maxNameLen)], true
}

// Of is the name of a device by its ids, with its vendor's: "Vendor Product". It is "" if
// not even the vendor is known.
func (n Names) Of(id ID) string {
	vendor, product := n.vendors[id.Vendor], n.products[id]
	if product == "" && vendor != "" {
		return vendor + " " + fmt.Sprintf("%04x", id.Product)
	}
	return strings.TrimSpace(vendor + " " + product)
}
