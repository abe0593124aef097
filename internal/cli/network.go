package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) networkCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "network", Short: "Devices that are heard without a cable, and their introduction", Args: cobra.NoArgs,
		Long: `Lists the devices that announce themselves on this computer's networks, and the
addresses that you added. A device that this bench knows is reached automatically, at
whatever address it has. A new one must be introduced once: it shows three words, which
you type here.

A device that has an SSH server but not the device link, such as a Linux board, is
added by its address: ssh://USER@ADDRESS.

A watch without its own network is heard and reached through its handset.`,
		Example: "earlybench network\nearlybench network introduce heard-1 --as kittiwake-1\nearlybench network add 192.168.7.21:4022\nearlybench network add ssh://board@192.168.7.40\nearlybench network join heron-1"},
		(*client.Client).Network, func(all []client.NetworkEntry) {
			if len(all) == 0 {
				empty(p.out, "Nothing is heard. A device must be awake and on one of this computer's networks. To add it by its address: earlybench network add ADDRESS")
				return
			}
			var rows [][]string
			for _, e := range all {
				rows = append(rows, []string{e.Name, networkFamily(e), whereText(e), networkText(e)})
			}
			p.table([]string{"name", "family", "where", "taken for"}, rows)
		})
	c.AddCommand(p.networkAdd(), p.networkLogin(), p.networkDrop(), p.networkIntroduce(), p.networkWords(), p.networkStop(), p.networkSwitch(true), p.networkSwitch(false))
	return c
}

// whereText says where something is heard.
func whereText(e client.NetworkEntry) string {
	if e.Through == "" {
		return strings.Join(e.Addresses, ", ")
	}
	text := "through " + safe(e.Through)
	if e.Asleep != nil {
		text += ", asleep since " + hourText(*e.Asleep)
	}
	return text
}

// notMet are those that are heard and may be a device.
func notMet(all []client.NetworkEntry, d client.Device) []client.NetworkEntry {
	return slices.DeleteFunc(all, func(e client.NetworkEntry) bool { return !slices.Contains(e.MayBe, d.Handle) })
}

func networkFamily(e client.NetworkEntry) string {
	if server(e) {
		return safe(e.Family)
	}
	if e.Family == "" {
		return faint.Render("not announced")
	}
	return safe(e.Family)
}

func networkText(e client.NetworkEntry) string {
	switch e.State {
	case "known":
		return good.Render(e.Device)
	case "not met":
		if server(e) {
			return "a device that is not on the rack: earlybench network login " + e.Name
		}
		return "a device that was not introduced: earlybench network introduce " + e.Name
	case "other version":
		return "another version of the device link"
	}
	if e.Trouble == "" {
		return "finding out who is there"
	}
	return "nobody: " + oneLine(safe(e.Trouble), 60)
}

func (p *program) networkAdd() *cobra.Command {
	return &cobra.Command{Use: "add ADDRESS", Short: "Add the address of a device", Args: cobra.ExactArgs(1),
		Long: `For a device whose announcements do not arrive, give its host and port. For a
device that only has an SSH server, give ssh://USER@ADDRESS: its key is shown,
and once you have confirmed it, the bench logs in.`,
		Example: "earlybench network add 192.168.7.21:4022\nearlybench network add ssh://board@192.168.7.40", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			e, err := b.AddAddress(c.Context(), args[0])
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(e)
			case server(e) && e.State == "not met" && p.terminal && !p.unattended:
				accept, err := p.compare(e)
				if err != nil {
					return err
				}
				return p.logIn(c.Context(), b, e.Name, accept, "", opening{})
			}
			fmt.Fprintf(p.out, "%s at %s: %s\n", e.Name, args[0], networkText(e))
			return nil
		}}
}

func (p *program) networkDrop() *cobra.Command {
	return &cobra.Command{Use: "drop HEARD", Short: "Forget an address that was added", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropAddress(c.Context(), args[0])
	}}
}

func (p *program) networkIntroduce() *cobra.Command {
	as := ""
	c := &cobra.Command{Use: "introduce HEARD", Short: "Introduce a device that is heard: type the three words that it shows", Args: cobra.ExactArgs(1),
		Long: `The device shows three words. Typing them here proves that nobody is between it and
this bench. Then the device asks its owner whether to let this bench in.

Without a terminal, give the words with another command: earlybench network words.`,
		Example: "earlybench network introduce heard-1 --as kittiwake-1", RunE: func(c *cobra.Command, args []string) error {
			if p.unattended {
				return &exitError{exitPerson, "An introduction needs a person to type what the device shows."}
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			in, err := b.Introduce(c.Context(), args[0], as)
			switch {
			case err != nil:
				return err
			case !p.terminal && p.json:
				return p.printJSON(in)
			}
			fmt.Fprintf(p.err, "%s shows three words.\n", claimText(in))
			if !p.terminal {
				fmt.Fprintln(p.err, "Give them here: earlybench network words WORD WORD WORD")
				return nil
			}
			return p.askWords(c.Context(), readLines(p.in), func(typed string) error { return p.typeWords(c.Context(), b, typed) }, func(why error) error { return p.giveUp(b, why) })
		}}
	c.Flags().StringVar(&as, "as", "", "handle of the device, if it is on the rack already, such as a watch that was added by hand")
	return c
}

// claimText says what a device says that it is.
func claimText(in client.Introduction) string {
	s := in.Says
	text := fmt.Sprintf("%s (%s, model %s, release %s", safe(s.Name), safe(s.Family), safe(s.Model), safe(s.Release))
	if s.Serial != "" {
		text += ", serial " + safe(s.Serial)
	}
	return text + ")"
}

// askWords reads the words from the terminal until they are right, wrong, or given up.
func (p *program) askWords(ctx context.Context, lines <-chan string, give func(typed string) error, giveUp func(why error) error) error {
	for {
		fmt.Fprint(p.out, faint.Render("Words, q gives up: "))
		var typed string
		select {
		case <-ctx.Done():
			return giveUp(ctx.Err())
		case line, ok := <-lines:
			if typed = strings.TrimSpace(line); !ok || typed == "q" {
				return giveUp(&exitError{exitPerson, "The introduction was cancelled."})
			}
		}
		err := give(typed)
		if problem, ok := err.(*client.Problem); ok && problem.Kind == "invalid" { //nolint:errorlint // it comes as it is
			fmt.Fprintln(p.out, safe(problem.Detail))
			continue
		}
		return err
	}
}

// giveUp ends the introduction, and returns why.
func (p *program) giveUp(b *client.Client, why error) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	b.StopIntroduction(ctx) //nolint:errcheck // the device ends it by itself
	return why
}

// introductionEvery is how often it is asked how far an introduction is.
const introductionEvery = 200 * time.Millisecond

// typeWords gives the words, and waits for the owner's answer on the device.
func (p *program) typeWords(ctx context.Context, b *client.Client, words string) error {
	in, err := b.TypeWords(ctx, words)
	if err != nil {
		return err
	}
	fmt.Fprintf(p.err, "The words are correct. Let this bench in on the device: %s.\n", claimText(in))
	for in.State == "asking" {
		select {
		case <-ctx.Done():
			return p.giveUp(b, ctx.Err())
		case <-time.After(introductionEvery):
		}
		if in, err = b.Introduction(ctx); err != nil {
			return err
		}
	}
	switch {
	case in.Error != nil:
		return in.Error
	case p.json:
		return p.printJSON(in)
	}
	fmt.Fprintf(p.out, "%s was introduced. To see what it needs next: earlybench prep %[1]s\n", in.Device)
	return nil
}

func (p *program) networkWords() *cobra.Command {
	return &cobra.Command{Use: "words WORD WORD WORD", Short: "Type the three words that the device shows", Args: cobra.RangeArgs(1, 3),
		Example: "earlybench network words maple otter bugle", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			return p.typeWords(c.Context(), b, strings.Join(args, " "))
		}}
}

func (p *program) networkStop() *cobra.Command {
	return &cobra.Command{Use: "stop", Short: "Cancel the current introduction", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.StopIntroduction(c.Context())
	}}
}

func (p *program) networkSwitch(on bool) *cobra.Command {
	c := &cobra.Command{Use: "join DEVICE", Short: "Let a device that is linked by cable also be reached without it", Args: cobra.ExactArgs(1),
		Long: `Switches wireless access on over the link. No introduction is needed.
The cable can then be pulled, and work continues.`}
	if !on {
		c.Use, c.Short, c.Long = "leave DEVICE", "Let a device be reached by cable only", ""
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.SetWireless(c.Context(), args[0], on); err != nil {
			return err
		}
		if !on {
			return nil
		}
		return p.untilWireless(c.Context(), b, args[0])
	}
	return c
}

// wirelessWithin is how long a device is waited for that was switched on.
const wirelessWithin = 15 * time.Second

// untilWireless waits until a device is linked without a cable.
func (p *program) untilWireless(ctx context.Context, b *client.Client, handle string) error {
	for began := time.Now(); ; {
		all, err := b.Links(ctx, client.Select{Where: fmt.Sprintf("link.device == %q && link.way == %q", handle, "wireless")})
		if err != nil {
			return err
		}
		if len(all) > 0 && all[0].State == "linked" && p.json {
			return p.printJSON(all[0])
		}
		if len(all) > 0 && all[0].State == "linked" {
			fmt.Fprintf(p.out, "%s is now also linked without a cable, at %s. Its cable may be pulled.\n", handle, safe(all[0].Port))
			return nil
		}
		if time.Since(began) > wirelessWithin {
			return &exitError{exitFailed, fmt.Sprintf("%s has switched it on, but is not linked without a cable after %s. To find out why: earlybench network; earlybench link", handle, wirelessWithin)}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(introductionEvery):
		}
	}
}
