package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) handsCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "hands", Short: "Requests to people near lent devices, who can reach them with their hands", Args: cobra.NoArgs,
		Long: `A borrowed device is far away, so steps that need hands are requested from somebody near it.
That person answers on a page for their phone (hands page, over TLS), in the console of
their bench, or with hands answer. As always, what the device itself reports counts.`,
		Example: "earlybench hands ask heron-9\nearlybench hands\nearlybench hands page 4f19c0 --address 192.0.2.7\nearlybench hands answer 4f19c0 --done"},
		(*client.Client).HandsRequests, func(all []client.Hands) {
			if len(all) == 0 {
				empty(p.out, "No request for hands is open. Make one for a borrowed device: earlybench hands ask DEVICE")
				return
			}
			var rows [][]string
			for _, h := range all {
				who := "asked at " + h.Peer
				if h.Lent {
					who = h.Peer + " asks"
				}
				rows = append(rows, []string{safe(h.Device), emphasis(h.Title), who, handsText(h), h.ID})
			}
			p.table([]string{"device", "", "", "", "request"}, rows)
		})
	c.AddCommand(p.handsAsk(), p.handsAnswer(), p.handsWithdraw(), p.handsPage())
	return c
}

// handsText says how a request for hands is.
func handsText(h client.Hands) string {
	note := ""
	if h.Note != "" {
		note = ": " + safe(h.Note)
	}
	switch h.State {
	case "asked":
		return "asked " + clockText(h.Asked)
	case "seen":
		return "somebody has opened it"
	case "done":
		return good.Render("done") + ", says " + safe(h.By) + note
	case "cannot":
		return bad.Render("cannot be done") + ", says " + safe(h.By) + note
	}
	return faint.Render(h.State)
}

func (p *program) handsAsk() *cobra.Command {
	n := client.NewHands{}
	c := &cobra.Command{Use: "ask DEVICE", Short: "Ask somebody near a borrowed device to do its next step, or something else", Args: cobra.ExactArgs(1),
		Example: "earlybench hands ask heron-9\nearlybench hands ask heron-9 --title 'Lay it on its back' --text 'For the picture of its front.'", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			h, err := b.AskForHands(c.Context(), args[0], n)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(h)
			}
			fmt.Fprintf(p.out, "%s was asked: %s\nSee the answer: earlybench hands. Withdraw it: earlybench hands withdraw %s\n", h.Peer, emphasis(h.Title), h.ID)
			return nil
		}}
	c.Flags().StringVar(&n.Title, "title", "", "what to do (default: the next step that the device needs)")
	c.Flags().StringVar(&n.Text, "text", "", "more of it")
	return c
}

func (p *program) handsAnswer() *cobra.Command {
	a, cannot := client.HandsAnswer{}, false
	c := &cobra.Command{Use: "answer REQUEST --done|--cannot", Short: "Answer a request for hands: it is done, or cannot be done", Args: cobra.ExactArgs(1),
		Example: "earlybench hands answer 4f19c0 --done\nearlybench hands answer 4f19c0 --cannot --note 'It is at the repairer.'", RunE: func(c *cobra.Command, args []string) error {
			if a.Done == cannot {
				return usage("give either --done or --cannot")
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			h, err := b.AnswerHands(c.Context(), args[0], a)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(h)
			}
			fmt.Fprintf(p.out, "%s was told: %s\n", h.Peer, handsText(h))
			return nil
		}}
	c.Flags().BoolVar(&a.Done, "done", false, "it is done")
	c.Flags().BoolVar(&cannot, "cannot", false, "it cannot be done")
	c.Flags().StringVar(&a.Note, "note", "", "a note for whoever asked")
	return c
}

func (p *program) handsWithdraw() *cobra.Command {
	return &cobra.Command{Use: "withdraw REQUEST", Short: "Withdraw a request for hands", Args: cobra.ExactArgs(1), Example: "earlybench hands withdraw 4f19c0", RunE: func(c *cobra.Command, args []string) error {
		b, err := p.bench()
		if err != nil {
			return err
		}
		if err := b.WithdrawHands(c.Context(), args[0]); err != nil {
			return err
		}
		if !p.json {
			fmt.Fprintln(p.out, "Withdrawn.")
		}
		return nil
	}}
}

func (p *program) handsPage() *cobra.Command {
	ask := client.PhoneAsk{}
	c := &cobra.Command{Use: "page REQUEST --address ADDRESS", Short: "Serve a request as a page for the phone of somebody near the device", Args: cobra.ExactArgs(1),
		Long: `Serves a page with only this request, for one browser: over TLS with a
certificate of its own, at an address of this computer that you choose. It ends with this
command, an hour later, or when the phone has gone.`,
		Example: "earlybench hands page 4f19c0 --address 192.0.2.7", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			ask.Hands = args[0]
			return p.phonePage(c.Context(), b, ask, nil)
		}}
	c.Flags().StringVar(&ask.Address, "address", "", "address of this computer that the phone can reach, with or without a port")
	return c
}
