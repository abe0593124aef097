package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) hostTree() *cobra.Command {
	return &cobra.Command{Use: "tree [HOST]", Short: "Show what is connected to the USB of a host, and what is wrong there", Args: cobra.MaximumNArgs(1),
		Long: `Shows the USB of a host, or of all hosts: controllers, hubs, devices and their
interfaces, with speed, current, driver and who has the device. What is wrong is said in the
row where it is wrong, with the gate that it shuts.`,
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			names := args
			if len(args) == 0 {
				hosts, err := b.Hosts(c.Context())
				if err != nil {
					return err
				}
				for _, h := range hosts {
					names = append(names, h.Name)
				}
			}
			trees := []client.HostTree{}
			for _, name := range names {
				t, err := b.HostTree(c.Context(), name)
				if err != nil {
					return err
				}
				trees = append(trees, t)
			}
			if p.json {
				return p.printJSON(client.List[client.HostTree]{Items: trees})
			}
			if len(trees) == 0 {
				empty(p.out, "No host yet. Add one: earlybench host add NAME --usbip ADDR --control ADDR")
			}
			for i, t := range trees {
				if i > 0 {
					fmt.Fprintln(p.out)
				}
				p.printTree(t)
			}
			return nil
		}}
}

func (p *program) printTree(t client.HostTree) {
	head := bold.Render(t.Host)
	if t.Own {
		head += faint.Render("  this computer")
	}
	fmt.Fprintln(p.out, head)
	if t.Trouble != "" {
		wrapped(p.out, "  ", safe(t.Trouble), p.width)
	}
	if t.Known && len(t.Rows) == 0 {
		fmt.Fprintln(p.out, "  Nothing is connected.")
	}
	wires := wiresOf(t.Rows)
	for i, r := range t.Rows {
		p.printTreeRow(wires[i], r)
	}
}

// wire is the lines at the left of a row, and of more text about it below.
type wire struct{ at, below string }

// wiresOf draws the lines that connect each row with what is above it.
func wiresOf(rows []client.TreeRow) []wire {
	out := make([]wire, len(rows))
	goes := map[int]bool{} // the depths at which something follows below
	for i := len(rows) - 1; i >= 0; i-- {
		depth := rows[i].Depth
		for d := range goes {
			if d > depth {
				delete(goes, d)
			}
		}
		w := &out[i]
		for d := range depth + 1 {
			at, below := "   ", "   "
			if goes[d] {
				at, below = "│  ", "│  "
			}
			if d == depth {
				if at = "└─ "; goes[d] {
					at = "├─ "
				}
			}
			w.at, w.below = w.at+at, w.below+below
		}
		goes[depth] = true
		if i+1 < len(rows) && rows[i+1].Depth > depth {
			w.below += "│  "
		}
	}
	return out
}

// printTreeRow prints what a row is, and at its right what is known of it; what is wrong takes
// the place of that, in a line of its own where it is too long.
func (p *program) printTreeRow(w wire, r client.TreeRow) {
	var says []string
	add := func(s string) {
		if s != "" {
			says = append(says, safe(s))
		}
	}
	name := safe(r.Name)
	switch r.Kind {
	case "interface":
		name = strings.TrimSpace(r.ID + "  " + safe(r.USB) + "  " + name)
		if add(r.Driver); r.Driver == "" && r.Trouble == "" {
			says = append(says, "no driver")
		}
	case "device":
		if r.Device != "" {
			name = strings.TrimSpace(bold.Render(r.Device) + " " + name)
		}
		name = strings.TrimSpace(strconv.Itoa(r.Port) + "  " + name)
		add(r.USB)
		add(speedText(r.Kilobits))
		add(currentText(r.MilliAmps))
		if r.Trouble == "" {
			add(r.Holder)
		}
	default:
		if name == "" {
			name = r.Kind
		}
		if r.Port > 0 {
			name = strconv.Itoa(r.Port) + "  " + name
		}
		add(fmt.Sprintf("%d ports", r.Ports))
		add(speedText(r.Kilobits))
		add(r.Driver)
	}
	line := faint.Render(w.at) + name
	const column = 52
	line += strings.Repeat(" ", max(column-ansi.StringWidth(line), 2)) + faint.Render(strings.Join(says, "  "))
	fmt.Fprintln(p.out, strings.TrimRight(ansi.Truncate(line, max(p.width, 20), "…"), " "))
	if r.Trouble == "" {
		return
	}
	mark := bad.Render("✗ ")
	if r.Gate != "" {
		mark += bold.Render(r.Gate) + "  "
	}
	wrapped(p.out, faint.Render(w.below), mark+safe(r.Trouble), p.width)
}

// speedText is a speed for people.
func speedText(kilobits int) string {
	switch {
	case kilobits == 0:
		return ""
	case kilobits >= 1_000_000:
		return fmt.Sprintf("%g Gbit/s", float64(kilobits)/1_000_000)
	}
	return fmt.Sprintf("%g Mbit/s", float64(kilobits)/1000)
}

func currentText(milliAmps int) string {
	if milliAmps == 0 {
		return ""
	}
	return fmt.Sprintf("%d mA", milliAmps)
}
