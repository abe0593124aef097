package cause_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
)

// seenBy is by which facts the bench knows what a check asks; that fact known, nobody
// is asked.
var seenBy = map[string][]fact.Key{
	"host-drivers": {fact.DriverOffered}, "ended-at": {fact.AppFailed}, "kit-list": {fact.KitState}, "signer-says": {fact.SignerState},
	"machine-running": {fact.USBHolder}, "lent-with-usb": {fact.USBLent}, "lender-says": {fact.LoanAway}, "machine-lists-it": {fact.USBHolder}, "was-asleep": {fact.Asleep}, "screen-shows": {fact.AdmitState},
	"who-answered": {fact.AdmitState}, "room": {fact.AppFailed}, "unlock": {fact.LinkUp}, "support-says": {fact.SupportState},
	"depot-reached": {fact.DepotState}, "authority-reached": {fact.AuthorityUp}, "signed-in": {fact.AccountState, fact.Standing},
	"places": {fact.RegisterState}, "grant-says": {fact.GrantState}, "token-page": {fact.TokenState}, "clock-of-device": {fact.DeviceClock},
	"clock-of-computer": {fact.HostClock}, "list-shows": {fact.AcceptStopped}, "choice-stands": {fact.ModeComputers}, "worked-before": {fact.Met},
	"back-room": {fact.USBLink}, "which-network": {fact.AirNetwork}, "others-heard": {fact.AirQuiet},
}

// onlyAPerson are the checks of which no computer can see the answer, and why.
var onlyAPerson = map[string]string{
	"plugged": "whether a plug sits", "charging": "a cable without data draws power silently", "power-button": "what a screen shows before a link",
	"other-cable": "it is done with hands", "other-port": "it is done with hands", "wiggle": "it is done with hands", "wiped": "what somebody did",
	"status-list": "the list is fetched at the next connection only", "certificate-says": "where no identity is kept here yet",
	"visitors-page": "a page of the device before a link", "letters-known": "what somebody remembers",
	"answers-echo": "this bench sends no echo requests", "login-says": "a person's own terminal", "address-it-says": "a page of the device before a link",
	"figures-taken": "what somebody typed", "lodgers-page": "a page of the device before a link", "dial-set": "a page of the device before a link", "about-says": "where the release was never seen",
	"on-cradle": "where a watch lies", "flame": "a page of the device before a link",
}

func TestACheckWhoseAnswerTheBenchCanSeeIsNeverAskedOfAPerson(t *testing.T) {
	lib := library(t)
	found := map[string]bool{}
	all := []*sheet.Sheet{lib.Base("any")}
	for _, series := range lib.All() {
		all = append(all, series.Sheets...)
	}
	for _, s := range all {
		for _, c := range s.Checks {
			keys, known := seenBy[c.ID]
			_, person := onlyAPerson[c.ID]
			require.True(t, known != person, "%s, check %s: say in this test by which facts the bench knows its answer, or why only a person can", s.Name, c.ID)
			if !known {
				continue
			}
			found[c.ID] = true
			var uses []fact.Key
			if c.When != nil {
				uses = append(uses, c.When.Facts...)
			}
			for _, a := range c.Answers {
				if a.Seen != nil {
					uses = append(uses, a.Seen.Facts...)
				}
			}
			for _, k := range keys {
				require.True(t, slices.Contains(uses, k), "%s, check %s: it does not go by %s", s.Name, c.ID, k)
			}
		}
	}
	require.Len(t, found, len(seenBy), "every check of this list is in some sheet")
}
