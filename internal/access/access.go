// Package access defines who may do what: rights, actors, and keys for programs.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/problem"
	"earlybench.invalid/earlybench/internal/store"
)

// Right is what an operation requires of its actor.
type Right string

// The rights. Each of them includes [Look].
const (
	Look     Right = "look"     // see what is there
	Use      Right = "use"      // prepare devices, run apps
	Consent  Right = "consent"  // let a key be used: a person's yes
	Install  Right = "install"  // drivers on a host, another key of a device: the owner is asked again after a while
	Maintain Right = "maintain" // drivers, sheets, hosts
	Own      Right = "own"      // let others in, name directories of this computer
)

// Actor is who does something, or for whom it is done. The zero value may do nothing.
type Actor struct {
	Kind    string // owner, browser, phone, access
	Name    string
	Rights  []Right
	Key     string    // id of the access key; "" without one
	Ends    time.Time // of the access key; zero without one
	Devices []string  // ids of the only devices that the key is for; nil: all
}

// Kinds of actors.
const (
	OwnerKind   = "owner"
	BrowserKind = "browser"
	PhoneKind   = "phone"
	KeyKind     = "access"
)

// Owner is the bench's owner, who reaches its socket.
func Owner(name string) Actor {
	return Actor{Kind: OwnerKind, Name: name, Rights: []Right{Look, Use, Consent, Install, Maintain, Own}}
}

// Browser is a signed-in browser with a person in front of it.
func Browser(name string) Actor {
	return Actor{Kind: BrowserKind, Name: name, Rights: []Right{Look, Use, Consent}}
}

// JustSignedIn is a browser that the owner has let in a short time ago.
func JustSignedIn(name string) Actor {
	return Actor{Kind: BrowserKind, Name: name, Rights: []Right{Look, Use, Consent, Install}}
}

// Confirmed is a browser of which the owner has just confirmed that it is theirs: for a
// short time it may do all that the owner may.
func Confirmed(name string) Actor {
	return Actor{Kind: BrowserKind, Name: name, Rights: []Right{Look, Use, Consent, Install, Maintain, Own}}
}

// Phone is the browser of a phone with the page of one device.
func Phone(name string) Actor {
	return Actor{Kind: PhoneKind, Name: name, Rights: []Right{Look, Use}}
}

// May reports whether an actor has a right.
func (a Actor) May(r Right) bool {
	return slices.Contains(a.Rights, r) || r == Look && len(a.Rights) > 0
}

// Sees reports whether an actor may know of a device, by its id.
func (a Actor) Sees(device string) bool {
	return a.Devices == nil || slices.Contains(a.Devices, device)
}

// String returns the actor as written in the audit: kind/name.
func (a Actor) String() string { return a.Kind + "/" + a.Name }

type actorKey struct{}

// With returns a context that carries an actor.
func With(ctx context.Context, a Actor) context.Context { return context.WithValue(ctx, actorKey{}, a) }

// From returns the actor of a context; the zero Actor if there is none.
func From(ctx context.Context) Actor {
	a, _ := ctx.Value(actorKey{}).(Actor)
	return a
}

// Keys creates and verifies access keys. Only the SHA-256 digests of their secrets are
// kept.
type Keys struct {
	Store *store.Store
	Clock clock.Clock
}

// grantable are the rights that a key may have. Consent takes a person, and only the
// owner admits others.
var grantable = []Right{Look, Use, Maintain}

// longest is the longest time for which a key may be valid.
const longest = 366 * 24 * time.Hour

var nameShape = regexp.MustCompile(`^[a-z][a-z0-9-]{0,39}$`)

// prefix marks a text as an access key for people and tools.
const prefix = "ebkey-"

// Make creates a key and returns its secret, which cannot be read again.
func (k *Keys) Make(ctx context.Context, name string, rights []string, good time.Duration) (secret string, a store.Access, err error) {
	return k.make(ctx, store.Access{Name: name, Rights: rights}, good)
}

// MakeFor creates the key of a person who has no bench, for some devices and with one right, and returns
// the one-time secret that lets that person's browser in.
func (k *Keys) MakeFor(ctx context.Context, person string, right Right, devices []string, good time.Duration, page store.PersonPage) (ticket string, a store.Access, err error) {
	switch {
	case right != Look && right != Use:
		return "", a, problem.Errorf(problem.Invalid, "right %.40q cannot be given to a person on a page: use look or use", right)
	case len(devices) == 0:
		return "", a, problem.Errorf(problem.Invalid, "name the devices that %.40s may see", person)
	}
	ticket = rand.Text()
	page.Ticket = digest(ticket)
	_, a, err = k.make(ctx, store.Access{Name: person, Rights: []string{string(right)}, Devices: devices, Page: &page}, good)
	return ticket, a, err
}

// Enter lets the browser with a one-time secret in: the key gets a secret, which is returned. It can be
// used once. It returns ErrKey for one that was used, is unknown or has expired.
func (k *Keys) Enter(ctx context.Context, id, ticket string) (secret string, err error) {
	secret = prefix + rand.Text()
	stands, err := k.Stands(ctx, id)
	if err == nil && stands {
		err = k.Store.TakeTicket(ctx, id, digest(ticket), digest(secret))
	}
	switch {
	case err == nil && !stands, problem.KindOf(err) == problem.NotFound:
		return "", ErrKey
	case err != nil:
		return "", fmt.Errorf("let a browser in: %w", err)
	}
	return secret, nil
}

// Stands reports whether a key is valid now, by its id.
func (k *Keys) Stands(ctx context.Context, id string) (bool, error) {
	return k.Store.AccessStands(ctx, id, k.Clock.Now())
}

func (k *Keys) make(ctx context.Context, a store.Access, good time.Duration) (secret string, _ store.Access, err error) {
	name, rights := a.Name, a.Rights
	switch {
	case !nameShape.MatchString(name):
		return "", a, problem.Errorf(problem.Invalid, "name %.60q is invalid: start with a lower-case letter, then use up to 39 letters, digits or hyphens", name)
	case good <= 0 || good > longest:
		return "", a, problem.Errorf(problem.Invalid, "a key must end within a year: give its length, such as 720h")
	case len(rights) == 0:
		return "", a, problem.Errorf(problem.Invalid, "say what the key may do: look, use, maintain")
	}
	for _, r := range rights {
		if r == string(Consent) || r == string(Own) {
			return "", a, problem.Errorf(problem.Refused, "a key cannot have the right %s: only people have it", r)
		}
		if !slices.Contains(grantable, Right(r)) {
			return "", a, problem.Errorf(problem.Invalid, "unknown right %.40q: use look, use or maintain", r)
		}
	}
	slices.Sort(rights)
	now := k.Clock.Now().UTC()
	secret = prefix + rand.Text()
	a.ID, a.Secret, a.Rights, a.Created, a.Ends = store.NewID(), digest(secret), slices.Compact(rights), now, now.Add(good)
	if err := k.Store.AddAccess(ctx, a); err != nil {
		return "", a, err
	}
	return secret, a, nil
}

// ErrKey is the error for an invalid key: unknown, revoked or expired.
var ErrKey = problem.New(problem.Refused, "this access key is not valid here, or has ended")

// Check returns the actor whose key a secret is.
func (k *Keys) Check(ctx context.Context, secret string) (Actor, error) {
	if !strings.HasPrefix(secret, prefix) {
		return Actor{}, ErrKey
	}
	now := k.Clock.Now()
	a, err := k.Store.AccessBy(ctx, digest(secret), now)
	if problem.KindOf(err) == problem.NotFound || err == nil && !now.Before(a.Ends) {
		return Actor{}, ErrKey
	}
	if err != nil {
		return Actor{}, fmt.Errorf("look a key up: %w", err)
	}
	actor := Actor{Kind: KeyKind, Name: a.Name, Key: a.ID, Ends: a.Ends.UTC(), Devices: a.Devices}
	for _, r := range a.Rights {
		actor.Rights = append(actor.Rights, Right(r))
	}
	return actor, nil
}

func digest(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}
