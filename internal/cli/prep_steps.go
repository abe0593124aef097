package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/client"
)

// step shows a step and waits until something has changed.
func (g *guide) step(ctx context.Context, plan client.Prep, s client.Step) error {
	if !g.shown["at "+s.ID] {
		g.shown["at "+s.ID] = true
		g.tell("step", &s, nil)
		g.explain(s)
	}
	switch s.Action {
	case "driver.install":
		return g.install(ctx, plan)
	case "support.fetch":
		if plan.Need != nil {
			return g.fetch(ctx, plan)
		}
	case "host.give":
		if s.Missing == "" {
			return g.takeBack(ctx)
		}
	case "link.restart":
		return g.restart(ctx, s)
	case "device.register":
		if s.Missing == "" && !g.shown["registered"] {
			return g.register(ctx)
		}
	case "statement.put":
		if s.Missing == "" && !g.shown["allowed"] {
			return g.allow(ctx)
		}
	case "admission.ask":
		return g.ask(ctx, s)
	case "introduction.begin":
		return g.introduce(ctx, s)
	case "app.try":
		return g.try(ctx)
	}
	if g.unattended && s.Who != "automatic" {
		return &exitError{exitPerson, fmt.Sprintf("A person is needed at %s: %s.", g.handle, plainText(s.Text))}
	}
	if g.lines != nil && s.Tell {
		hint := "Press Enter when you have done it, or wait until the bench sees it."
		if !s.Seen {
			hint = "Press Enter when you have done it: the bench cannot see when this step is done, only when the gate opens."
		}
		fmt.Fprintln(g.text, faint.Render("      "+hint))
	}
	return g.pause(ctx, s)
}

func (g *guide) explain(s client.Step) {
	who := map[string]string{"hands": "with your hands", "computer": "at the computer", "automatic": "by itself"}[s.Who]
	if s.Minutes == 1 {
		who += ", about a minute"
	} else if s.Minutes > 1 {
		who += fmt.Sprintf(", about %d minutes", s.Minutes)
	}
	fmt.Fprintf(g.text, "  %s %s  %s\n", lamp.Render("▸"), emphasis(s.Text), faint.Render(who))
	if s.Denied != nil {
		fmt.Fprintf(g.text, "      %s %s said at %s that this is done; the bench sees that it is not. What is observed counts.\n", lamp.Render(" ! "), s.Denied.By, clockText(s.Denied.At))
	}
	if s.Missing != "" {
		wrapped(g.text, "      ", lamp.Render(" ! ")+" "+emphasis(s.Missing), g.width)
	}
	if len(s.Where) > 0 {
		fmt.Fprintln(g.text, "      "+way(s.Where))
	}
	if s.Note != "" {
		wrapped(g.text, "      ", emphasis(s.Note), g.width)
	}
	if s.Sight != "" {
		wrapped(g.text, "      ", "You will see: "+emphasis(s.Sight), g.width)
	}
	if s.Risk != "" {
		wrapped(g.text, "      ", "It will warn you: "+emphasis(s.Risk), g.width)
	}
}

// pause waits until the device has changed, or a person says that the step is
// done.
func (g *guide) pause(ctx context.Context, s client.Step) error {
	timeout := time.NewTimer(g.wait)
	defer timeout.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-g.changed:
		return nil
	case line := <-g.lines:
		if line == "" && s.Tell {
			return tell(ctx, g.bench, g.plan, s.ID)
		}
		return nil
	case <-timeout.C:
		return &exitError{exitPerson, fmt.Sprintf("Nothing happened within %s. A person is needed at %s: %s.", g.wait, g.handle, plainText(s.Text))}
	}
}

// install installs the driver set that fits, after a person has consented.
func (g *guide) install(ctx context.Context, plan client.Prep) error {
	o := plan.Offer
	if o == nil && len(g.accept) == 0 {
		return &exitError{exitBlocked, plan.Device.Says}
	}
	if o == nil { // another one was chosen by hand
		o = &client.DriverCandidate{}
	}
	accept, despite := accepted(g.accept, o.Digest), g.despite
	if accept == "" && g.lines != nil {
		despite = nil
		fmt.Fprintf(g.text, "      %s %s by %s, %s, %s\n      %s\n", bold.Render(o.Name), o.Version, safe(o.Maker), bytesText(o.Size), sourceText(*o), faint.Render("sha256 "+o.Digest))
		fmt.Fprintf(g.text, "      %s\n", faint.Render(capital(safe(o.Why))+"."))
		fmt.Fprint(g.text, indented(o.Difference, "      "))
		for _, a := range o.Against {
			wrapped(g.text, "      ", lamp.Render(" ! ")+" "+safe(a.Text), g.width)
			despite = append(despite, a.Word)
		}
		if yes, err := g.confirm(ctx, fmt.Sprintf("      Install it on host %s? [y/N] ", plan.Device.Host), false); err != nil {
			return err
		} else if !yes {
			return &exitError{exitPerson, "Not installed."}
		}
		accept = o.Digest
	}
	j, err := decided(ctx, g.bench, plan, func(ctx context.Context) (client.Job, error) {
		return g.bench.InstallDriver(ctx, g.handle, client.DriverConsent{Accept: accept, Despite: despite})
	})
	if err != nil {
		return err
	}
	_, err = g.follow(ctx, g.bench, j)
	return err
}

// accepted is the digest that was consented to in advance: that of what is offered, or another
// one that was chosen by hand; "" for none.
func accepted(digests []string, offered string) string {
	switch {
	case len(digests) == 0:
		return ""
	case slices.Contains(digests, offered):
		return offered
	}
	return digests[0]
}

// sourceText says where a driver set is.
func sourceText(c client.DriverCandidate) string {
	switch {
	case c.Bound:
		return "bound"
	case c.Installed:
		return "installed on the host"
	case c.Here:
		return "on the bench"
	case c.Service:
		return "from the host's own update service"
	}
	return "from depot " + c.Depot
}

// fetch fetches the support pack that the device lacks, after a person has accepted its
// licence. One that is fetched already is followed.
func (g *guide) fetch(ctx context.Context, plan client.Prep) error {
	n := plan.Need
	accept := ""
	if slices.Contains(g.accept, n.Accept) {
		accept = n.Accept
	}
	switch {
	case n.Job != "":
		fmt.Fprintf(g.text, "      %s %s is being fetched already.\n", bold.Render(n.Name), n.Version)
		j, err := g.bench.Job(ctx, n.Job)
		if err == nil {
			_, err = g.follow(ctx, g.bench, j)
		}
		return err
	case accept == "" && g.lines != nil:
		fmt.Fprintf(g.text, "      %s %s by %s, %s from depot %s\n", bold.Render(n.Name), n.Version, safe(n.Maker), bytesText(n.Size), n.Depot)
		question := "      Fetch it? [y/N] "
		if n.Licence != "" {
			l, err := g.bench.Licence(ctx, n.LicenceDigest)
			if err != nil {
				return err
			}
			fmt.Fprintf(g.text, "\n      %s\n", bold.Render(safe(l.Name)))
			for line := range strings.Lines(safeLines(l.Text)) {
				wrapped(g.text, "      ", strings.TrimRight(line, "\n"), g.width)
			}
			question = "\n      Accept this licence and fetch it? [y/N] "
		}
		if yes, err := g.confirm(ctx, question, false); err != nil {
			return err
		} else if !yes {
			return &exitError{exitPerson, "Not fetched."}
		}
		accept = n.Accept
	}
	jobs, err := g.bench.FetchNeeds(ctx, accept)
	for _, j := range jobs {
		if err == nil {
			_, err = g.follow(ctx, g.bench, j)
		}
	}
	return err
}

// takeBack has whoever holds the device release it, after a person has said so.
func (g *guide) takeBack(ctx context.Context) error {
	if g.lines == nil {
		return &exitError{exitPerson, "Take it back: earlybench host give " + g.handle}
	}
	if yes, err := g.confirm(ctx, "      Take it back? [y/N] ", false); err != nil {
		return err
	} else if !yes {
		return &exitError{exitPerson, "Not taken back."}
	}
	return g.bench.GiveDevice(ctx, g.handle, "")
}

// restart restarts the link, once; if that did not help, a person has to.
func (g *guide) restart(ctx context.Context, s client.Step) error {
	switch {
	case !g.shown["restarted"]:
		g.shown["restarted"] = true
		fmt.Fprintf(g.text, "      Restarting the link.\n")
		return g.bench.RestartLink(ctx, g.handle)
	case g.unattended:
		return &exitError{exitPerson, fmt.Sprintf("Its link was restarted, which did not help. A person is needed at %s: %s.", g.handle, plainText(s.Text))}
	}
	return g.pause(ctx, s)
}

// register registers the device, once.
func (g *guide) register(ctx context.Context) error {
	g.shown["registered"] = true
	j, err := g.bench.RegisterDevices(ctx, client.NewEntries{Devices: []string{g.handle}})
	if err != nil {
		return err
	}
	_, err = g.follow(ctx, g.bench, j)
	return err
}

// introduce has the device show its words, which are read from the terminal.
func (g *guide) introduce(ctx context.Context, s client.Step) error {
	all, err := g.bench.Network(ctx)
	if err != nil {
		return err
	}
	found := notMet(all, g.plan.Device)
	switch {
	case len(found) == 0:
		return g.pause(ctx, s) // until it is heard
	case g.unattended || g.lines == nil || len(found) > 1:
		return &exitError{exitPerson, fmt.Sprintf("A person is needed to type the words that %s shows: earlybench network introduce HEARD --as %[1]s. HEARD is a name of earlybench network.", g.handle)}
	}
	in, err := g.bench.Introduce(ctx, found[0].Name, g.handle)
	if err != nil {
		return err
	}
	fmt.Fprintf(g.text, "      %s shows three words.\n", claimText(in))
	return g.askWords(ctx, g.lines, func(typed string) error { return g.typeWords(ctx, g.bench, typed) }, func(why error) error { return g.giveUp(g.bench, why) })
}

// allow puts on the device what the app needs to run there, once.
func (g *guide) allow(ctx context.Context) error {
	g.shown["allowed"] = true
	j, err := g.bench.Allow(ctx, g.handle, client.Allow{App: g.app})
	if err != nil {
		return err
	}
	_, err = g.follow(ctx, g.bench, j)
	return err
}

// ask makes the device ask its owner, and prints the outcome.
func (g *guide) ask(ctx context.Context, s client.Step) error {
	if g.unattended {
		return &exitError{exitPerson, fmt.Sprintf("A person is needed at %s: %s.", g.handle, plainText(s.Text))}
	}
	if j, ok := g.asks(ctx); ok {
		fmt.Fprintf(g.text, "      %s is already asking. Answer on its screen.\n", g.handle)
		_, err := g.follow(ctx, g.bench, j)
		return err
	}
	for {
		j, err := decided(ctx, g.bench, g.plan, func(ctx context.Context) (client.Job, error) { return g.bench.Ask(ctx, g.handle) })
		if err != nil {
			return err
		}
		_, err = g.follow(ctx, g.bench, j)
		if err == nil || g.lines == nil || ctx.Err() != nil {
			return err
		}
		fmt.Fprintln(g.text, "      "+err.Error())
		if again, cerr := g.confirm(ctx, "      Ask again? [Y/n] ", true); cerr != nil || !again {
			return err
		}
	}
}

// asks finds the job by which somebody else has the device ask: the answer to it is this one's too.
func (g *guide) asks(ctx context.Context) (client.Job, bool) {
	jobs, err := g.bench.Jobs(ctx)
	if err != nil {
		return client.Job{}, false
	}
	i := slices.IndexFunc(jobs, func(j client.Job) bool {
		return j.Device == g.handle && j.Kind == "admission.ask" && j.Ended == nil
	})
	if i < 0 {
		return client.Job{}, false
	}
	return jobs[i], true
}

// try tries the app.
func (g *guide) try(ctx context.Context) error {
	what := client.Run{App: g.app, Device: g.handle, Try: true}
	g.built.Lock()
	defer g.built.Unlock()
	if g.built.digest != "" {
		what.App, what.File = "", g.built.digest
	}
	j, err := g.start(ctx, g.bench, what)
	if err == nil && j.Result != nil {
		g.built.digest = j.Result.Digest
	}
	return err
}
