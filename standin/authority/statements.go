package authority

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/authority"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/statement"
)

// statusGood is how long a status list is good.
const statusGood = 7 * 24 * time.Hour

// keys are those by which statements are checked.
func (a *Authority) keys() []developer.Public { return []developer.Public{a.signer.Public()} }

func (a *Authority) about() authority.About {
	return authority.About{Name: a.cfg.Name, Standings: a.cfg.Standings, Keys: a.keys()}
}

// Checker is how devices check what this authority has signed.
func (a *Authority) Checker() statement.Authority {
	return statement.Authority{Name: a.cfg.Name, Keys: a.keys()}
}

// Signs signs a grant or a debug token, as it may have done on another day. Its issuer is filled in.
func (a *Authority) Signs(s statement.Statement) (string, error) {
	s.Issuer = a.cfg.Name
	return statement.Sign(s, a.signer)
}

// Revokes withdraws a grant or a debug token of a crew, as one of its people would.
func (a *Authority) Revokes(crewName, id string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	c := a.Crews[crewName]
	if c == nil || c.Statements[id].ID == "" {
		return fmt.Errorf("crew %.60q has no statement %.80q", crewName, id)
	}
	a.end(c, id)
	return a.save()
}

func (a *Authority) end(c *crew, id string) authority.Issued {
	known := c.Statements[id]
	if known.Withdrawn.IsZero() {
		known.Withdrawn = a.now().Truncate(time.Second)
		c.Statements[id] = known
	}
	return known
}

func (a *Authority) statusList(w http.ResponseWriter, _ *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	withdrawn := []string{}
	for _, c := range a.Crews {
		for id, s := range c.Statements {
			if !s.Withdrawn.IsZero() && !a.over(s) {
				withdrawn = append(withdrawn, id)
			}
		}
	}
	slices.Sort(withdrawn)
	now := a.now()
	text, err := statement.SignStatus(statement.Status{Issuer: a.cfg.Name, Made: now.Unix(), Ends: now.Add(statusGood).Unix(), Withdrawn: withdrawn}, a.signer)
	if err != nil {
		refuse(w, http.StatusInternalServerError, authority.ProblemOther, "Not signed", err.Error())
		return
	}
	answerJSON(w, http.StatusOK, authority.StatusList{Text: text})
}

// over reports whether a statement has ended by itself.
func (a *Authority) over(i authority.Issued) bool {
	s, err := a.Checker().Read(i.Text)
	return err != nil || a.now().After(s.End())
}

func (a *Authority) statements(w http.ResponseWriter, _ *http.Request, c *crew) {
	all := slices.Collect(maps.Values(c.Statements))
	slices.SortFunc(all, func(x, y authority.Issued) int { return cmp.Compare(x.ID, y.ID) })
	answerJSON(w, http.StatusOK, authority.List[authority.Issued]{Items: append([]authority.Issued{}, all...)})
}

// issue signs a grant or a debug token. One that was issued before under the same id is
// answered again; mu is held.
func (a *Authority) issue(w http.ResponseWriter, r *http.Request, account string) {
	name := r.PathValue("crew")
	if !slices.Contains(a.Accounts[account].Crews, name) {
		refuse(w, http.StatusForbidden, authority.ProblemOther, "Not your crew", fmt.Sprintf("%s does not belong to the crew %q", account, name))
		return
	}
	c, id := a.Crews[name], r.PathValue("id")
	if known, ok := c.Statements[id]; ok {
		answerJSON(w, http.StatusOK, known)
		return
	}
	var wanted authority.Wanted
	if err := json.NewDecoder(r.Body).Decode(&wanted); err != nil {
		refuse(w, http.StatusBadRequest, authority.ProblemOther, "Not understood", "the body is not JSON")
		return
	}
	standing := a.standing(c.Standing)
	if status, kind, text := a.objects(c, standing, wanted); text != "" {
		refuse(w, status, kind, "Not issued", text)
		return
	}
	now := a.now().Truncate(time.Second)
	s := statement.Statement{Kind: statement.Grant, Issuer: a.cfg.Name, Subject: name + "/" + account, Confirmation: statement.Confirmation{Thumbprint: wanted.Key}, App: wanted.App,
		Devices: wanted.Devices, Debug: wanted.Debug, Features: append([]string{}, wanted.Features...), Made: now.Unix(), Begins: now.Add(-time.Minute).Unix(),
		Ends: now.AddDate(0, 0, standing.GrantDays).Unix(), ID: id}
	if wanted.Kind == authority.KindToken {
		s.Kind = statement.DebugToken
	}
	slices.Sort(s.Features)
	text, err := statement.Sign(s, a.signer)
	if err != nil {
		refuse(w, http.StatusBadRequest, authority.ProblemOther, "Not issued", err.Error())
		return
	}
	c.Statements[id] = authority.Issued{ID: id, Kind: wanted.Kind, Text: text}
	a.put(w, http.StatusCreated, c.Statements[id])
}

// objects is why a statement is not issued; "" for nothing.
func (a *Authority) objects(c *crew, s authority.Standing, w authority.Wanted) (status int, kind, text string) {
	var missing []string
	for _, d := range w.Devices {
		if _, in := c.Devices[d]; !in && d != statement.Any {
			missing = append(missing, d)
		}
	}
	lacked := slices.IndexFunc(w.Features, func(f string) bool { return slices.Contains(s.Lacks, f) })
	switch {
	case w.Kind != authority.KindGrant && w.Kind != authority.KindToken:
		return http.StatusBadRequest, authority.ProblemOther, "it is a grant or a debug token"
	case len(missing) > 0:
		return http.StatusConflict, authority.ProblemUnlisted, "not in the register of the crew: " + strings.Join(missing, ", ")
	case lacked >= 0:
		return http.StatusForbidden, authority.ProblemStanding, fmt.Sprintf("%q is not to be had with the standing %s", w.Features[lacked], s.Name)
	case w.Kind == authority.KindGrant && !a.certified(c, w.Key):
		return http.StatusConflict, authority.ProblemKey, "no certificate of the crew that is good is for this key"
	}
	return 0, "", ""
}

// certified reports whether a certificate of the crew is good that is for a key.
func (a *Authority) certified(c *crew, key string) bool {
	for serial, k := range c.Keys {
		if cert := c.Certificates[serial]; k == key && cert.Revoked.IsZero() && a.now().Before(cert.Ends) {
			return true
		}
	}
	return false
}

func (a *Authority) withdraw(w http.ResponseWriter, r *http.Request, c *crew) {
	id := r.PathValue("id")
	if c.Statements[id].ID == "" {
		refuse(w, http.StatusNotFound, authority.ProblemOther, "No such statement", "the crew has no grant or debug token of this id")
		return
	}
	a.put(w, http.StatusOK, a.end(c, id))
}
