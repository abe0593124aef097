// Package jump signs in at SSH servers of others, through which something else is reached (RFC 4254, section 7.2).
package jump

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/problem"
)

const (
	dialWithin  = 5 * time.Second
	shakeWithin = 10 * time.Second
)

// Server is an SSH server that somebody names.
type Server struct{ User, Address string }

// Parse reads ssh://USER@HOST[:PORT].
func Parse(s string) (Server, error) {
	u, err := url.Parse(s)
	if err != nil || u.Scheme != "ssh" || u.Hostname() == "" || u.User.Username() == "" || u.Path != "" || u.RawQuery != "" {
		return Server{}, problem.Errorf(problem.Invalid, "address %.200q is invalid: write it as ssh://USER@HOST or ssh://USER@HOST:PORT", s)
	}
	if _, secret := u.User.Password(); secret {
		return Server{}, problem.Errorf(problem.Invalid, "leave the password out of %s: the bench logs in with its key", u.Redacted())
	}
	port := u.Port()
	if port == "" {
		port = "22"
	}
	return Server{u.User.Username(), net.JoinHostPort(u.Hostname(), port)}, nil
}

// errLooked ends a connection that was made to see the server's key.
var errLooked = errors.New("the key was seen")

// Look returns the fingerprint of an SSH server's key. The bench does not sign in.
func Look(ctx context.Context, address string, key ssh.Signer) (fingerprint string, err error) {
	_, err = Dial(ctx, address, key, func(f string) error {
		fingerprint = f
		return errLooked
	})
	if fingerprint != "" {
		return fingerprint, nil
	}
	return "", err
}

// Dial signs in at an SSH server by a key, once check has accepted the fingerprint of the server's.
func Dial(ctx context.Context, address string, key ssh.Signer, check func(fingerprint string) error) (*ssh.Client, error) {
	s, err := Parse(address)
	if err != nil {
		return nil, err
	}
	d := net.Dialer{Timeout: dialWithin}
	conn, err := d.DialContext(ctx, "tcp", s.Address)
	if err != nil {
		return nil, problem.Errorf(problem.Unavailable, "reach the SSH server: %w", err)
	}
	conn.SetDeadline(time.Now().Add(shakeWithin)) //nolint:errcheck // a failed exchange tells
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	var refused error
	cfg := &ssh.ClientConfig{User: s.User, Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: func(_ string, _ net.Addr, k ssh.PublicKey) error {
		refused = check(ssh.FingerprintSHA256(k))
		return refused
	}}
	c, channels, requests, err := ssh.NewClientConn(conn, s.Address, cfg)
	switch {
	case refused != nil:
		conn.Close()
		return nil, refused
	case err != nil && strings.Contains(err.Error(), "unable to authenticate"):
		conn.Close()
		return nil, &problem.Problem{Kind: problem.Person, Text: fmt.Sprintf("%s does not let this bench in.", address),
			Remedy: "Add this line to that user's ~/.ssh/authorized_keys there: " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key.PublicKey()))) + " early-bench"}
	case err != nil:
		conn.Close()
		return nil, problem.Errorf(problem.Unavailable, "speak SSH with %s: %w", s.Address, err)
	}
	conn.SetDeadline(time.Time{}) //nolint:errcheck // it stands
	return ssh.NewClient(c, channels, requests), nil
}
