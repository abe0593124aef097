package authority

import (
	_ "embed"
	"html/template"
	"net/http"
	"strings"

	"earlybench.invalid/earlybench/core/authority"
)

// The page on which a person types the code of a sign-in, signs in or makes an account, and
// chooses a standing. The authority's own, not the bench's.

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Parse(pageText))

// shown is what the page shows.
type shown struct {
	Name      string
	Code      string
	Trouble   string
	Done      string // what was done; then nothing is asked
	Standings []authority.Standing
	Account   string // as it was typed
	Making    bool
}

func (a *Authority) showPage(w http.ResponseWriter, r *http.Request) {
	a.answerPage(w, http.StatusOK, shown{Code: r.URL.Query().Get("code"), Making: r.URL.Query().Has("new")})
}

func (a *Authority) answerPage(w http.ResponseWriter, status int, s shown) {
	s.Name, s.Standings = a.cfg.Name, a.cfg.Standings
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'; base-uri 'none'")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	page.Execute(w, s) //nolint:errcheck // the browser has gone
}

// takePage takes what a person has typed. Only a page of this authority may send it.
func (a *Authority) takePage(w http.ResponseWriter, r *http.Request) {
	if site := r.Header.Get("Sec-Fetch-Site"); site != "" && site != "same-origin" {
		http.Error(w, "this form is sent from the page of the authority only", http.StatusForbidden)
		return
	}
	s := shown{Code: strings.ToUpper(strings.TrimSpace(r.FormValue("code"))), Account: strings.TrimSpace(r.FormValue("account")), Making: r.FormValue("do") == "make"}
	a.mu.Lock()
	defer a.mu.Unlock()
	c := a.byUserCode(s.Code)
	if c == nil {
		s.Trouble = "No bench waits with this code. It is good for ten minutes, and once."
		a.answerPage(w, http.StatusNotFound, s)
		return
	}
	if r.FormValue("do") == "refuse" {
		c.refused = true
		s.Done = "The bench was not let in. You can close this page."
		a.answerPage(w, http.StatusOK, s)
		return
	}
	var err error
	if s.Making {
		_, err = a.addAccount(s.Account, strings.TrimSpace(r.FormValue("name")), r.FormValue("password"), strings.TrimSpace(r.FormValue("crew")), a.standing(r.FormValue("standing")), a.now())
	} else {
		_, err = a.enter(s.Account, r.FormValue("password"))
	}
	if err == nil {
		err = a.save()
	}
	if err != nil {
		s.Trouble = err.Error()
		a.answerPage(w, http.StatusUnprocessableEntity, s)
		return
	}
	c.account = s.Account
	s.Done = s.Account + " is signed in at the bench that showed " + s.Code + ". You can close this page."
	a.answerPage(w, http.StatusOK, s)
}

// byUserCode finds a sign-in that waits; mu is held.
func (a *Authority) byUserCode(typed string) *code {
	plain := func(s string) string { return strings.ReplaceAll(strings.ReplaceAll(s, "-", ""), " ", "") }
	for _, c := range a.codes {
		if plain(c.user) == plain(typed) && c.account == "" && !c.refused && a.now().Before(c.ends) {
			return c
		}
	}
	return nil
}
