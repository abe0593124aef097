package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) loanCommand() *cobra.Command {
	c := lists(p, &cobra.Command{Use: "loan", Short: "Devices that are lent to peers or borrowed from them", Args: cobra.NoArgs,
		Long: `Lists the loans. A borrowed device is on the rack like one on your desk: rack, why, prep,
run, try, log and screen work the same. When the loan ends, everything that the borrower
put on the device is removed.`,
		Example: "earlybench rack --peers\nearlybench loan start heron-9 --from harbour-desk --for 2h\nearlybench loan extend heron-9 --for 1h\nearlybench loan end heron-9"},
		(*client.Client).Loans, func(all []client.Loan) {
			if len(all) == 0 {
				empty(p.out, "Nothing is lent or borrowed. See what peers offer: earlybench rack --peers")
				return
			}
			var rows [][]string
			for _, l := range all {
				rows = append(rows, []string{deviceText(l), whoText(l), mayUseText(l), loanText(l), l.ID})
			}
			p.table([]string{"device", "", "right", "", "loan"}, rows)
		})
	c.AddCommand(p.loanStart(), p.loanEnd(), p.loanExtend())
	return c
}

func deviceText(l client.Loan) string {
	if l.Device == "" || l.Device == l.Far {
		return safe(l.Far)
	}
	return fmt.Sprintf("%s (%s there)", l.Device, safe(l.Far))
}

func mayUseText(l client.Loan) string {
	if l.Exclusive {
		return "exclusive"
	}
	return l.May
}

func whoText(l client.Loan) string {
	if l.Lent {
		return "lent to " + l.Peer
	}
	return "borrowed from " + l.Peer
}

// loanText says how a loan is.
func loanText(l client.Loan) string {
	why := ""
	if l.Why != "" {
		why = " " + safe(l.Why)
	}
	switch l.State {
	case "active":
		if l.Away != "" {
			why += fmt.Sprintf(" %s cannot reach it: %s", l.Peer, safe(l.Away))
		}
		if l.USB != "" {
			why += fmt.Sprintf(" Its USB is at %s as %s (USB/IP).", l.USB, safe(l.BusID))
		}
		return good.Render("until "+clockText(*l.Ends)) + "." + why
	case "waiting":
		text := fmt.Sprintf("waits, place %d", l.Place)
		if l.Lent || l.Place == 0 {
			text = "waits"
		}
		if l.Wait > 0 {
			text += ", likely until " + clockText(time.Now().Add(time.Duration(l.Wait)*time.Second))
		}
		return text + "." + why
	case "returning":
		return "is being returned." + why
	}
	text := faint.Render("ended")
	if l.Ended != nil {
		text = faint.Render("ended " + clockText(*l.Ended))
	}
	if l.NotBack != "" {
		why += " Not as before: " + safe(l.NotBack)
	}
	return text + "." + why
}

// long is for how long something lasts, said as a duration or by its end.
type long struct {
	lasts time.Duration
	until string
}

func (l *long) flags(c *cobra.Command) {
	c.Flags().DurationVar(&l.lasts, "for", 0, "how long, such as 2h")
	c.Flags().StringVar(&l.until, "until", "", "time when it ends, today or tomorrow, such as 17:00")
}

// seconds are a number of seconds from now.
func (l *long) seconds(now time.Time) (int64, error) {
	switch {
	case (l.lasts == 0) == (l.until == ""):
		return 0, usage("give the length of time, either --for 2h or --until 17:00")
	case l.until == "":
		if l.lasts < time.Minute {
			return 0, usage("--for %s: give at least a minute", l.lasts)
		}
		return int64(l.lasts / time.Second), nil
	}
	at, err := time.ParseInLocation("15:04", l.until, now.Location())
	if err != nil {
		return 0, usage("--until %.20q: write a time of day, such as 17:00", l.until)
	}
	end := time.Date(now.Year(), now.Month(), now.Day(), at.Hour(), at.Minute(), 0, 0, now.Location())
	if !end.After(now) {
		end = end.AddDate(0, 0, 1)
	}
	return max(60, int64((end.Sub(now)+time.Second-1)/time.Second)), nil // not before it
}

func (p *program) loanStart() *cobra.Command {
	n, l := client.NewLoan{}, long{}
	c := &cobra.Command{Use: "start DEVICE --from PEER", Short: "Borrow a device from a peer, waiting until it is free", Args: cobra.ExactArgs(1),
		Long: `Borrows a device. It appears on this bench's rack, and can be used like one on your desk.

With --exclusive you borrow its USB itself, for this computer's own kernel and tools. It is
offered by USB/IP on a loopback address, to one importer at a time, and only to your user
and the administrator. The lender cannot reach the device during that time.`,
		Example: "earlybench loan start heron-9 --from harbour-desk --for 2h\nearlybench loan start heron-9 --from harbour-desk --until 17:00 --may look\nearlybench loan start heron-9 --from harbour-desk --for 30m --exclusive", RunE: func(c *cobra.Command, args []string) (err error) {
			n.Device = args[0]
			if n.For, err = l.seconds(time.Now()); err != nil {
				return err
			}
			b, err := p.bench()
			if err != nil {
				return err
			}
			r, err := b.Borrow(c.Context(), n)
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(r)
			case r.State == "active" && r.Exclusive:
				fmt.Fprintf(p.out, "%s of %s is yours until %s, with its USB. In a moment, earlybench loan shows its address.\n", safe(r.Far), r.Peer, clockText(*r.Ends))
			case r.State == "active":
				fmt.Fprintf(p.out, "%s of %s is yours until %s. It appears on the rack by itself: earlybench rack\n", safe(r.Far), r.Peer, clockText(*r.Ends))
			default:
				fmt.Fprintf(p.out, "%s of %s %s\nCheck its place: earlybench loan. Stop waiting: earlybench loan end %s\n", safe(r.Far), r.Peer, loanText(r), r.ID)
			}
			return nil
		}}
	c.Flags().StringVar(&n.Peer, "from", "", "peer that has the device")
	c.Flags().StringVar(&n.May, "may", "use", "look or use")
	c.Flags().BoolVar(&n.Exclusive, "exclusive", false, "borrow its USB itself, for this computer's own kernel and tools")
	l.flags(c)
	required(c, "from")
	return c
}

func (p *program) loanEnd() *cobra.Command {
	grace := time.Duration(0)
	c := &cobra.Command{Use: "end DEVICE|LOAN", Short: "Return a borrowed device, or take back a lent one", Args: cobra.ExactArgs(1),
		Long: `Everything that the borrower put on the device is removed. A lent device is taken back
at once, or after --grace; the borrower is told about that time.`,
		Example: "earlybench loan end heron-9\nearlybench loan end heron-9 --grace 5m", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			r, err := b.EndLoan(c.Context(), args[0], int64(grace/time.Second))
			switch {
			case err != nil:
				return err
			case p.json:
				return p.printJSON(r)
			}
			fmt.Fprintf(p.out, "%s, %s: %s\n", deviceText(r), whoText(r), loanText(r))
			return nil
		}}
	c.Flags().DurationVar(&grace, "grace", 0, "time that the borrower of a lent device still has, 24h at most")
	return c
}

func (p *program) loanExtend() *cobra.Command {
	l := long{}
	c := &cobra.Command{Use: "extend DEVICE|LOAN", Short: "Extend a loan, counted from now", Args: cobra.ExactArgs(1), Example: "earlybench loan extend heron-9 --for 2h", RunE: func(c *cobra.Command, args []string) error {
		seconds, err := l.seconds(time.Now())
		if err != nil {
			return err
		}
		b, err := p.bench()
		if err != nil {
			return err
		}
		r, err := b.ExtendLoan(c.Context(), args[0], seconds)
		switch {
		case err != nil:
			return err
		case p.json:
			return p.printJSON(r)
		}
		fmt.Fprintf(p.out, "%s, %s: %s\n", deviceText(r), whoText(r), loanText(r))
		return nil
	}}
	l.flags(c)
	return c
}

// printFar prints what peers show.
func (p *program) printFar(all []client.FarDevice) {
	if len(all) == 0 {
		empty(p.out, "No peer offers a device. List the peers: earlybench peer")
		return
	}
	var rows [][]string
	for _, d := range all {
		model := safe(d.Maker + " " + d.Model)
		if d.Release != "" {
			model += " " + safe(d.Release)
		}
		rows = append(rows, []string{safe(d.Handle), model, d.Peer, safe(d.May), farText(d)})
	}
	p.table([]string{"device", "", "of", "may", ""}, rows)
	fmt.Fprintln(p.out, faint.Render("Borrow one: earlybench loan start DEVICE --from PEER --for 2h"))
}

func farText(d client.FarDevice) string {
	text := d.State
	switch {
	case !d.Connected:
		return faint.Render("not connected; it was " + d.State)
	case d.State == "free":
		text = good.Render("free")
	case d.State == "lent" && d.Left > 0:
		text = "lent until " + clockText(time.Now().Add(time.Duration(d.Left)*time.Second))
	case d.State == "yours":
		text = good.Render("yours until " + clockText(time.Now().Add(time.Duration(d.Left)*time.Second)))
	case d.State == "absent":
		text = "not reached there"
	}
	if d.Waiting > 0 {
		text += fmt.Sprintf(", %d waiting", d.Waiting)
	}
	return text + "; " + safe(d.Summary)
}
