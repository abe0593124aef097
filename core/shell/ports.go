package shell

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
)

// Ports returns the ports of the device on its loopback interface, by their numbers.
func (s *Session) Ports() (device.Ports, error) { return ports{s}, nil }

type ports struct{ *Session }

func (p ports) Dial(ctx context.Context, name string) (io.ReadWriteCloser, error) {
	n, err := strconv.Atoi(name)
	if err != nil || n < 1 || n > 65535 {
		return nil, problem.Errorf(problem.Invalid, "%.40q is no port of this device: write a number from 1 to 65535", name)
	}
	return p.dial(ctx, n)
}

// screenWithin bounds looking for a VNC server.
const screenWithin = 3 * time.Second

// Screen returns the screen, where a VNC server runs on the device.
func (s *Session) Screen() (device.Screen, error) {
	ctx, cancel := context.WithTimeout(context.Background(), screenWithin)
	defer cancel()
	out, err := s.call(ctx, "listens", nil)
	if err != nil {
		return nil, fmt.Errorf("look for a VNC server: %w", err)
	}
	port := parseScreen(strings.Split(out, "\n"))
	if port == 0 {
		return nil, &problem.Problem{Kind: problem.Unsupported, Text: fmt.Sprintf("The device shows no screen: no VNC server listens at its ports %d to %d.", firstScreen, lastScreen),
			Remedy: "Start a VNC server on it, for connections from the device itself (127.0.0.1)."}
	}
	return screen{s, port}, nil
}

type screen struct {
	*Session
	port int
}

func (s screen) Open(ctx context.Context) (io.ReadWriteCloser, error) { return s.dial(ctx, s.port) }

// Admission returns that of the bench's key, which is let in by a line in ~/.ssh/authorized_keys.
func (s *Session) Admission() (device.Admission, error) { return admission{s}, nil }

type admission struct{ *Session }

// State is that of a bench that is logged in.
func (a admission) State(ctx context.Context) (device.Admittance, error) {
	if err := a.Alive(ctx); err != nil {
		return device.Admittance{}, a.lost(err)
	}
	return device.Admittance{State: device.Admitted, For: "until withdrawn"}, nil
}

// Ask is answered at once: who is logged in has been let in.
func (a admission) Ask(ctx context.Context, _ device.Visitor, report func(device.Admittance)) (device.Admittance, error) {
	state, err := a.State(ctx)
	if err == nil {
		report(state)
	}
	return state, err
}

// Withdraw takes the lines of the bench's key out of ~/.ssh/authorized_keys, and nothing else.
func (a admission) Withdraw(ctx context.Context) error {
	_, err := a.call(ctx, "key-drop", nil, blob(a.own))
	return err
}

// LetIn adds the bench's key to ~/.ssh/authorized_keys, if it is not there. comment says whose it is.
func (s *Session) LetIn(ctx context.Context, comment string) error {
	line := fmt.Sprintf("%s %s", strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.own))), plain.Line(comment))
	_, err := s.call(ctx, "key-put", nil, line, blob(s.own))
	return err
}

// blob is a key as it stands in a line, without its kind.
func blob(k ssh.PublicKey) string {
	return strings.Fields(string(ssh.MarshalAuthorizedKey(k)))[1]
}

// Restart restarts the device, where its user may.
func (s *Session) Restart(ctx context.Context) error {
	_, err := s.call(ctx, "restart", nil)
	return err
}
