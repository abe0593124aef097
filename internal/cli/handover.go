package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/handover"
	"earlybench.invalid/earlybench/internal/replace"
)

func (p *program) handoverCommand() *cobra.Command {
	c := &cobra.Command{Use: "handover", Short: "Give an app with its debug token to somebody with other devices", Args: cobra.NoArgs,
		Long: `Four steps, with files that can be sent in any way and contain no secrets:
  1. you:  earlybench handover request APP FILE      a request without devices
  2. they: earlybench handover reply FILE DEVICE...  add the serials of their devices
  3. you:  earlybench handover make FILE APP OUT     register them, have a token issued, pack it with the app
  4. they: earlybench handover put OUT DEVICE...     put both on their devices`,
		RunE: func(*cobra.Command, []string) error {
			return usage("name a step: earlybench handover request, reply, make or put; earlybench handover --help explains them in order")
		}}
	c.AddCommand(p.handoverRequest(), p.handoverReply(), p.handoverMake(), p.handoverPut())
	return c
}

func readRequest(file string) (*handover.Request, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, usage("read the request: %w", err)
	}
	defer f.Close()
	r, err := handover.ReadRequest(f)
	if err != nil {
		return nil, usage("%s: %w", file, err)
	}
	return r, nil
}

func writeRequest(file string, r *handover.Request) error {
	var out bytes.Buffer
	if err := r.Write(&out); err != nil {
		return err
	}
	return replace.File(file, out.Bytes(), 0o644)
}

func (p *program) handoverRequest() *cobra.Command {
	page, address := false, ""
	c := &cobra.Command{Use: "request APP FILE", Short: "Write a request that collects the serials of their devices", Args: cobra.ExactArgs(2),
		Long: `Writes a request without devices, as a file to send to them. Somebody nearby who
has devices but no bench can name them on a page instead: --page serves it over TLS, for
one browser, at an address of this computer. Devices named there are added to the file.`,
		Example: "earlybench handover request fellgate/callout callout.ebrequest\nearlybench handover request fellgate/callout callout.ebrequest --page --address 192.0.2.7", RunE: func(c *cobra.Command, args []string) error {
			if err := appfile.CheckID(args[0]); err != nil {
				return usage("%w", err)
			}
			if _, err := os.Stat(args[1]); err == nil {
				return usage("%s already exists: choose another name, so that no reply is lost", args[1])
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			bench, err := b.Bench(c.Context())
			if err != nil {
				return err
			}
			by, err := b.Developer(c.Context(), "")
			if err != nil {
				return err
			}
			r := &handover.Request{App: args[0], From: bench.Name, Key: by.Thumbprint}
			if err := writeRequest(args[1], r); err != nil {
				return err
			}
			if page {
				return p.phonePage(c.Context(), b, client.PhoneAsk{App: r.App, Address: address}, func(now client.Phone) error { return p.named(args[1], r, now.Handover) })
			}
			if p.json {
				return p.printJSON(r)
			}
			p.sayf("Send %s to the owner of the devices, who adds them with: earlybench handover reply %[1]s DEVICE...\n", args[1])
			return nil
		}}
	c.Flags().BoolVar(&page, "page", false, "serve a page on which somebody without a bench names devices")
	c.Flags().StringVar(&address, "address", "", "with --page: address of this computer that their browser can reach, with or without a port")
	return c
}

// named adds what was named on the page of a handover to its request.
func (p *program) named(file string, r *handover.Request, h *client.Handover) error {
	if h == nil {
		return nil
	}
	had := len(r.Devices)
	for _, d := range h.Devices {
		if err := r.Add(handover.Device{Serial: d.Serial, Model: d.Model, At: d.At}); err != nil {
			return fmt.Errorf("%s: %w", d.Serial, err)
		}
	}
	if len(r.Devices) == had {
		return nil
	}
	for _, d := range r.Devices[had:] {
		fmt.Fprintf(p.err, "Named: %s, %s\n", safe(d.Serial), safe(d.Model))
	}
	return writeRequest(file, r)
}

func (p *program) handoverReply() *cobra.Command {
	var chosen choice
	c := &cobra.Command{Use: "reply FILE [DEVICE...]", Short: "Add the serials of your devices to a request", Args: cobra.MinimumNArgs(1), RunE: func(c *cobra.Command, args []string) error {
		r, err := readRequest(args[0])
		if err != nil {
			return err
		}
		b, err := p.bench()
		if err != nil {
			return err
		}
		named, err := chosen(c.Context(), b, args[1:])
		if err != nil {
			return err
		}
		if len(named) == 0 {
			return usage("name the devices that you lend")
		}
		bench, err := b.Bench(c.Context())
		if err != nil {
			return err
		}
		all, err := b.Devices(c.Context(), "")
		if err != nil {
			return err
		}
		for _, h := range named {
			i := slices.IndexFunc(all, func(d client.Device) bool { return d.Handle == h })
			if i < 0 {
				return usage("there is no device %q: see earlybench rack", h)
			}
			d := all[i]
			if d.Serial == "" {
				return usage("the serial of %s is not known yet: connect it first", h)
			}
			if err := r.Add(handover.Device{Serial: d.Serial, Model: d.Code, At: bench.Name}); err != nil {
				return usage("%s: %w", h, err)
			}
		}
		if err := writeRequest(args[0], r); err != nil {
			return err
		}
		if p.json {
			return p.printJSON(r)
		}
		p.sayf("Devices in %s: %d. Send it back to %s.\n", args[0], len(r.Devices), safe(r.From))
		return nil
	}}
	chosen = p.chooses(c)
	return c
}

func (p *program) handoverMake() *cobra.Command {
	return &cobra.Command{Use: "make REQUEST APPFILE OUT", Short: "Have a debug token issued for the devices of a request, and pack it with the app", Args: cobra.ExactArgs(3),
		Long: `Registers the devices of the request with your crew, has a debug token issued that
names them, and packs it with the app file (earlybench app pack makes one).`, RunE: func(c *cobra.Command, args []string) error {
			r, err := readRequest(args[0])
			if err != nil {
				return err
			}
			if len(r.Devices) == 0 {
				return usage("%s names no device yet: their owner adds them with earlybench handover reply", args[0])
			}
			file, err := os.ReadFile(args[1])
			if err != nil {
				return usage("read the app file: %w", err)
			}
			app, err := appfile.Open(bytes.NewReader(file), int64(len(file)))
			if err != nil {
				return fmt.Errorf("the app file is refused: %w", err)
			}
			if app.App.ID != r.App {
				return usage("the request is for %s, and %s is %s", r.App, args[1], app.App.ID)
			}
			if app.Signed() {
				return usage("%s is signed by an identity, so it needs a grant, not a debug token. Pack it without an identity, for development", args[1])
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			if by, err := b.Developer(c.Context(), ""); err != nil {
				return err
			} else if by.Thumbprint != app.App.By() {
				return usage("%s is signed by the key %s, which is not this bench's development key: pack it here", args[1], app.App.By())
			}
			return p.makeHandover(c.Context(), b, r, file, args[2])
		}}
}

func (p *program) makeHandover(ctx context.Context, b *client.Client, r *handover.Request, file []byte, out string) error {
	n := client.NewStatement{Kind: tokens.kind, App: r.App, Debug: true}
	var others client.NewEntries
	for _, d := range r.Devices {
		n.Devices = append(n.Devices, d.Serial)
		others.Others = append(others.Others, client.OutOfReach{Serial: d.Serial, Model: d.Model})
	}
	j, err := b.RegisterDevices(ctx, others)
	if err != nil {
		return err
	}
	if _, err := p.follow(ctx, b, j); err != nil {
		return err
	}
	s, err := b.AddStatement(ctx, n)
	if err != nil {
		return err
	}
	bench, err := b.Bench(ctx)
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "earlybench-handover-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // it is in a directory for what is temporary
	for name, data := range map[string][]byte{handover.AppFile: file, handover.StatementFile: []byte(s.Text)} {
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o600); err != nil {
			return err
		}
	}
	var packed bytes.Buffer
	if err := handover.Pack(&packed, os.DirFS(dir), r.App, bench.Name); err != nil {
		return fmt.Errorf("pack the handover: %w", err)
	}
	if err := replace.File(out, packed.Bytes(), 0o644); err != nil {
		return err
	}
	if p.json {
		return p.printJSON(s)
	}
	p.sayf("%s contains the app and a debug token for %d devices, valid until %s. To put both on them: earlybench handover put %[1]s DEVICE...\n", out, len(r.Devices), s.Ends.Local().Format("2 January 2006"))
	return nil
}

func (p *program) handoverPut() *cobra.Command {
	var chosen choice
	change := false
	c := &cobra.Command{Use: "put FILE DEVICE...", Short: "Put the app of a handover and its token on your devices", Args: cobra.MinimumNArgs(1),
		Long: `Checks the app's signature, and the token with the authority that this bench has
accepted. Then it puts the token on the devices, and installs and starts the app.`, RunE: func(c *cobra.Command, args []string) error {
			f, err := os.Open(args[0])
			if err != nil {
				return usage("open the handover: %w", err)
			}
			defer f.Close()
			info, err := f.Stat()
			if err != nil {
				return err
			}
			h, err := handover.Open(f, info.Size())
			if err != nil {
				return usage("%s is refused: %w", args[0], err)
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			devices, err := chosen.some(c.Context(), b, args[1:])
			if err != nil {
				return err
			}
			return p.putHandover(c.Context(), b, h, client.PutStatement{Devices: devices, Replace: change})
		}}
	chosen = p.chooses(c)
	c.Flags().BoolVar(&change, "replace", false, "replace your own token where a device can hold only one")
	return c
}

func (p *program) putHandover(ctx context.Context, b *client.Client, h handover.Handover, put client.PutStatement) error {
	s, err := b.AddStatement(ctx, client.NewStatement{Text: h.Statement})
	if err != nil {
		return err
	}
	dir, err := os.MkdirTemp("", "earlybench-handover-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir) //nolint:errcheck // it is in a directory for what is temporary
	file := filepath.Join(dir, handover.AppFile)
	if err := os.WriteFile(file, h.File, 0o600); err != nil {
		return err
	}
	a, err := b.AddApp(ctx, file)
	if err != nil {
		return err
	}
	rows, _, err := p.putOnce(ctx, b, s.ID, put)
	if err != nil {
		return err
	}
	kind := tokens
	if s.Kind == grants.kind {
		kind = grants
	}
	if !p.json {
		p.printPut(kind, rows)
	}
	var on []string
	for _, r := range rows {
		if r.Outcome != "refused" && r.Outcome != "asks" {
			on = append(on, r.Device)
		}
	}
	failed := putFailed(kind, s, rows)
	if len(on) == 0 {
		return failed
	}
	fmt.Fprintf(p.err, "The app goes on %s.\n", strings.Join(on, ", "))
	j, err := p.startOn(ctx, b, client.Run{File: a.Digest}, on)
	if p.json {
		j.Put = &client.PutResult{Statement: s.ID, Rows: rows}
		err = errors.Join(err, p.printJSON(j))
	}
	return errors.Join(failed, err)
}

// startOn runs an app on one device or on several.
func (p *program) startOn(ctx context.Context, b *client.Client, what client.Run, devices []string) (client.Job, error) {
	if len(devices) == 1 {
		what.Device = devices[0]
	} else {
		what.Devices = devices
	}
	return p.start(ctx, b, what)
}
