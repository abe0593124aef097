package cli

import (
	"cmp"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) registerCommand() *cobra.Command {
	asCSV := false
	c := &cobra.Command{Use: "register", Short: "Your crew's devices in the register of the authority", Args: cobra.NoArgs,
		Long: `Lists the devices in the register, least recently seen first, and the devices on
the rack that should be registered but are not.`,
		RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			r, err := b.Register(c.Context())
			switch {
			case err != nil:
				return err
			case asCSV:
				return writeRegister(p.out, r)
			case p.json:
				return p.printJSON(r)
			}
			p.printRegister(r)
			return nil
		}}
	c.Flags().BoolVar(&asCSV, "csv", false, "print CSV (RFC 4180): serial, model, handle, since, seen, self")
	var n client.NewEntries
	var file string
	add := &cobra.Command{Use: "add [DEVICE...]", Short: "Register devices, or all on the rack that should be registered", Args: cobra.ArbitraryArgs,
		Long: `Registers devices on the rack by the serials that were read from them. A device that
is already registered stays as it is. --from reads others from a CSV file; its first line
names the columns: serial and model.`,
		RunE: func(c *cobra.Command, args []string) error {
			n.Devices, n.All = args, len(args) == 0 && file == ""
			if file != "" {
				others, err := readOthers(file)
				if err != nil {
					return err
				}
				n.Others = others
			}
			return p.registerDevices(c.Context(), n)
		}}
	add.Flags().StringVar(&file, "from", "", "CSV file with the serials of devices out of reach")
	drop := &cobra.Command{Use: "drop DEVICE", Short: "Remove a device, given by its handle or serial, to free its place", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.LeaveRegister(c.Context(), args[0]); err != nil {
			return err
		}
		p.sayf("%s is no longer in the register.\n", args[0])
		return nil
	}}
	c.AddCommand(add, drop)
	return c
}

func (p *program) printRegister(r client.Register) {
	fmt.Fprintf(p.out, "Crew %s at %s: %d of %d places are taken.\n", safe(r.Crew.Name), r.Authority, r.Crew.Used, r.Crew.Standing.Places)
	if r.Full {
		fmt.Fprintln(p.out, "It is full. Remove a device to free its place; the least recently seen come first: earlybench register drop DEVICE")
	}
	if !r.Read {
		fmt.Fprintln(p.out, "The register has not been read from the authority yet; see earlybench authority.")
	}
	var rows [][]string
	for _, e := range r.Entries {
		how := ""
		if e.Self {
			how = "entered itself by the crew's number"
		}
		rows = append(rows, []string{safe(cmp.Or(e.Handle, "-")), safe(e.Serial), safe(e.Model), clockText(e.Since), clockText(e.Seen), how})
	}
	if len(rows) > 0 {
		p.table([]string{"device", "serial", "model", "since", "seen", ""}, rows)
	}
	if len(r.Missing) > 0 {
		fmt.Fprintf(p.out, "\nOn the rack and not registered: %s\n", strings.Join(r.Missing, ", "))
		fmt.Fprintln(p.err, "Register them: earlybench register add")
	}
}

// writeRegister writes the register as CSV (RFC 4180).
func writeRegister(w io.Writer, r client.Register) error {
	c := csv.NewWriter(w)
	c.UseCRLF = true
	rows := [][]string{{"serial", "model", "handle", "since", "seen", "self"}}
	for _, e := range r.Entries {
		rows = append(rows, []string{e.Serial, e.Model, e.Handle, e.Since.Format(time.RFC3339), e.Seen.Format(time.RFC3339), fmt.Sprint(e.Self)})
	}
	return c.WriteAll(rows)
}

// readOthers reads devices from a CSV file, by the names of its columns.
func readOthers(file string) ([]client.OutOfReach, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, usage("read the devices: %w", err)
	}
	defer f.Close()
	out, err := parseOthers(f)
	if err != nil {
		return nil, usage("%s: %w", file, err)
	}
	return out, nil
}

const othersMost = 1000

func parseOthers(r io.Reader) ([]client.OutOfReach, error) {
	c := csv.NewReader(io.LimitReader(r, 1<<20))
	head, err := c.Read()
	if err != nil {
		return nil, fmt.Errorf("read the names of its columns: %w", err)
	}
	serial, model := -1, -1
	for i, name := range head {
		switch strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff"))) {
		case "serial":
			serial = i
		case "model":
			model = i
		}
	}
	if serial < 0 || model < 0 {
		return nil, errors.New("its first line must name the columns serial and model")
	}
	var out []client.OutOfReach
	for {
		row, err := c.Read()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err // it says the line
		}
		if len(out) == othersMost {
			return nil, fmt.Errorf("it has more than %d devices", othersMost)
		}
		out = append(out, client.OutOfReach{Serial: strings.TrimSpace(row[serial]), Model: strings.TrimSpace(row[model])})
	}
	if len(out) == 0 {
		return nil, errors.New("it contains no device")
	}
	return out, nil
}

func (p *program) registerDevices(ctx context.Context, n client.NewEntries) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	j, err := b.RegisterDevices(ctx, n)
	if err != nil {
		return err
	}
	if j, err = p.follow(ctx, b, j); err != nil {
		return err
	}
	if p.json {
		return p.printJSON(j)
	}
	r, err := b.Register(ctx)
	if err != nil {
		return err
	}
	p.printRegister(r)
	return nil
}
