package authority

import (
	"cmp"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/authority"
)

func (a *Authority) routed() *http.ServeMux {
	m := http.NewServeMux()
	m.HandleFunc("GET /"+authority.MetadataPath, a.metadata)
	m.HandleFunc("POST /oauth/device", a.deviceCode)
	m.HandleFunc("POST /oauth/token", a.tokenFor)
	m.HandleFunc("POST /oauth/revoke", a.revoke)
	m.HandleFunc("GET /code", a.showPage)
	m.HandleFunc("POST /code", a.takePage)
	m.HandleFunc("GET /"+authority.AboutPath, func(w http.ResponseWriter, _ *http.Request) {
		answerJSON(w, http.StatusOK, a.about())
	})
	m.HandleFunc("POST /"+authority.EnterPath, a.enterItself)
	m.HandleFunc("GET /"+authority.AccountPath, a.signed(a.account))
	m.HandleFunc("GET /v1/crews/{crew}/devices", a.ofCrew(a.devices))
	m.HandleFunc("PUT /v1/crews/{crew}/devices/{serial}", a.ofCrew(a.register))
	m.HandleFunc("DELETE /v1/crews/{crew}/devices/{serial}", a.ofCrew(a.leave))
	m.HandleFunc("GET /v1/crews/{crew}/apps", a.ofCrew(a.apps))
	m.HandleFunc("PUT /v1/crews/{crew}/apps/{app}", a.ofCrew(a.takeApp))
	m.HandleFunc("POST /v1/crews/{crew}/enrolments", a.ofCrew(a.enrolment))
	m.HandleFunc("GET /v1/crews/{crew}/certificates", a.ofCrew(a.certificates))
	m.HandleFunc("DELETE /v1/crews/{crew}/certificates/{serial}", a.ofCrew(a.revokeCertificate))
	m.HandleFunc("GET /"+authority.StatusPath, a.statusList)
	m.HandleFunc("GET /v1/crews/{crew}/statements", a.ofCrew(a.statements))
	m.HandleFunc("PUT /v1/crews/{crew}/statements/{id}", a.signed(a.issue))
	m.HandleFunc("DELETE /v1/crews/{crew}/statements/{id}", a.ofCrew(a.withdraw))
	a.routeEST(m)
	return m
}

func refuse(w http.ResponseWriter, status int, kind, title, detail string, suggestions ...string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	json.NewEncoder(w).Encode(authority.Problem{Type: kind, Title: title, Detail: detail, Suggestions: suggestions}) //nolint:errcheck // the caller has gone
}

// signed lets through who is signed in. The handler holds mu.
func (a *Authority) signed(then func(w http.ResponseWriter, r *http.Request, account string)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		defer a.mu.Unlock()
		a.lapse()
		id, err := a.caller(r)
		if err != nil {
			code := "invalid_token"
			if errors.Is(err, authority.ErrClock) {
				code = "clock_differs"
			}
			w.Header().Set("WWW-Authenticate", `DPoP error="`+code+`"`) // RFC 9449, section 7.1
			refuse(w, http.StatusUnauthorized, authority.ProblemOther, "Not signed in", err.Error())
			return
		}
		then(w, r, id)
	}
}

// ofCrew lets through who belongs to the crew of the path.
func (a *Authority) ofCrew(then func(w http.ResponseWriter, r *http.Request, c *crew)) http.HandlerFunc {
	return a.signed(func(w http.ResponseWriter, r *http.Request, id string) {
		name := r.PathValue("crew")
		if !slices.Contains(a.Accounts[id].Crews, name) {
			refuse(w, http.StatusForbidden, authority.ProblemOther, "Not your crew", fmt.Sprintf("%s does not belong to the crew %q", id, name))
			return
		}
		then(w, r, a.Crews[name])
	})
}

func (a *Authority) standing(name string) authority.Standing {
	for _, s := range a.cfg.Standings {
		if s.Name == name {
			return s
		}
	}
	return a.cfg.Standings[0]
}

// lapse gives crews whose standing has ended the first one. Devices for which that has no place leave
// the register, those that were seen longest ago first; mu is held.
func (a *Authority) lapse() {
	now, first := a.now(), a.cfg.Standings[0]
	for _, c := range a.Crews {
		if c.StandingEnds.IsZero() || now.Before(c.StandingEnds) {
			continue
		}
		c.Standing, c.StandingEnds = first.Name, time.Time{}
		all := slices.SortedFunc(maps.Values(c.Devices), func(x, y authority.Entry) int {
			return cmp.Or(x.Seen.Compare(y.Seen), cmp.Compare(x.Serial, y.Serial))
		})
		for _, e := range all[:max(len(all)-first.Places, 0)] {
			delete(c.Devices, e.Serial)
		}
	}
}

func (a *Authority) account(w http.ResponseWriter, _ *http.Request, id string) {
	acc := a.Accounts[id]
	out := authority.Account{ID: id, Name: acc.Name}
	for _, name := range acc.Crews {
		c := a.Crews[name]
		out.Crews = append(out.Crews, authority.Crew{Name: name, Number: c.Number, Standing: a.standing(c.Standing), StandingEnds: c.StandingEnds, Used: len(c.Devices)})
	}
	answerJSON(w, http.StatusOK, out)
}

func (a *Authority) devices(w http.ResponseWriter, _ *http.Request, c *crew) {
	all := slices.Collect(maps.Values(c.Devices))
	slices.SortFunc(all, func(x, y authority.Entry) int { return cmp.Compare(x.Serial, y.Serial) })
	answerJSON(w, http.StatusOK, map[string]any{"items": append([]authority.Entry{}, all...)})
}

// put saves the records and answers; mu is held.
func (a *Authority) put(w http.ResponseWriter, status int, v any) {
	if err := a.save(); err != nil {
		refuse(w, http.StatusInternalServerError, authority.ProblemOther, "Not kept", err.Error())
		return
	}
	if v == nil {
		w.WriteHeader(status)
		return
	}
	answerJSON(w, status, v)
}

// register puts a device into the register. A device that is in it stays as it is.
func (a *Authority) register(w http.ResponseWriter, r *http.Request, c *crew) {
	var p authority.Place
	if err := json.NewDecoder(r.Body).Decode(&p); err != nil {
		refuse(w, http.StatusBadRequest, authority.ProblemOther, "Not understood", "the body is not JSON")
		return
	}
	a.place(w, c, authority.Entry{Serial: r.PathValue("serial"), Model: p.Model})
}

// place puts an entry into a crew's register; mu is held.
func (a *Authority) place(w http.ResponseWriter, c *crew, e authority.Entry) {
	now := a.now()
	if known, ok := c.Devices[e.Serial]; ok {
		known.Seen = now
		c.Devices[e.Serial] = known
		a.put(w, http.StatusOK, known)
		return
	}
	if err := authority.CheckSerial(e.Serial); err != nil {
		refuse(w, http.StatusBadRequest, authority.ProblemOther, "Not a serial", err.Error())
		return
	}
	if places := a.standing(c.Standing).Places; len(c.Devices) >= places {
		refuse(w, http.StatusConflict, authority.ProblemFull, "The register is full", fmt.Sprintf("all %d places are taken", places))
		return
	}
	e.Since, e.Seen = now, now
	c.Devices[e.Serial] = e
	a.put(w, http.StatusCreated, e)
}

func (a *Authority) leave(w http.ResponseWriter, r *http.Request, c *crew) {
	delete(c.Devices, r.PathValue("serial")) // once more is no error
	a.put(w, http.StatusNoContent, nil)
}

// enterItself is for devices that enter themselves by their crew's number.
func (a *Authority) enterItself(w http.ResponseWriter, r *http.Request) {
	var e authority.Entrance
	if err := json.NewDecoder(r.Body).Decode(&e); err != nil {
		refuse(w, http.StatusBadRequest, authority.ProblemOther, "Not understood", "the body is not JSON")
		return
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	c := a.byNumber(e.Number)
	if c == nil {
		refuse(w, http.StatusNotFound, authority.ProblemOther, "No such crew", "no crew has this number")
		return
	}
	a.place(w, c, authority.Entry{Serial: e.Serial, Model: e.Model, Self: true})
}

func (a *Authority) apps(w http.ResponseWriter, _ *http.Request, c *crew) {
	out := []authority.App{}
	for _, id := range slices.Sorted(maps.Keys(c.Apps)) {
		out = append(out, authority.App{ID: id, Since: c.Apps[id]})
	}
	answerJSON(w, http.StatusOK, map[string]any{"items": out})
}

func (a *Authority) takeApp(w http.ResponseWriter, r *http.Request, c *crew) {
	id := r.PathValue("crew") + "/" + r.PathValue("app")
	taken := func(id string) bool { return slices.Contains(a.cfg.Taken, id) }
	if err := authority.CheckAppID(id); err != nil {
		kind := authority.ProblemOther
		if errors.Is(err, authority.ErrPlaceholder) {
			kind = authority.ProblemPlaceholder
		}
		refuse(w, http.StatusUnprocessableEntity, kind, "Not an app id", err.Error(), authority.Suggest(r.PathValue("crew"), r.PathValue("app"), taken)...)
		return
	}
	if taken(id) {
		refuse(w, http.StatusConflict, authority.ProblemTaken, "The app id is taken", id+" belongs to somebody else", authority.Suggest(r.PathValue("crew"), r.PathValue("app"), taken)...)
		return
	}
	if since, ok := c.Apps[id]; ok {
		answerJSON(w, http.StatusOK, authority.App{ID: id, Since: since})
		return
	}
	c.Apps[id] = a.now()
	a.put(w, http.StatusCreated, authority.App{ID: id, Since: c.Apps[id]})
}

func (a *Authority) certificates(w http.ResponseWriter, _ *http.Request, c *crew) {
	all := slices.Collect(maps.Values(c.Certificates))
	slices.SortFunc(all, func(x, y authority.Certificate) int { return x.Ends.Compare(y.Ends) })
	answerJSON(w, http.StatusOK, map[string]any{"items": append([]authority.Certificate{}, all...)})
}

func (a *Authority) revokeCertificate(w http.ResponseWriter, r *http.Request, c *crew) {
	serial := strings.ToLower(r.PathValue("serial"))
	known, ok := c.Certificates[serial]
	if _, err := hex.DecodeString(serial); err != nil || !ok {
		refuse(w, http.StatusNotFound, authority.ProblemOther, "No such certificate", "the crew has no certificate with this serial number")
		return
	}
	if known.Revoked.IsZero() {
		known.Revoked = a.now().Truncate(time.Second)
		c.Certificates[serial] = known
	}
	a.put(w, http.StatusOK, known)
}
