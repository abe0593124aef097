package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"earlybench.invalid/earlybench/core/problem"
)

// Peer is another bench that this one knows.
type Peer struct {
	Name      string
	Key       string   // fingerprint
	Addresses []string // at which it is reached; none where only it connects
	Via       string   // SSH server through which it is reached; "" for directly
	ViaKey    string   // fingerprint of that server's key, which the owner has accepted
	Rights    PeerRights
	Added     time.Time
}

// PeerRights is what a peer may do with this bench's devices.
type PeerRights struct {
	All     string            `json:"all,omitempty"`     // look, use or hands, with every device; "" for nothing
	Devices map[string]string `json:"devices,omitempty"` // look, use, hands or nothing, by id of the device; it counts before All
	Signs   bool              `json:"signs,omitempty"`   // this bench signs its apps, each time with a consent
	Kits    []string          `json:"kits,omitempty"`    // kits of this bench that it may have
}

// RightHands is the right to use a device, and to ask for the hands of whoever is near it.
const RightHands = "hands"

// Of is what a peer may do with one device: look, use, or "" for nothing.
func (r PeerRights) Of(device string) string {
	if right := r.right(device); right != RightHands {
		return right
	}
	return "use"
}

// Hands reports whether a peer may ask for the hands of whoever is near a device.
func (r PeerRights) Hands(device string) bool { return r.right(device) == RightHands }

func (r PeerRights) right(device string) string {
	switch own, ok := r.Devices[device]; {
	case own == "nothing":
		return ""
	case ok:
		return own
	}
	return r.All
}

// Invitation is an invitation that was not used yet.
type Invitation struct {
	Digest string // SHA-256 of its secret
	Rights PeerRights
	Made   time.Time
	Ends   time.Time
}

// Peers returns the peers, by name.
func (s *Store) Peers(ctx context.Context) ([]Peer, error) {
	return query(ctx, s.db, func(r row) (p Peer, err error) {
		var addresses, rights, added string
		if err = r.Scan(&p.Name, &p.Key, &addresses, &p.Via, &p.ViaKey, &rights, &added); err != nil {
			return p, err
		}
		p.Added = moment(added)
		if err = json.Unmarshal([]byte(addresses), &p.Addresses); err == nil {
			err = json.Unmarshal([]byte(rights), &p.Rights)
		}
		return p, err
	}, `SELECT name, key, addresses, via, via_key, rights, added FROM peer ORDER BY name`)
}

// AddPeer saves a peer. used is the digest of the invitation that made it one, which is used up by
// that; "" for none.
func (s *Store) AddPeer(ctx context.Context, p Peer, used string) error {
	return s.change(ctx, "peer.changed", p.Name, func(tx *sql.Tx) error {
		if used != "" {
			if err := dropped(tx.ExecContext(ctx, `DELETE FROM invitation WHERE digest = ?`, used)); err != nil {
				return problem.Errorf(problem.Changed, "the invitation was used meanwhile: %w", err)
			}
		}
		addresses, rights, err := columns(p)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `INSERT INTO peer (name, key, addresses, via, via_key, rights, added) VALUES (?,?,?,?,?,?,?)`,
			p.Name, p.Key, addresses, p.Via, p.ViaKey, rights, stamp(p.Added))
		if err != nil {
			return err
		}
		return made(ctx, tx, "peer/"+p.Name)
	})
}

// ChangePeer changes where a peer is reached, and its rights.
func (s *Store) ChangePeer(ctx context.Context, p Peer) error {
	return s.change(ctx, "peer.changed", p.Name, func(tx *sql.Tx) error {
		addresses, rights, err := columns(p)
		if err != nil {
			return err
		}
		return dropped(tx.ExecContext(ctx, `UPDATE peer SET addresses = ?, via = ?, via_key = ?, rights = ? WHERE name = ?`, addresses, p.Via, p.ViaKey, rights, p.Name))
	})
}

func columns(p Peer) (addresses, rights string, err error) {
	if p.Addresses == nil {
		p.Addresses = []string{}
	}
	a, err := json.Marshal(p.Addresses)
	if err != nil {
		return "", "", err
	}
	r, err := json.Marshal(p.Rights)
	return string(a), string(r), err
}

// DropPeer forgets a peer.
func (s *Store) DropPeer(ctx context.Context, name string) error {
	return s.change(ctx, "peer.changed", name, func(tx *sql.Tx) error {
		return dropped(tx.ExecContext(ctx, `DELETE FROM peer WHERE name = ?`, name))
	})
}

// Invite keeps an invitation. Those that have ended are forgotten.
func (s *Store) Invite(ctx context.Context, i Invitation) error {
	rights, err := json.Marshal(i.Rights)
	if err != nil {
		return err
	}
	return s.change(ctx, "peer.changed", "", func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, `DELETE FROM invitation WHERE ends < ?`, stamp(i.Made)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `INSERT INTO invitation (digest, rights, made, ends) VALUES (?,?,?,?)`, i.Digest, string(rights), stamp(i.Made), stamp(i.Ends))
		return err
	})
}

// Invitation returns an invitation that was not used yet.
func (s *Store) Invitation(ctx context.Context, digest string) (Invitation, error) {
	all, err := query(ctx, s.db, func(r row) (i Invitation, err error) {
		var rights, made, ends string
		if err = r.Scan(&i.Digest, &rights, &made, &ends); err != nil {
			return i, err
		}
		i.Made, i.Ends = moment(made), moment(ends)
		return i, json.Unmarshal([]byte(rights), &i.Rights)
	}, `SELECT digest, rights, made, ends FROM invitation WHERE digest = ?`, digest)
	if err == nil && len(all) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return Invitation{}, err
	}
	return all[0], nil
}
