package cause_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/cause"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
)

// facts makes observed facts, each by its key's strongest source.
func facts(s *sheet.Sheet, values map[fact.Key]any) []fact.Fact {
	var out []fact.Fact
	for k, v := range values {
		spec, ok := s.Registry.Lookup(k)
		if !ok {
			panic(string(k))
		}
		out = append(out, seen(k, value(v), spec.Sources[0]))
	}
	return out
}

func value(v any) fact.Value {
	switch v := v.(type) {
	case bool:
		return fact.Of(v)
	case int:
		return fact.Of(v)
	case string:
		return fact.Of(v)
	case fact.Release:
		return fact.Of(v)
	case time.Time:
		return fact.Of(v)
	}
	panic("no such value")
}

// well is what is seen of a device of each family with which nothing is wrong.
var well = map[string]map[fact.Key]any{
	"tarn": {fact.USBPresent: true, fact.USBLink: true, fact.USBHolder: "", fact.DriverBound: true, fact.DriverOffered: "halden-link", fact.AdmitState: "admitted",
		fact.LinkUp: true, fact.LinkKey: "known", fact.ModeComputers: "install", fact.OSRelease: fact.Release("12"), fact.KitState: "here", fact.AppTried: true},
	"ostler": {fact.USBPresent: true, fact.USBLink: true, fact.USBHolder: "", fact.Battery: 80, fact.DriverBound: true, fact.DriverOffered: "whimbrel-link", fact.AdmitState: "admitted",
		fact.LinkUp: true, fact.LinkKey: "known", "mode.lodgers": true, fact.SupportState: "here", fact.DepotState: "up", fact.RegisterState: "in",
		fact.AccountState: "in", fact.AuthorityUp: "up", fact.Standing: "enough", fact.GrantState: "good", fact.GrantEnds: now.Add(90 * 24 * time.Hour),
		fact.HostClock: 0, fact.DeviceClock: 0, fact.AppTried: true},
	"kestle": {fact.USBPresent: true, fact.USBLink: true, fact.USBHolder: "", fact.DriverBound: true, fact.DriverOffered: "kestle-link", fact.AdmitState: "admitted", fact.LinkUp: true,
		fact.LinkKey: "known", fact.RegisterState: "in", fact.AccountState: "in", fact.AuthorityUp: "up", fact.Standing: "enough", fact.TokenState: "good", fact.TokenEnds: now.Add(90 * 24 * time.Hour), fact.HostClock: 0, fact.DeviceClock: 0, fact.AppTried: true},
	"wick":  {fact.AirSeen: true, fact.AirNetwork: "same", fact.Asleep: false, "mode.loose": true, fact.RegisterState: "in", fact.GrantState: "good", fact.AdmitState: "admitted", fact.LinkKey: "known", fact.LinkUp: true, fact.AppTried: true},
	"linux": {fact.AirSeen: true, fact.AirNetwork: "same", fact.AdmitState: "admitted", fact.LinkKey: "known", fact.LinkUp: true, fact.AppTried: true},
}

func ofFamily(t *testing.T, family string) *sheet.Sheet {
	t.Helper()
	for _, s := range library(t).All() {
		if s.Family == family {
			return s.At("")
		}
	}
	require.Fail(t, "no such family", family)
	return nil
}

func TestADeviceWithWhichNothingIsWrongIsReadyInEveryFamily(t *testing.T) {
	for family, known := range well {
		s := ofFamily(t, family)
		q, e := ask(s, nil, facts(s, known)...)
		require.Empty(t, e.Gate, "%s: %s", family, e.Text)
		require.Nil(t, cause.Next(q, e))
		require.NotEmpty(t, e.Evidence, family)
	}
}

// TestWhatIsObservedNamesItsFault takes one thing after another from devices
// with which nothing is wrong: the gate shuts that is meant, and the cause is
// named by what was seen, before anybody is asked.
func TestWhatIsObservedNamesItsFault(t *testing.T) {
	type seen = map[fact.Key]any
	for _, c := range []struct {
		family, cause, gate string
		seen                seen
	}{
		{"tarn", "held-by-machine", "seen", seen{fact.DriverBound: false, fact.USBHolder: "pit"}},
		{"tarn", "lent-away", "linked", seen{fact.LinkUp: false, fact.LoanAway: "the way in is hidden again"}},
		{"tarn", "usb-lent", "linked", seen{fact.LinkUp: false, fact.USBLent: "moor-desk"}},
		{"tarn", "driver-missing", "driver", seen{fact.DriverBound: false, fact.DriverOffered: ""}},
		{"tarn", "driver-not-bound", "driver", seen{fact.DriverBound: false, fact.DriverState: "fetched"}},
		{"tarn", "driver-unsigned", "driver", seen{fact.DriverBound: false, fact.DriverState: "unsigned"}},
		{"tarn", "driver-similar", "driver", seen{fact.DriverBound: false, fact.DriverState: "similar"}},
		{"tarn", "may-not-install", "mode", seen{fact.ModeComputers: "debug"}},
		{"tarn", "never-asked", "admitted", seen{fact.AdmitState: "none", fact.LinkUp: false}},
		{"tarn", "question-unanswered", "admitted", seen{fact.AdmitState: "asking"}},
		{"tarn", "question-refused", "admitted", seen{fact.AdmitState: "refused"}},
		{"tarn", "question-expired", "admitted", seen{fact.AdmitState: "expired"}},
		{"tarn", "question-busy", "admitted", seen{fact.AdmitState: "busy"}},
		{"tarn", "key-changed", "admitted", seen{fact.AdmitState: "none", fact.LinkKey: "changed"}},
		{"tarn", "locked", "linked", seen{fact.LinkUp: false, fact.Locked: true}},
		{"tarn", "release-too-old", "support", seen{fact.OSRelease: fact.Release("8")}},
		{"tarn", "kit-missing", "kit", seen{fact.KitState: "missing"}},
		{"tarn", "program-missing", "kit", seen{fact.KitState: "program"}},
		{"tarn", "kit-path", "kit", seen{fact.KitState: "path"}},
		{"tarn", "kit-broken", "kit", seen{fact.KitState: "broken", fact.KitOffer: ""}},
		{"kestle", "kit-moved", "kit", seen{fact.KitState: "broken", fact.KitOffer: "/opt/x"}},
		{"tarn", "kit-moved", "kit", seen{fact.KitState: "version", fact.KitOffer: "/opt/x"}},
		{"ostler", "kit-version", "kit", seen{fact.KitState: "version", fact.KitOffer: ""}},
		{"tarn", "signer-away", "signer", seen{fact.SignerState: "away"}},
		{"ostler", "signer-locked", "signer", seen{fact.SignerState: "locked"}},
		{"kestle", "signer-refuses", "signer", seen{fact.SignerState: "refused"}},
		{"tarn", "kit-unknown", "kit", seen{fact.KitState: "unknown"}},
		{"tarn", "storage-full", "tried", seen{fact.AppTried: false, fact.AppFailed: "space"}},
		{"tarn", "cable-pulled", "tried", seen{fact.AppTried: false, fact.AppFailed: "lost"}},
		{"tarn", "app-broken", "tried", seen{fact.AppTried: false, fact.AppFailed: "log"}},
		{"ostler", "battery-low", "awake", seen{fact.Battery: 4}},
		{"ostler", "support-missing", "support", seen{fact.SupportState: "missing"}},
		{"ostler", "support-not-fetched", "support", seen{fact.SupportState: "partly"}},
		{"ostler", "support-outdated", "support", seen{fact.SupportState: "outdated"}},
		{"ostler", "depot-slow", "support", seen{fact.SupportState: "partly", fact.DepotState: "slow"}},
		{"ostler", "depot-cut", "support", seen{fact.SupportState: "partly", fact.DepotState: "cut"}},
		{"ostler", "not-registered", "registered", seen{fact.RegisterState: "out"}},
		{"ostler", "register-full", "registered", seen{fact.RegisterState: "full"}},
		{"ostler", "account-out", "registered", seen{fact.RegisterState: "out", fact.AccountState: "out"}},
		{"ostler", "standing-low", "granted", seen{fact.GrantState: "withheld", fact.Standing: "low"}},
		{"ostler", "authority-down", "registered", seen{fact.RegisterState: "out", fact.AuthorityUp: "down"}},
		{"ostler", "authority-slow", "registered", seen{fact.RegisterState: "out", fact.AuthorityUp: "slow"}},
		{"ostler", "grant-missing", "granted", seen{fact.GrantState: "none"}},
		{"ostler", "grant-ended", "granted", seen{fact.GrantState: "ended"}},
		{"ostler", "grant-withdrawn", "granted", seen{fact.GrantState: "withdrawn"}},
		{"ostler", "grant-of-another", "granted", seen{fact.GrantState: "other"}},
		{"ostler", "grant-unnamed", "granted", seen{fact.GrantState: "unnamed"}},
		{"ostler", "app-not-signed", "granted", seen{fact.GrantState: "unsigned"}},
		{"ostler", "grant-lacking", "granted", seen{fact.GrantState: "lacking"}},
		{"ostler", "identity-ended", "granted", seen{fact.GrantState: "identity"}},
		{"ostler", "host-clock-wrong", "granted", seen{fact.GrantState: "ended", fact.HostClock: 86400, fact.DeviceClock: nil}}, // judged by this computer's clock
		{"kestle", "token-missing", "token", seen{fact.TokenState: "none"}},
		{"kestle", "token-ended", "token", seen{fact.TokenState: "ended"}},
		{"kestle", "device-clock-wrong", "token", seen{fact.TokenState: "ended", fact.DeviceClock: -86400}},
		{"kestle", "token-ended", "token", seen{fact.TokenState: "ended", fact.HostClock: 86400, fact.DeviceClock: -86400}}, // this computer is wrong, the device is right
		{"kestle", "token-withdrawn", "token", seen{fact.TokenState: "withdrawn"}},
		{"kestle", "token-of-another", "token", seen{fact.TokenState: "other"}},
		{"kestle", "token-lacking", "token", seen{fact.TokenState: "lacking"}},
		{"kestle", "token-unnamed", "token", seen{fact.TokenState: "unnamed"}},
		{"wick", "asleep", "awake", seen{fact.Asleep: true}},
		{"wick", "not-introduced", "admitted", seen{fact.AirSeen: nil, fact.Asleep: nil, fact.AdmitState: nil, fact.LinkKey: nil, fact.LinkUp: nil, fact.AirNear: true}},
		{"wick", "way-hidden", "mode", seen{"mode.loose": false}},
		{"wick", "wrong-network", "seen", seen{fact.AirSeen: false, fact.AirNetwork: "other"}},
		{"wick", "on-hotspot", "seen", seen{fact.AirSeen: false, fact.AirNetwork: "hotspot"}},
		{"tarn", "wrong-network", "seen", seen{fact.USBPresent: false, fact.USBLink: nil, fact.AirNetwork: "other"}},
		{"tarn", "on-hotspot", "seen", seen{fact.USBPresent: false, fact.USBLink: nil, fact.AirNetwork: "hotspot"}},
		{"linux", "wrong-network", "seen", seen{fact.AirSeen: false, fact.AirNetwork: "other"}},
		{"linux", "key-not-in", "admitted", seen{fact.AdmitState: "none"}},
		{"linux", "key-changed", "admitted", seen{fact.AdmitState: "other", fact.LinkKey: "changed"}},
	} {
		t.Run(c.family+" "+c.cause, func(t *testing.T) {
			s := ofFamily(t, c.family)
			known := map[fact.Key]any{}
			for k, v := range well[c.family] {
				known[k] = v
			}
			for k, v := range c.seen {
				if known[k] = v; v == nil {
					delete(known, k)
				}
			}
			q, e := ask(s, nil, facts(s, known)...)
			require.Equal(t, c.gate, e.Gate)
			require.NotEmpty(t, e.Text)
			require.Equal(t, c.cause, top(e))
			require.Greater(t, e.Causes[0].Probability, cause.Named)
			require.NotEmpty(t, e.Causes[0].Because, "by what was seen")
			next := cause.Next(q, e)
			require.Equal(t, cause.AsRemedy, next.Kind)
			require.Equal(t, c.cause, next.ID)
			require.NotContains(t, next.Text+next.Sight+e.Text+e.Remedy, "{")
		})
	}
}
