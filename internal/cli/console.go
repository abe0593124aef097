package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/skip2/go-qrcode"
	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) consoleCommand() *cobra.Command {
	var phone, out bool
	var address, code, person, may string
	good := long{}
	c := &cobra.Command{Use: "console [DEVICE...]", Short: "Print a one-time address that signs in your browser", Args: cobra.ArbitraryArgs,
		Long: `Prints an address that signs in a browser on this computer, once. A browser that is not
used for 12 hours is signed out; --sign-out signs all of them out at once.

A page asks for the owner before it changes hosts, drivers, sheets, app directories or
access keys. It shows a code: --confirm CODE lets that browser do so for a quarter of an
hour. Confirm only a code that you see in your own browser.

With --phone and a device, the bench serves that device's page, and nothing else, for a
phone that you hold beside it: over TLS with a certificate of its own, at an
address of this computer that you choose. It ends with this command, an hour
later, or when the phone has gone.

With --person and devices, the bench serves these devices, their screens and logs to the
browser of somebody without a bench, over TLS, until a time that you set. That browser gets an
access key of its own, listed by earlybench access; access drop NAME ends it at once.`,
		Example: "earlybench console\nearlybench console --phone heron-1 --address 192.0.2.7\nearlybench console --person wren heron-1 heron-3 --until 17:00 --may look --address 192.0.2.7",
		RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			switch {
			case c.Flags().Changed("confirm"):
				return p.confirmBrowser(c.Context(), b, code)
			case out:
				return p.signBrowsersOut(c.Context(), b)
			case person != "":
				return p.personPage(c.Context(), b, client.PersonPageAsk{Person: person, Devices: args, May: may, Address: address}, good)
			case phone && len(args) == 0:
				return p.whichPhone(c.Context(), b)
			case phone:
				if len(args) > 1 {
					return usage("--phone serves one device at a time, not %d", len(args))
				}
				return p.phonePage(c.Context(), b, client.PhoneAsk{Device: args[0], Address: address}, nil)
			case len(args) > 0:
				return usage("a device is named with --phone or --person only: earlybench console --phone %s --address ADDRESS", args[0])
			}
			url, err := b.SignInAddress(c.Context())
			if err != nil {
				return err
			}
			if p.json {
				return p.printJSON(map[string]string{"url": url})
			}
			fmt.Fprintln(p.out, url)
			if p.terminal {
				fmt.Fprintln(p.err, faint.Render("If your browser does not find it: add 127.0.0.1 and its name, up to the port, to the hosts file."))
			}
			return nil
		}}
	c.Flags().BoolVar(&phone, "phone", false, "serve the page of DEVICE for a phone")
	c.Flags().BoolVar(&out, "sign-out", false, "sign out all browsers; addresses printed before stop working")
	c.Flags().StringVar(&code, "confirm", "", "let the browser that shows this code do, for a quarter of an hour, what only the owner may")
	c.Flags().StringVar(&address, "address", "", "address of this computer that the other browser can reach, with or without a port")
	c.Flags().StringVar(&person, "person", "", "serve the devices to the browser of this person without a bench")
	c.Flags().StringVar(&may, "may", "use", "what that person may do: look, or use (also touch the screens)")
	good.flags(c)
	c.MarkFlagsMutuallyExclusive("phone", "person", "sign-out", "confirm")
	return c
}

// signBrowsersOut signs all browsers out.
func (p *program) signBrowsersOut(ctx context.Context, b *client.Client) error {
	n, err := b.SignOut(ctx)
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(n)
	case n.Browsers == 0:
		fmt.Fprintln(p.out, "No browser was signed in. Addresses printed before no longer work.")
	case n.Browsers == 1:
		fmt.Fprintln(p.out, "One browser was signed out. Addresses printed before no longer work.")
	default:
		fmt.Fprintf(p.out, "%d browsers were signed out. Addresses printed before no longer work.\n", n.Browsers)
	}
	return nil
}

// confirmBrowser lets the browser that shows a code do what only the owner may.
func (p *program) confirmBrowser(ctx context.Context, b *client.Client, code string) error {
	n, err := b.Confirm(ctx, code)
	if err != nil {
		return err
	}
	if p.json {
		return p.printJSON(n)
	}
	fmt.Fprintf(p.out, "Confirmed until %s: %s, signed in since %s.\n", n.Confirmed.Local().Format("15:04"), oneLine(safe(n.Agent), 60), clockText(n.Created))
	fmt.Fprintf(p.err, "If it is not yours, sign it out: earlybench access browsers drop %s\n", n.ID)
	return nil
}

// whichPhone says which devices wait for somebody's hands, and how to write it.
func (p *program) whichPhone(ctx context.Context, b *client.Client) error {
	devices, err := b.Devices(ctx, "")
	if err != nil {
		return err
	}
	var waiting []string
	for _, d := range devices {
		if d.Next != nil && d.Next.Who == "hands" {
			waiting = append(waiting, d.Handle)
		}
	}
	if len(waiting) == 0 {
		return usage("--phone: name the device; no device needs your hands just now")
	}
	return usage("--phone: name the device, such as earlybench console --phone %s --address ADDRESS; these need your hands: %s", waiting[0], strings.Join(waiting, ", "))
}

// phonePage serves a page for a phone until somebody ends it. told hears how it is, every second.
func (p *program) phonePage(ctx context.Context, b *client.Client, ask client.PhoneAsk, told func(client.Phone) error) error {
	if ask.Address == "" {
		return noAddress()
	}
	page, err := b.OpenPhone(ctx, ask)
	if err != nil {
		return err
	}
	defer func() {
		end, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		b.ClosePhone(end) //nolint:errcheck // it ends by itself too
	}()
	if p.json {
		if err := p.printJSON(page); err != nil {
			return err
		}
	} else if err := p.printPhone(page); err != nil {
		return err
	}
	for {
		select {
		case <-ctx.Done():
			fmt.Fprintln(p.err, "The page has ended.")
			return nil
		case <-time.After(time.Second):
		}
		now, err := b.Phone(ctx)
		if problem, ok := errors.AsType[*client.Problem](err); ok && problem.Status == http.StatusNotFound {
			fmt.Fprintln(p.err, "The page has ended.")
			return nil
		}
		if err == nil && now.Used && !page.Used {
			page.Used = true
			fmt.Fprintln(p.err, "A browser has opened it; the address no longer works.")
		}
		if err == nil && told != nil {
			if err := told(now); err != nil {
				return err
			}
		}
	}
}

func noAddress() error {
	return usage("--address is missing: choose one that the other browser can reach; this computer has %s", strings.Join(addresses(), ", "))
}

func (p *program) printPhone(page client.Phone) error {
	if err := p.printPage(whatPage(page), page.URL, page.Fingerprint); err != nil {
		return err
	}
	fmt.Fprintf(p.out, "\nIt ends with Ctrl-C, at %s, or when the phone has gone.\n", page.Ends.Local().Format("15:04"))
	return nil
}

// printPage prints the one-time address of a page for another browser, and how its certificate is known.
func (p *program) printPage(what, url, fingerprint string) error {
	code, err := qrcode.New(url, qrcode.Low)
	if err != nil {
		return fmt.Errorf("draw the code: %w", err)
	}
	// Black on white, whatever the terminal's own colours: a camera reads no other.
	paper := lipgloss.NewStyle().Foreground(lipgloss.Color("#000000")).Background(lipgloss.Color("#ffffff"))
	fmt.Fprintf(p.out, "%s\n\n%s, once:\n  %s\n\n", paper.Render(strings.Trim(code.ToSmallString(true), "\n")), what, url)
	wrapped(p.out, "", "The browser will warn about the certificate, which is signed by this bench only. Continue only if it shows this fingerprint (SHA-256):", p.width)
	fmt.Fprintf(p.out, "  %s\n  %s\n", fingerprint[:47], fingerprint[48:])
	return nil
}

// personPage serves devices to the browser of a person who has no bench. The page stays when this command
// has ended.
func (p *program) personPage(ctx context.Context, b *client.Client, ask client.PersonPageAsk, good long) (err error) {
	switch {
	case len(ask.Devices) == 0:
		return usage("name the devices that %s may see, such as earlybench console --person %[1]s heron-1 --for 2h --address ADDRESS", ask.Person)
	case ask.Address == "":
		return noAddress()
	}
	if ask.For, err = good.seconds(time.Now()); err != nil {
		return err
	}
	page, err := b.OpenPersonPage(ctx, ask)
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(page)
	}
	what := fmt.Sprintf("The page of %s, who may %s %s", bold.Render(page.Name), personMay[ask.May], strings.Join(page.Devices, ", "))
	if err := p.printPage(what, page.URL, page.Fingerprint); err != nil {
		return err
	}
	fmt.Fprintf(p.out, "\nSend %s the address and the fingerprint in two different ways.\nIt ends %s. End it sooner: earlybench access drop %[1]s\n", page.Name, clockText(page.Ends))
	return nil
}

// personMay says what a right lets a person do with devices on a page.
var personMay = map[string]string{"look": "look at", "use": "look at and touch"}

// whatPage says of what a page for a phone is.
func whatPage(page client.Phone) string {
	if page.Handover != nil {
		return "The page on which the devices for " + bold.Render(safe(page.Handover.App)) + " are named"
	}
	if page.Hands != "" {
		return "The request for hands at " + bold.Render(safe(page.Device))
	}
	return "The page of " + bold.Render(page.Device) + " for your phone"
}

// addresses are those of this computer that others may reach.
func addresses() (out []string) {
	all, _ := net.InterfaceAddrs()
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
			out = append(out, n.IP.String())
		}
	}
	if len(out) == 0 {
		out = []string{"127.0.0.1 only"}
	}
	return out
}
