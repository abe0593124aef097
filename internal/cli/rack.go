package cli

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/sheet"
)

func (p *program) rackCommand() *cobra.Command {
	var app string
	var peers bool
	var sel *client.Select
	c := &cobra.Command{Use: "rack", Short: "All devices: their gates, and what each needs next", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if peers {
				far, err := b.FarDevices(c.Context(), *sel)
				if err != nil {
					return err
				}
				return printList(p, far, p.printFar)
			}
			devices, err := b.Devices(c.Context(), app, *sel)
			if err != nil {
				return err
			}
			unrecognised, err := b.Unrecognised(c.Context())
			if err != nil {
				return err
			}
			sheets, err := b.Sheets(c.Context())
			if err != nil {
				return err
			}
			return printList(p, devices, func(ds []client.Device) {
				if len(ds) == 0 && *sel != (client.Select{}) {
					empty(p.out, "No device matches. See all of them: earlybench rack")
					return
				}
				p.printRack(ds, app)
				if *sel == (client.Select{}) {
					p.printUnrecognised(unrecognised)
					p.printRefused(sheets.Trouble)
				}
			})
		}}
	c.Flags().StringVar(&app, "app", "", "also show the gates of an app, such as fellgate/callout")
	c.Flags().BoolVar(&peers, "peers", false, "list the devices that other benches offer")
	sel = p.selection(c)
	c.AddCommand(p.rackShow(), p.rackSet(), p.rackAdd(), p.rackFind(), p.rackDrop())
	return c
}

// marks are the gates' shapes.
var marks = map[string]string{"open": "╱", "shut": "━", "waiting": "◐", "unknown": "┄", "not needed": "·"}

const gateColumn = 6

// printRack prints the matrix, a row a device, a column a gate.
func (p *program) printRack(devices []client.Device, app string) {
	if len(devices) == 0 {
		empty(p.out, "The rack is empty. Plug a device into a host that this bench knows (earlybench host), or add a host: earlybench host add NAME --usbip ADDR --control ADDR.")
		return
	}
	gates := slices.Clone(sheet.Order)
	if app == "" {
		gates = slices.DeleteFunc(gates, sheet.PerApp)
	}
	left := 0
	for _, d := range devices {
		left = max(left, lipgloss.Width(rackName(d)))
	}
	left += 3
	if left+len(gates)*gateColumn > p.width {
		p.printRackNarrow(devices, gates)
		return
	}
	var upper, lower strings.Builder
	for i, g := range gates {
		row := &lower
		if i%2 == 1 {
			row = &upper
		}
		fmt.Fprintf(row, "%s%s", strings.Repeat(" ", max(i*gateColumn-row.Len(), 0)), g)
	}
	fmt.Fprintln(p.out, faint.Render(strings.Repeat(" ", left)+upper.String()))
	fmt.Fprintln(p.out, faint.Render("device"+strings.Repeat(" ", left-6)+lower.String()))
	for _, d := range devices {
		name := bold.Render(safe(d.Handle)) + safe(strings.TrimPrefix(rackName(d), d.Handle))
		fmt.Fprint(p.out, name, strings.Repeat(" ", left-lipgloss.Width(rackName(d))))
		for _, g := range gates {
			m := marks[d.Gates[g]]
			if g == d.First {
				fmt.Fprint(p.out, lamp.Render("["+m+"]"), strings.Repeat(" ", gateColumn-3))
			} else {
				fmt.Fprint(p.out, m, strings.Repeat(" ", gateColumn-1))
			}
		}
		next := rackNext(d)
		if left+len(gates)*gateColumn+lipgloss.Width(next) > p.width {
			next = "\n" + strings.Repeat(" ", left) + next
		}
		fmt.Fprintln(p.out, next)
	}
	fmt.Fprintln(p.out, faint.Render("╱ open  ━ shut  ◐ waiting  ┄ unknown  · not needed  [ ] first that is not open"))
}

// printRackNarrow prints a line a device for a terminal that is too narrow for the matrix.
func (p *program) printRackNarrow(devices []client.Device, gates []string) {
	handle, first := 0, 0
	for _, d := range devices {
		handle, first = max(handle, lipgloss.Width(d.Handle)), max(first, lipgloss.Width(d.First))
	}
	for _, d := range devices {
		var road strings.Builder
		for _, g := range gates {
			if m := marks[d.Gates[g]]; g == d.First {
				road.WriteString(lamp.Render(m))
			} else {
				road.WriteString(m)
			}
		}
		line := bold.Render(safe(d.Handle)) + strings.Repeat(" ", handle-lipgloss.Width(d.Handle)+2) + road.String() + "  " +
			d.First + strings.Repeat(" ", first-lipgloss.Width(d.First)+2) + rackNext(d)
		fmt.Fprintln(p.out, cutTo(line, p.width))
	}
	wrapped(p.out, "", faint.Render("Gates: "+strings.Join(gates, ", ")+". ╱ open  ━ shut  ◐ waiting  ┄ unknown  · not needed"), p.width)
}

// printUnrecognised says what is seen and has no row, with how we know.
func (p *program) printUnrecognised(unrecognised []client.Unrecognised) {
	for _, s := range unrecognised {
		fmt.Fprintf(p.out, "\n%s  %s on %s of %s: %s\n  No prep sheet fits it. Start one from what was seen: earlybench sheet new --from %s\n",
			bold.Render(s.Name), s.USB, safe(s.Port), s.Host, safe(strings.Join(s.Interfaces, ", ")), s.Name)
	}
}

// printRefused says which edits of prep sheets are not active, and why.
func (p *program) printRefused(trouble []client.Mistake) {
	for _, m := range trouble {
		fmt.Fprintf(p.out, "\n%s:%d:%d: %s\n  This edit of a prep sheet is not active; the previous version is. See all errors: earlybench sheet\n", m.File, m.Line, m.Column, safe(m.Text))
	}
}

// nameWidth is how wide a device's name may be in the matrix.
const nameWidth = 34

func rackName(d client.Device) string {
	name := fmt.Sprintf("%s  %s %s %s", d.Handle, d.Maker, d.Model, d.Release)
	if lipgloss.Width(name) <= nameWidth {
		return name
	}
	if name = fmt.Sprintf("%s  %s %s", d.Handle, d.Model, d.Release); lipgloss.Width(name) <= nameWidth {
		return name // the maker is the one to do without
	}
	return string([]rune(name)[:nameWidth-1]) + "…"
}

func rackNext(d client.Device) string {
	switch {
	case leaving(d):
		return strings.TrimSuffix(strings.TrimPrefix(d.Says, d.Handle+" is "), ".")
	case d.Working != "":
		return d.Summary + ": " + safe(d.Working)
	case d.Next != nil:
		return d.Summary + ": " + emphasis(d.Next.Title)
	}
	if d.First != "" {
		return d.Summary + ": " + emphasis(d.Says)
	}
	if len(d.Endings) > 0 && d.Endings[0].Soon {
		return lamp.Render(d.Summary) + ": " + d.Endings[0].Gate + " " + leftText(d.Endings[0])
	}
	if d.Reserved != "" {
		return good.Render(d.Summary) + ": reserved " + safe(oneLine(d.Reserved, 60))
	}
	if d.Lender != "" && d.LentTill != nil {
		return good.Render(d.Summary) + ": borrowed until " + clockText(*d.LentTill)
	}
	return good.Render(d.Summary)
}

func (p *program) rackShow() *cobra.Command {
	var facts, history bool
	var app string
	var sel *client.Select
	c := &cobra.Command{Use: "show DEVICE", Short: "One device", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if facts {
				fs, err := b.Facts(c.Context(), args[0], *sel)
				if err != nil {
					return err
				}
				if err := printList(p, fs, p.printFacts); err != nil || p.json {
					return err
				}
				w, err := b.Why(c.Context(), args[0], "")
				if err == nil {
					p.printDenied(w.Denied)
				}
				return err
			}
			if history {
				fs, err := b.History(c.Context(), args[0], *sel)
				if err != nil {
					return err
				}
				return printList(p, fs, p.printFacts)
			}
			plan, err := b.Prep(c.Context(), args[0], app)
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(plan)
			}
			p.printDevice(plan, app)
			return nil
		}}
	c.Flags().StringVar(&app, "app", "", "also show the gates of an app, such as fellgate/callout")
	c.Flags().BoolVar(&facts, "facts", false, "everything known about it, with source and time")
	c.Flags().BoolVar(&history, "history", false, "what was known about it before, newest first")
	sel = p.selection(c)
	return c
}

func (p *program) printDevice(plan client.Prep, app string) {
	d := plan.Device
	p.printRack([]client.Device{d}, app)
	fmt.Fprintln(p.out)
	where := reachedText(d)
	rows := [][]string{{"family", d.Family}, {"serial", d.Serial}, {"model", d.Code}, {"link", where}, {"device key", d.Key}}
	for _, g := range sheet.Order {
		if w := d.Waits[g]; len(w) > 0 {
			rows = append(rows, []string{g, "waits for " + strings.Join(w, ", ")})
		}
	}
	for _, g := range sheet.HostOrder {
		if state := d.Computer[g]; state != "" {
			rows = append(rows, []string{g, state + " (of this computer)"})
		}
	}
	for _, e := range d.Endings {
		rows = append(rows, []string{e.Gate, leftText(e) + ", " + e.At.Local().Format("2 Jan 2006 15:04")})
	}
	if d.HandsURL != "" {
		rows = append(rows, []string{"in your hand", d.HandsURL})
	}
	for _, a := range plan.Apps {
		if a.Digest == "" { // the mark for those that are left out
			rows = append(rows, []string{"app", a.Name})
			continue
		}
		state := "installed"
		if a.Running {
			state = "running"
		}
		rows = append(rows, []string{"app", fmt.Sprintf("%s %s, %s", a.ID, a.Version, state)})
	}
	for _, r := range rows {
		if r[1] != "" {
			fmt.Fprintf(p.out, "%s  %s\n", faint.Render(fmt.Sprintf("%-12s", r[0])), safe(r[1]))
		}
	}
}

func (p *program) printFacts(fs []client.Fact) {
	if len(fs) == 0 {
		empty(p.out, "Nothing is known about it yet. Plug it in.")
		return
	}
	var rows [][]string
	for _, f := range fs {
		from := f.Source
		if f.Source == "person" {
			from = "confirmed by " + f.By
		}
		if !f.Good {
			from += ", no longer good"
		}
		rows = append(rows, []string{f.Key, safe(valueText(f.Value)), from, clockText(f.At)})
	}
	p.table([]string{"fact", "value", "source", "seen"}, rows)
}

// valueText is a fact's value as people read it.
func valueText(v any) string {
	switch v := v.(type) {
	case bool:
		if v {
			return "yes"
		}
		return "no"
	case []any:
		parts := make([]string, len(v))
		for i := range v {
			parts[i] = fmt.Sprint(v[i])
		}
		return strings.Join(parts, ", ")
	case float64:
		return strconv.FormatFloat(v, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

func (p *program) rackSet() *cobra.Command {
	var handle, key, hands string
	var facts []string
	c := &cobra.Command{Use: "set DEVICE", Short: "Change a device's handle, or pin its new device key after it was wiped", Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			var ch client.Change
			if c.Flags().Changed("handle") {
				ch.Handle = &handle
			}
			if c.Flags().Changed("device-key") {
				ch.Key = &key
			}
			if c.Flags().Changed("hands") {
				ch.HandsURL = &hands
			}
			if ch == (client.Change{}) && len(facts) == 0 {
				return usage("nothing to set: give --handle, --device-key, --fact or --hands")
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			for _, f := range facts {
				k, v, ok := strings.Cut(f, "=")
				if !ok {
					return usage("--fact %q: write KEY=VALUE", f)
				}
				if err := b.TellFact(c.Context(), args[0], k, v); err != nil {
					return err
				}
			}
			if ch != (client.Change{}) {
				if err := b.Set(c.Context(), args[0], ch); err != nil {
					return err
				}
			}
			fmt.Fprintln(p.err, "Set.")
			return nil
		}}
	c.Flags().StringVar(&handle, "handle", "", "its new handle")
	c.Flags().StringVar(&key, "device-key", "", "fingerprint of its new device key, such as SHA256:…")
	c.Flags().StringArrayVar(&facts, "fact", nil, "state a fact, such as device.locked=no; what is observed takes precedence")
	c.Flags().StringVar(&hands, "hands", "", "address of a page that shows the device in your hand")
	return c
}
