package openssh

import (
	"errors"
	"io"
	"net"
	"net/url"
	"strings"
	"syscall"

	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/network"
)

// target is a user at an SSH server.
type target struct {
	user    string
	address string // host and port
}

// Scheme begins the address of an SSH server.
const Scheme = "ssh://"

// String is the address as it is on record.
func (t target) String() string { return Scheme + t.user + "@" + t.address }

const defaultPort = "22" // RFC 4253, section 4.1

// parse reads ssh://USER@HOST or ssh://USER@HOST:PORT.
func parse(s string) (target, error) {
	bad := func(what string) (target, error) {
		return target{}, &problem.Problem{Kind: problem.Invalid, Text: "The address " + quote(s) + " " + what + ".", Remedy: "Write it as ssh://USER@HOST or ssh://USER@HOST:PORT, such as ssh://board@192.168.7.40."}
	}
	if !strings.HasPrefix(s, Scheme) || len(s) > 255 {
		return bad("does not begin with ssh://, or is longer than 255 characters")
	}
	u, err := url.Parse(s)
	if err != nil {
		return bad("cannot be read")
	}
	if _, has := u.User.Password(); has {
		return bad("contains a password, which would be stored; you will be asked for it later")
	}
	if u.Path != "" || u.RawQuery != "" || u.Fragment != "" || u.Hostname() == "" {
		return bad("has no host, or something after it")
	}
	user := u.User.Username()
	if user == "" || strings.ContainsAny(user, " :@/\\\"'") || user != plain.Line(user) {
		return bad("has no user name, or an invalid one")
	}
	port := u.Port()
	if port == "" {
		port = defaultPort
	}
	if n, err := net.LookupPort("tcp", port); err != nil || n == 0 {
		return bad("has no valid port: give a number from 1 to 65535")
	}
	return target{user: user, address: net.JoinHostPort(u.Hostname(), port)}, nil
}

func quote(s string) string { return plain.Cut(plain.Line(s), 80) }

// line is a text of a device in one line.
func line(s string) string { return plain.Cut(plain.Line(s), 150) }

// trouble is an error in a few words for people.
func trouble(err error) error {
	_, noName := errors.AsType[*net.DNSError](err)
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, syscall.ECONNRESET):
		return errors.New("the server there ended the connection: it is not an SSH server, or accepts no more connections now")
	case noName:
		return errors.New("this computer cannot resolve that name")
	}
	return network.Trouble(err)
}
