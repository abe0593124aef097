package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"earlybench.invalid/earlybench/client"
)

// server is the address of an SSH server, not of a device link.
func server(e client.NetworkEntry) bool { return e.Login != "" }

func (p *program) networkLogin() *cobra.Command {
	var accept, as string
	var o opening
	c := &cobra.Command{Use: "login SERVER", Short: "Log in to a device over SSH, and put it on the rack", Args: cobra.ExactArgs(1),
		Long: `Shows the device key first. Compare it with the one on the device; there, run
ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub. If the device does not know the key
of this bench yet, you are asked for its user's password once. It is used to add the key
to ~/.ssh/authorized_keys, and is stored nowhere.

Without a terminal, give the key with --accept, and the password with
--password-file.`,
		Example: "earlybench network login server-1\nearlybench network login ssh://board@192.168.7.40", RunE: func(c *cobra.Command, args []string) error {
			b, err := p.bench()
			if err != nil {
				return err
			}
			if strings.Contains(args[0], "://") { // it is given by this, if it was not
				if _, err := b.AddAddress(c.Context(), args[0]); err != nil {
					return err
				}
			}
			if accept == "" {
				e, err := p.serverOf(c.Context(), b, args[0])
				if err != nil {
					return err
				}
				if accept, err = p.compare(e); err != nil {
					return err
				}
			}
			return p.logIn(c.Context(), b, args[0], accept, as, o)
		}}
	c.Flags().StringVar(&accept, "accept", "", "fingerprint of the device key that you compared")
	c.Flags().StringVar(&o.passphraseFile, "password-file", "", "file with the password of the device's user in its first line")
	c.Flags().StringVar(&as, "as", "", "handle of the device, if it is on the rack already")
	return c
}

// serverOf finds a server that was given, by its name, its address, or the handle of its device.
func (p *program) serverOf(ctx context.Context, b *client.Client, name string) (client.NetworkEntry, error) {
	all, err := b.Network(ctx)
	if err != nil {
		return client.NetworkEntry{}, err
	}
	for _, e := range all {
		if server(e) && (e.Name == name || e.Device == name || e.Addresses[0] == name) {
			return e, nil
		}
	}
	return client.NetworkEntry{}, &exitError{exitFailed, fmt.Sprintf("No SSH server is called %s. Add it: earlybench network add ssh://USER@ADDRESS", safe(name))}
}

// compare has a person compare the device key, and returns it.
func (p *program) compare(e client.NetworkEntry) (string, error) {
	at := safe(e.Addresses[0])
	if e.DeviceKey == "" {
		return "", &exitError{exitFailed, fmt.Sprintf("Nobody answers at %s: %s.", at, safe(e.Trouble))}
	}
	if !p.json {
		fmt.Fprintf(p.out, "%s shows this device key:\n\n  %s\n", at, safe(e.DeviceKey))
	}
	if p.json || !p.terminal || p.unattended {
		return "", &exitError{exitPerson, fmt.Sprintf("To log in, accept the key: earlybench network login %s --accept %s", e.Name, safe(e.DeviceKey))}
	}
	fmt.Fprint(p.err, "\nCompare it with the output on the device itself: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub\nAccept it? [y/N] ")
	if answer, err := p.readLine(); err != nil || !strings.EqualFold(answer, "y") && !strings.EqualFold(answer, "yes") {
		return "", &exitError{exitPerson, "Nothing was sent to it."}
	}
	return e.DeviceKey, nil
}

// logIn logs in, and asks for the password where the device does not know the bench's key.
func (p *program) logIn(ctx context.Context, b *client.Client, name, accept, as string, o opening) error {
	in, err := b.LogIn(ctx, name, accept, "", as)
	problem, ok := errors.AsType[*client.Problem](err)
	if ok && problem.Kind == "person" && (p.terminal && !p.unattended || o.passphraseFile != "") {
		var password []byte
		if password, err = p.passphrase(o, "Password of the device's user (not stored)", false); err != nil {
			return err
		}
		in, err = b.LogIn(ctx, name, accept, string(password), as)
	}
	switch {
	case err != nil:
		return err
	case p.json:
		return p.printJSON(in)
	}
	fmt.Fprintf(p.out, "%s is on the rack. To see what it needs next: earlybench prep %[1]s\n", in.Device)
	return nil
}
