package openssh

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/core/shell"
	"earlybench.invalid/earlybench/internal/network"
)

// errLooked ends a connection that was made to learn a key.
var errLooked = errors.New("only the key was asked for")

// model is the code of the model of which such devices are.
const model = "ssh"

// Login puts a server's device on record, once a person has confirmed its key. If it does not know the
// bench's key, the password is used to add the key, and is not stored.
func (s *Servers) Login(ctx context.Context, l network.Login) (string, error) {
	e, err := s.find(l.Name)
	if err != nil {
		return "", err
	}
	t, err := parse(e.Addresses[0])
	if err != nil {
		return "", err
	}
	session, err := s.letIn(ctx, t, e, l)
	if err != nil {
		return "", err
	}
	about, err := session.About(ctx)
	session.Close()
	if err != nil {
		return "", err
	}
	d := introduction.Description{Name: about.Name, Family: shell.Family, Model: model, Release: string(about.Release)}
	k, err := s.cfg.Rack.Introduced(ctx, l.Accept, d, l.As)
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	if v := s.servers[t.String()]; v != nil {
		v.key, v.trouble = l.Accept, ""
	}
	s.mu.Unlock()
	return k.Device().Handle, s.belongs(ctx, k, t.String())
}

// letIn logs in with the bench's key, after adding the key with the password if that is needed.
func (s *Servers) letIn(ctx context.Context, t target, e network.Entry, l network.Login) (*shell.Session, error) {
	accept, err := s.accepts(e, l)
	if err != nil {
		return nil, err
	}
	session, err := s.dial(ctx, t, l.Accept, nil, accept)
	if err == nil || !errors.Is(err, shell.ErrNotLetIn) {
		return session, s.refused(t, err)
	}
	if l.Password == "" {
		return nil, &problem.Problem{Kind: problem.Person, Text: fmt.Sprintf("The device at %s does not know the key of this bench.", t.address),
			Remedy: fmt.Sprintf("Give the password of its user %s once: earlybench network login %s --accept %s. It is used to add the key, and is not stored.", t.user, e.Name, l.Accept)}
	}
	once, err := s.byPassword(ctx, t, l, accept)
	if errors.Is(err, shell.ErrNotLetIn) {
		return nil, &problem.Problem{Kind: problem.Refused, Text: fmt.Sprintf("The device at %s did not accept that password for its user %s, or does not accept passwords.", t.address, t.user),
			Remedy: "Try again; or add this line to its ~/.ssh/authorized_keys yourself: " + s.ownLine()}
	}
	if err != nil {
		return nil, s.refused(t, err)
	}
	defer once.Close()
	if err := once.LetIn(ctx, s.comment()); err != nil {
		return nil, fmt.Errorf("add the key of this bench: %w", err)
	}
	session, err = s.dial(ctx, t, l.Accept, nil, accept)
	if err == nil {
		return session, nil
	}
	taken := "It was removed again."
	if admission, aerr := once.Admission(); aerr != nil || admission.Withdraw(ctx) != nil {
		taken = "It could not be removed again."
	}
	return nil, &problem.Problem{Kind: problem.Failed, Text: fmt.Sprintf("The key of this bench was added to ~/.ssh/authorized_keys of %s, but the server still does not accept it: %s. %s", t.user, line(err.Error()), taken),
		Remedy: "Find out which file its server reads keys from (AuthorizedKeysFile), and add this line there: " + s.ownLine()}
}

// comment names the owner of the key in ~/.ssh/authorized_keys.
func (s *Servers) comment() string { return "early-bench " + s.cfg.Bench() }

// ownLine is the line that lets the bench's key in.
func (s *Servers) ownLine() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.cfg.Key.PublicKey()))) + " " + s.comment()
}

// accepts returns the check of the device key that a person has confirmed.
func (s *Servers) accepts(e network.Entry, l network.Login) (func(string) error, error) {
	switch {
	case l.Accept == "" && e.Key == "":
		return nil, &problem.Problem{Kind: problem.Unavailable, Text: fmt.Sprintf("Nothing has answered at %s yet: %s.", e.Addresses[0], e.Trouble), Remedy: "Check that it is on and its SSH server is running: earlybench network add " + e.Addresses[0]}
	case l.Accept == "":
		return nil, &problem.Problem{Kind: problem.Person, Text: fmt.Sprintf("The device key at %s is %s.", e.Addresses[0], e.Key),
			Remedy: fmt.Sprintf("Compare it with the device's own (there: ssh-keygen -lf /etc/ssh/ssh_host_ed25519_key.pub), and give it: earlybench network login %s --accept %s", e.Name, e.Key)}
	}
	if err := s.cfg.Rack.CheckIntroduction(l.Accept, introduction.Description{Family: shell.Family, Model: model}, l.As); err != nil {
		return nil, err
	}
	return device.Pinned(l.Accept), nil
}

// refused is an error of logging in, for people.
func (s *Servers) refused(t target, err error) error {
	if err == nil {
		return nil
	}
	if changed, ok := errors.AsType[*device.KeyChanged](err); ok {
		return &problem.Problem{Kind: problem.Changed, Text: fmt.Sprintf("The device at %s shows the key %s, which is not the one that was confirmed (%s).", t.address, changed.Shown, changed.Pinned),
			Remedy: "Do not type a password there. Find out who answers at that address, and look again: earlybench network add " + t.String()}
	}
	return problem.Errorf(problem.Unavailable, "log in at %s: %w", t.address, trouble(err))
}

// byPassword logs in by a password: as one (RFC 4252, section 8), or where the server does not take it in that
// way, as the answer to its question (RFC 4256).
func (s *Servers) byPassword(ctx context.Context, t target, l network.Login, accept func(string) error) (*shell.Session, error) {
	taken := false
	session, err := s.dial(ctx, t, l.Accept, []ssh.AuthMethod{ssh.PasswordCallback(func() (string, error) { taken = true; return l.Password, nil })}, accept)
	if taken || !errors.Is(err, shell.ErrNotLetIn) {
		return session, err
	}
	asked := false
	session, err = s.dial(ctx, t, l.Accept, []ssh.AuthMethod{ssh.KeyboardInteractive(func(_, _ string, questions []string, shown []bool) ([]string, error) {
		answers := make([]string, len(questions))
		for i := range questions {
			if shown[i] || asked { // something else than a password
				return nil, errMore
			}
			answers[i], asked = l.Password, true
		}
		return answers, nil
	})}, accept)
	if err != nil && !asked {
		err = shell.ErrNotLetIn
	}
	return session, err
}

var errMore = errors.New("the server asks for more than a password")
