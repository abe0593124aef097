package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) peerCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "peer", Short: "Other benches that this one knows, and what they may do", Args: cobra.NoArgs,
		Long: `A peer is another bench. Both know each other by their keys. Use peer set to choose which
of this bench's devices a peer may see and borrow. The devices that peers offer are in
earlybench rack --peers; borrow one with earlybench loan start.

Two benches become peers through an invitation, a file that works once, or through three
words that one bench shows and the other's owner types.`,
		Example: "earlybench peer invite --out harbour.invitation --may use\nearlybench peer add harbour.invitation\nearlybench peer add harbour.example:7421\nearlybench peer set moor-desk --may look heron-9=use\nearlybench peer check harbour-desk"},
		(*client.Client).Peers, p.printPeers)
	run := c.RunE
	c.RunE = func(c *cobra.Command, args []string) error { // who asks to be one comes first: it waits for an answer
		if err := run(c, args); err != nil || p.json {
			return err
		}
		return p.printAsking(c.Context())
	}
	c.AddCommand(p.peerAdd(), p.peerWords(), p.peerStop(), p.peerAnswer(true), p.peerAnswer(false), p.peerInvite(), p.peerSet(), p.peerCheck(), p.peerDrop())
	return c
}

func (p *program) printPeers(all []client.Peer) {
	if len(all) == 0 {
		empty(p.out, "No peer yet. Invite another bench: earlybench peer invite --out FILE. Or become a peer of one: earlybench peer add FILE")
		return
	}
	var rows [][]string
	for _, x := range all {
		state := good.Render("connected")
		if !x.Connected {
			state = bad.Render("not connected")
			if x.Trouble != "" {
				state += ": " + oneLine(safe(x.Trouble), 60)
			}
		}
		rows = append(rows, []string{x.Name, mayText(x), strings.Join(x.Addresses, ", "), state})
	}
	p.table([]string{"peer", "may here", "reached at", ""}, rows)
}

// mayText says what a peer may do here.
func mayText(x client.Peer) string {
	var parts []string
	switch x.May {
	case "look":
		parts = append(parts, "look at all")
	case "use":
		parts = append(parts, "use all")
	case "hands":
		parts = append(parts, "use all, and ask for hands")
	}
	for _, handle := range slices.Sorted(maps.Keys(x.Devices)) {
		parts = append(parts, handle+"="+x.Devices[handle])
	}
	if x.Signs {
		parts = append(parts, "have apps signed")
	}
	if len(x.Kits) > 0 {
		parts = append(parts, "have "+strings.Join(x.Kits, " and "))
	}
	if len(parts) == 0 {
		return faint.Render("nothing")
	}
	return strings.Join(parts, ", ")
}

// printAsking prints which bench asks to become a peer.
func (p *program) printAsking(ctx context.Context) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	in, err := b.Peering(ctx)
	if err != nil || in.Asking == nil {
		return err
	}
	a := in.Asking
	fmt.Fprintf(p.out, "\n%s wants to become a peer. Its key: %s\n", bold.Render(safe(a.Name)), a.Key)
	switch {
	case a.Typed:
		fmt.Fprintf(p.out, "Its owner has typed the three words, so it is the bench that you told them to. Accept it: earlybench peer accept %[1]s; or refuse it: earlybench peer refuse %[1]s\n", a.Key)
	case a.Words != "":
		fmt.Fprintf(p.out, "Tell its owner these three words, by voice or in a chat that you trust: %s\n", bold.Render(a.Words))
	}
	return nil
}

func (p *program) peerAdd() *cobra.Command {
	n := client.NewMeeting{}
	c := &cobra.Command{Use: "add FILE|HOST:PORT", Short: "Become a peer of another bench, by its invitation or by three words that it shows", Args: cobra.ExactArgs(1),
		Long: `With an invitation file, this bench becomes a peer at once. With an address, the
bench there shows three words (earlybench peer). Its owner tells you the words, you type
them here, and the owner decides whether to accept this bench. Both sides show
fingerprints.

To connect through an SSH server, give --via ssh://USER@HOST:PORT, and the address as seen from
there.`,
		Example: "earlybench peer add harbour.invitation\nearlybench peer add harbour.example:7421\nearlybench peer add 127.0.0.1:7421 --via ssh://rowan@harbour.example", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if _, err := os.Stat(args[0]); err == nil {
				return p.useInvitation(c.Context(), b, args[0], n.As)
			} else if _, _, isAddress := net.SplitHostPort(args[0]); isAddress != nil {
				return usage("%q is neither an invitation file nor HOST:PORT", args[0])
			}
			if p.unattended {
				return &exitError{exitPerson, "An introduction needs a person to type what the other bench shows. An invitation needs none: earlybench peer add FILE"}
			}
			n.Address = args[0]
			in, err := b.MeetPeer(c.Context(), n)
			switch {
			case err != nil:
				return err
			case !p.terminal && p.json:
				return p.printJSON(in)
			}
			fmt.Fprintf(p.err, "%s answers. Its key: %s\nIt shows three words (earlybench peer, there): ask its owner for them.\n", safe(in.Meeting.Name), in.Meeting.Key)
			if !p.terminal {
				fmt.Fprintln(p.err, "Give them here: earlybench peer words WORD WORD WORD")
				return nil
			}
			return p.askWords(c.Context(), readLines(p.in), func(typed string) error { return p.typePeerWords(c.Context(), b, typed) }, func(why error) error { return p.giveUpPeer(b, why) })
		}}
	c.Flags().StringVar(&n.As, "as", "", "name of the peer here (default: its own name)")
	c.Flags().StringVar(&n.Via, "via", "", "SSH server that it is reached through: ssh://USER@HOST:PORT")
	c.Flags().StringVar(&n.ViaKey, "via-key", "", "fingerprint of that server's key, after you have compared it")
	return c
}

// useInvitation uses the invitation in a file.
func (p *program) useInvitation(ctx context.Context, b *client.Client, file, as string) error {
	raw, err := os.ReadFile(file)
	if err != nil {
		return usage("%w", err)
	}
	var i client.Invitation
	if err := json.Unmarshal(raw, &i); err != nil || i.Version != 1 {
		return usage("%s is not an invitation from a bench", file)
	}
	x, err := b.AddPeer(ctx, client.NewPeer{Invitation: i, As: as})
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(x)
	}
	fmt.Fprintf(p.out, "%s is now a peer. Its key: %s\nSee what it offers: earlybench rack --peers. Choose what it may do here: earlybench peer set %[1]s --may look|use|hands\n", x.Name, x.Key)
	return nil
}

func (p *program) giveUpPeer(b *client.Client, why error) error {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	b.StopPeering(ctx) //nolint:errcheck // the other bench ends it by itself
	return why
}

// typePeerWords gives the words, and waits for the answer of the other bench's owner.
func (p *program) typePeerWords(ctx context.Context, b *client.Client, words string) error {
	in, err := b.TypePeerWords(ctx, words)
	if err != nil {
		return err
	}
	if in.Meeting != nil && in.Meeting.State == "asked" {
		fmt.Fprintf(p.err, "The words are correct. The owner of %s is being asked whether to accept this bench.\n", safe(in.Meeting.Name))
	}
	for in.Meeting != nil && in.Meeting.State == "asked" {
		select {
		case <-ctx.Done():
			return p.giveUpPeer(b, ctx.Err())
		case <-time.After(introductionEvery):
		}
		if in, err = b.Peering(ctx); err != nil {
			return err
		}
	}
	switch {
	case in.Meeting == nil || in.Meeting.State != "peer":
		why := "The introduction is over."
		if in.Meeting != nil {
			why = in.Meeting.Why
		}
		return &exitError{exitFailed, safe(why)}
	case p.json:
		return p.printJSON(in)
	}
	fmt.Fprintf(p.out, "%s is now a peer. See what it offers: earlybench rack --peers\n", in.Meeting.Name)
	return nil
}

func (p *program) peerWords() *cobra.Command {
	return &cobra.Command{Use: "words WORD WORD WORD", Short: "Type the three words that the other bench shows", Args: cobra.RangeArgs(1, 3),
		Example: "earlybench peer words maple otter bugle", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			return p.typePeerWords(c.Context(), b, strings.Join(args, " "))
		}}
}

func (p *program) peerStop() *cobra.Command {
	return &cobra.Command{Use: "stop", Short: "Cancel the introduction to another bench", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.StopPeering(c.Context())
	}}
}

func (p *program) peerAnswer(accept bool) *cobra.Command {
	c := &cobra.Command{Use: "accept KEY", Short: "Accept a bench that wants to become a peer", Args: cobra.ExactArgs(1)}
	if !accept {
		c.Use, c.Short = "refuse KEY", "Refuse a bench that wants to become a peer"
	}
	c.RunE = func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		in, err := b.AnswerPeer(c.Context(), client.PeerAnswer{Key: args[0], Accept: accept})
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(in)
		case accept:
			fmt.Fprintln(p.out, "It is now a peer, and may not see anything here yet. Choose what it may do: earlybench peer set NAME --may look|use|hands")
		default:
			fmt.Fprintln(p.out, "It was refused.")
		}
		return nil
	}
	return c
}

func (p *program) peerInvite() *cobra.Command {
	n := client.NewInvitation{}
	long, file := time.Duration(0), ""
	c := &cobra.Command{Use: "invite", Short: "Write an invitation that lets one other bench become a peer", Args: cobra.NoArgs,
		Long: `The file works once. Give it to the other bench's owner in a way that you trust:
whoever uses it first becomes the peer.`,
		Example: "earlybench peer invite --out harbour.invitation --may use --for 24h", RunE: func(c *cobra.Command, _ []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if _, err := os.Lstat(file); err == nil {
				return usage("%s already exists; choose another name", file)
			}
			n.For = int64(long / time.Second)
			i, err := b.Invite(c.Context(), n)
			if err != nil {
				return err
			}
			raw, err := json.MarshalIndent(i, "", "  ")
			if err == nil {
				err = os.WriteFile(file, append(raw, '\n'), 0o600)
			}
			if err != nil {
				return fmt.Errorf("write the invitation: %w", err)
			}
			if p.json {
				return p.printJSON(map[string]any{"file": file, "bench": i.Bench, "key": i.Key, "addresses": i.Addresses, "ends": i.Ends})
			}
			fmt.Fprintf(p.out, "%s works once, until %s.\n  bench      %s\n  key        %s\n  reached at %s\nOver there: earlybench peer add %s\n", file, clockText(i.Ends), i.Bench, i.Key, strings.Join(i.Addresses, ", "), file)
			return nil
		}}
	c.Flags().StringVar(&file, "out", "", "file to write")
	c.Flags().DurationVar(&long, "for", 24*time.Hour, "how long it is valid, 30 days at most")
	c.Flags().StringVar(&n.May, "may", "", "what the peer may do with every device: look, use, hands (default: nothing yet)")
	c.Flags().StringSliceVar(&n.Addresses, "at", nil, "HOST:PORT where this bench can be reached (default: those of this computer)")
	required(c, "out")
	return c
}

func (p *program) peerSet() *cobra.Command {
	may, at, kits, sign := "", []string(nil), []string(nil), false
	c := &cobra.Command{Use: "set PEER [DEVICE=RIGHT...]", Short: "Set what a peer may do here, with all devices or single ones", Args: cobra.MinimumNArgs(1),
		Long: `A right is look (see the device, and borrow it to look at it), use (borrow it), hands
(use it, and ask somebody nearby for steps that need hands) or nothing. A right for a
single device overrides --may; "DEVICE=as the others" removes it. A peer that loses a right loses its loans that need it.

With --sign this bench signs the peer's apps by its keys, each one after the consent of a
person or a rule here (earlybench safe). The peer says in the app's project which key:
identity: NAME@THIS-BENCH, or @THIS-BENCH for the development key. With --kit it may fetch
a kit of this bench for its builds (earlybench kit fetch).`,
		Example: "earlybench peer set moor-desk --may look\nearlybench peer set moor-desk heron-9=use whimbrel-9=nothing", RunE: func(c *cobra.Command, args []string) error {
			change := client.PeerChange{Addresses: at}
			if c.Flags().Changed("may") {
				change.May = &may
			}
			if c.Flags().Changed("sign") {
				change.Signs = &sign
			}
			if c.Flags().Changed("kit") {
				change.Kits = &kits
			}
			for _, a := range args[1:] {
				handle, right, ok := strings.Cut(a, "=")
				if !ok {
					return usage("%q is no right of a device: write DEVICE=look, DEVICE=use or DEVICE=nothing", a)
				}
				if change.Devices == nil {
					change.Devices = map[string]string{}
				}
				change.Devices[handle] = right
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			x, err := b.SetPeer(c.Context(), args[0], change)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(x)
			}
			fmt.Fprintf(p.out, "%s may here: %s\n", x.Name, mayText(x))
			return nil
		}}
	c.Flags().StringVar(&may, "may", "", "with every device: look, use, hands (use, and ask whoever is near for theirs), nothing")
	c.Flags().BoolVar(&sign, "sign", false, "sign its apps here, each after a consent (--sign=false: no longer)")
	c.Flags().StringSliceVar(&kits, "kit", nil, "a kit of this bench that it may have, for its builds; name all (--kit= for none)")
	c.Flags().StringSliceVar(&at, "at", nil, "HOST:PORT at which it is reached now")
	return c
}

func (p *program) peerCheck() *cobra.Command {
	return &cobra.Command{Use: "check PEER", Short: "Check each layer between this bench and a peer", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		check, err := b.CheckPeer(c.Context(), args[0])
		if err != nil {
			return err
		}
		wrong := slices.IndexFunc(check.Points, func(x client.PeerPoint) bool { return x.Wrong != "" })
		if p.json {
			if err := p.printJSON(check); err != nil {
				return err
			}
		} else {
			for _, x := range check.Points {
				mark, text := good.Render("✓"), x.Note
				if x.Wrong != "" {
					mark, text = bad.Render("✗"), x.Wrong
				}
				fmt.Fprintf(p.out, "%s %-10s %s\n", mark, x.Name, safe(text))
			}
		}
		if wrong >= 0 {
			return &exitError{exitFailed, safe(check.Points[wrong].Remedy)}
		}
		return nil
	}}
}

func (p *program) peerDrop() *cobra.Command {
	return &cobra.Command{Use: "drop PEER", Short: "Forget a peer; its loans end", Args: cobra.ExactArgs(1), RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		return b.DropPeer(c.Context(), args[0])
	}}
}
