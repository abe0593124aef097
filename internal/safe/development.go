package safe

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/internal/safe/holder"
)

// developmentSetting is the id of the bench's development key, by which it signs the apps that
// it packs.
const developmentSetting = "safe.development"

// haveDevelopmentKey makes the development key, or moves the one that was kept in a file.
func (s *Safe) haveDevelopmentKey(ctx context.Context) error {
	s.mu.Lock()
	mine := s.mine
	s.mu.Unlock()
	if mine == "" {
		method, in := holder.KeyMake, holder.Request{Name: "development key"}
		if _, err := os.Stat(s.cfg.OldKey); err == nil {
			method, in.File = holder.KeyTake, s.cfg.OldKey
		}
		out, err := s.call(ctx, method, in)
		if err != nil {
			return fmt.Errorf("put the development key into the safe: %w", err)
		}
		if err := s.cfg.Store.SetSetting(ctx, developmentSetting, out.Item.ID); err != nil {
			return err
		}
		s.mu.Lock()
		s.mine = out.Item.ID
		s.mu.Unlock()
	}
	if err := os.Remove(s.cfg.OldKey); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("remove the file of the development key, which is in the safe now: %w", err)
	}
	return nil
}

// Development is the id of the bench's development key; "" before there is a safe.
func (s *Safe) Development() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.mine
}

// Developer is the public half of the development key; the zero value before there is a safe.
func (s *Safe) Developer() developer.Public {
	i, ok := s.Item(s.Development())
	if !ok {
		return developer.Public{}
	}
	key, err := x509.ParsePKIXPublicKey(i.Public)
	if err != nil {
		return developer.Public{}
	}
	public, _ := developer.PublicOf(key) // the development key is on P-256
	return public
}

// SignApp is the purpose for which the development key is used.
const SignApp = "sign an app"

// DeveloperKey is the development key for one use, once that is allowed. Item and purpose of
// the use are filled in.
func (s *Safe) DeveloperKey(ctx context.Context, u Use) (*developer.Key, error) {
	u.Item, u.Purpose = s.Development(), SignApp
	if err := s.Allow(ctx, u); err != nil {
		return nil, err
	}
	key, err := s.Signer(ctx, u.Item)
	if err != nil {
		return nil, err
	}
	return developer.KeyOf(key)
}

// Thumbprint names the development key; "" before there is a safe.
func (s *Safe) Thumbprint() string {
	if public := s.Developer(); public.X != "" {
		return public.Thumbprint()
	}
	return ""
}
