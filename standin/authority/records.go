package authority

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"golang.org/x/crypto/bcrypt"

	"earlybench.invalid/earlybench/core/authority"
)

// records are what an authority keeps. The authority's mu guards them.
type records struct {
	file string
	kept
}

// kept is what is written to disk.
type kept struct {
	Accounts map[string]*account `json:"accounts"` // by id
	Crews    map[string]*crew    `json:"crews"`
}

// account is somebody who can sign in.
type account struct {
	Name     string                `json:"name"`
	Password []byte                `json:"password"` // bcrypt
	Crews    []string              `json:"crews"`
	Keys     map[string]signedInBy `json:"keys"` // by thumbprint: who has signed in
}

// signedInBy is a key with which somebody has signed in.
type signedInBy struct {
	X    string    `json:"x"`
	Y    string    `json:"y"`
	Ends time.Time `json:"ends"`
}

// crew is a group with its register, apps and certificates.
type crew struct {
	Number       string                           `json:"number"`
	Standing     string                           `json:"standing"`
	StandingEnds time.Time                        `json:"standing_ends,omitzero"`
	Devices      map[string]authority.Entry       `json:"devices"` // by serial
	Apps         map[string]time.Time             `json:"apps"`    // by id
	Certificates map[string]authority.Certificate `json:"certificates"`
	Keys         map[string]string                `json:"keys"`       // thumbprint by serial number of the certificate
	Statements   map[string]authority.Issued      `json:"statements"` // by id
}

func readRecords(dir string) (records, error) {
	r := records{file: filepath.Join(dir, "records.json"), kept: kept{map[string]*account{}, map[string]*crew{}}}
	raw, err := os.ReadFile(r.file)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &r.kept)
	}
	if err != nil {
		return r, fmt.Errorf("authority: read its records: %w", err)
	}
	for _, c := range r.Crews { // records of an earlier version have none
		if c.Statements == nil {
			c.Keys, c.Statements = map[string]string{}, map[string]authority.Issued{}
		}
	}
	return r, nil
}

// save writes the records.
func (r *records) save() error {
	raw, err := json.Marshal(r.kept)
	if err != nil {
		return err
	}
	if err := os.WriteFile(r.file+".new", raw, 0o600); err != nil {
		return err
	}
	return os.Rename(r.file+".new", r.file)
}

var (
	errAccount  = errors.New("there is no such account, or the password is another")
	errTaken    = errors.New("the name is taken: choose another")
	errPassword = errors.New("the password has at least 8 characters")
)

// enter finds an account by name and password.
func (r *records) enter(id, password string) (*account, error) {
	a := r.Accounts[id]
	if a == nil || bcrypt.CompareHashAndPassword(a.Password, []byte(password)) != nil {
		return nil, errAccount
	}
	return a, nil
}

// addAccount makes an account with a crew of its own.
func (r *records) addAccount(id, name, password, crewName string, standing authority.Standing, now time.Time) (*account, error) {
	if len(password) < 8 {
		return nil, errPassword
	}
	if err := authority.CheckCrew(id); err != nil {
		return nil, fmt.Errorf("account name: %w", err)
	}
	if err := authority.CheckCrew(crewName); err != nil {
		return nil, err
	}
	if r.Accounts[id] != nil || r.Crews[crewName] != nil {
		return nil, errTaken
	}
	hash, err := bcrypt.GenerateFromPassword([]byte(password), bcrypt.MinCost)
	if err != nil {
		return nil, err
	}
	a := &account{Name: name, Password: hash, Crews: []string{crewName}, Keys: map[string]signedInBy{}}
	r.Accounts[id] = a
	c := &crew{Number: r.number(), Standing: standing.Name, Devices: map[string]authority.Entry{}, Apps: map[string]time.Time{}, Certificates: map[string]authority.Certificate{},
		Keys: map[string]string{}, Statements: map[string]authority.Issued{}}
	if standing.Days > 0 {
		c.StandingEnds = now.AddDate(0, 0, standing.Days)
	}
	r.Crews[crewName] = c
	return a, nil
}

// Seed is a crew that is there from the beginning, with the account of one of its people.
type Seed struct {
	Account  string            `json:"account"`
	Name     string            `json:"name"`
	Password string            `json:"password"`
	Crew     string            `json:"crew"`
	Number   string            `json:"number"`
	Standing string            `json:"standing"`
	Serials  map[string]string `json:"serials"` // of devices in its register, with their models
}

// seed adds a crew, unless it is there.
func (r *records) seed(s Seed, standing authority.Standing, now time.Time) error {
	if r.Crews[s.Crew] != nil {
		return nil
	}
	if _, err := r.addAccount(s.Account, s.Name, s.Password, s.Crew, standing, now); err != nil {
		return err
	}
	c := r.Crews[s.Crew]
	c.Number = s.Number
	for serial, model := range s.Serials {
		c.Devices[serial] = authority.Entry{Serial: serial, Model: model, Since: now, Seen: now, Self: true}
	}
	return r.save()
}

// number makes a crew's number: eight digits that no other has, the next one each time.
func (r *records) number() string {
	return fmt.Sprintf("4182 %04d", 7730+17*len(r.Crews))
}

// byNumber finds a crew by its number.
func (r *records) byNumber(number string) *crew {
	for _, name := range slices.Sorted(maps.Keys(r.Crews)) {
		if r.Crews[name].Number == number {
			return r.Crews[name]
		}
	}
	return nil
}

// Places is how many places of a crew's register are taken.
func (a *Authority) Places(name string) int {
	a.mu.Lock()
	defer a.mu.Unlock()
	if c := a.Crews[name]; c != nil {
		return len(c.Devices)
	}
	return 0
}
