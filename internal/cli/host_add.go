package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

func (p *program) hostAddCommand() *cobra.Command {
	var h client.Host
	c := &cobra.Command{Use: "add NAME", Short: "Watch a host, or change its addresses", Args: cobra.ExactArgs(1),
		Long: `Watches a computer that devices are connected to. Its addresses are HOST:PORT, or
unix:/PATH for a socket on this computer. With --ssh both are reached through an SSH
connection to that computer, whose key you accept, and are given as seen from there. Without
--ssh nothing proves who answers, so use addresses of this computer only.`,
		Example: `  earlybench host add attic --control unix:/run/attic/control --usbip unix:/run/attic/usbip
  earlybench host add attic --ssh ssh://ines@attic.example --control localhost:7431 --usbip localhost:3240`,
		RunE: func(c *cobra.Command, args []string) error {
			h.Name = args[0]
			return p.addHost(c.Context(), h)
		}}
	c.Flags().StringVar(&h.USBIP, "usbip", "", "address of its USB/IP exporter; leave it out for a host that only imports devices")
	c.Flags().StringVar(&h.Control, "control", "", "address of its host protocol")
	c.Flags().StringVar(&h.SSH, "ssh", "", "SSH server that both are reached through: ssh://USER@HOST or ssh://USER@HOST:PORT")
	c.Flags().StringVar(&h.SSHKey, "accept", "", "fingerprint of that server's key, as shown by this command")
	required(c, "control")
	return c
}

func (p *program) addHost(ctx context.Context, h client.Host) error {
	b, err := p.bench()
	if err != nil {
		return err
	}
	if h.SSH != "" && h.SSHKey == "" {
		if h.SSHKey, err = p.acceptSSH(ctx, b, h.SSH); err != nil {
			return err
		}
	}
	if err := b.AddHost(ctx, h); err != nil {
		return err
	}
	if err := hostReached(ctx, b, h.Name); err != nil {
		return err
	}
	fmt.Fprintf(p.err, "%s is reached. What is connected to it: earlybench rack\n", h.Name)
	return nil
}

// acceptSSH shows the key of an SSH server and returns its fingerprint once that was accepted.
func (p *program) acceptSSH(ctx context.Context, b *client.Client, address string) (string, error) {
	key, err := b.LookAtSSH(ctx, address)
	if err != nil {
		return "", err
	}
	if p.json && (!p.terminal || p.unattended) {
		if err := p.printJSON(client.FoundSSH{SSH: address, Key: key}); err != nil {
			return "", err
		}
	} else {
		fmt.Fprintf(p.out, "%s shows this key:\n\n  %s\n", address, key)
	}
	if !p.terminal || p.unattended {
		return "", &exitError{exitPerson, "To add the host, accept the key: --accept " + key}
	}
	fmt.Fprint(p.err, "\nCompare it with what ssh-keygen -l prints on that computer. Accept it? [y/N] ")
	if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return "", &exitError{exitPerson, "The host was not added."}
	}
	return key, nil
}
