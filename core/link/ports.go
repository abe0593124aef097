package link

import (
	"context"
	"errors"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
)

// This file holds both sides of the ports that running apps have open.

// Porter is a [Device] whose apps may have ports.
type Porter interface {
	// DialPort connects to a port of a running app; app is its id or the last part of that, and "" for the one that
	// has such a port. An error is a sentence for people.
	DialPort(ctx context.Context, app, port string) (io.ReadWriteCloser, error)
}

// toPort holds what a bench sends with the channel to a port.
type toPort struct{ App, Port string }

// portWithin is how long an app may take until it accepts a connection.
const portWithin = 5 * time.Second

// Ports is the ports of apps that run, by their names: PORT, or APP:PORT where several apps have one of that name.
func (s *Session) Ports() (device.Ports, error) { return ports{s}, nil }

type ports struct{ *Session }

// Dial connects to one of them.
func (p ports) Dial(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	app, port, named := strings.Cut(name, ":")
	if !named {
		app, port = "", name
	}
	c, err := p.open(ctx, channelPort, ssh.Marshal(toPort{app, port}))
	if refused, ok := errors.AsType[*ssh.OpenChannelError](err); ok {
		if refused.Reason == ssh.UnknownChannelType {
			return nil, problem.Errorf(problem.Unsupported, "apps on this device cannot open ports")
		}
		return nil, &problem.Problem{Kind: problem.NotFound, Text: plain.Cut(plain.Line(refused.Message), 200) + ".", Remedy: "Start an app that opens it: earlybench run APP DEVICE"}
	}
	if err != nil {
		return nil, err
	}
	return c, nil
}

// port connects a bench to a port of an app.
func (s *served) port(n ssh.NewChannel) {
	var to toPort
	of, ok := s.body.(Porter)
	if !ok {
		n.Reject(ssh.UnknownChannelType, "apps on this device cannot open ports") //nolint:errcheck // nothing more to do
		return
	}
	if err := ssh.Unmarshal(n.ExtraData(), &to); err != nil {
		n.Reject(ssh.ConnectionFailed, "the name of the port cannot be read") //nolint:errcheck // as above
		return
	}
	ctx, cancel := context.WithTimeout(s.ctx, portWithin)
	far, err := of.DialPort(ctx, to.App, to.Port)
	cancel()
	if err != nil {
		n.Reject(ssh.ConnectionFailed, plain.Cut(plain.Line(err.Error()), 200)) //nolint:errcheck // as above
		return
	}
	s.join(n, far)
}
