package sheet_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/sheet"
	"go.uber.org/goleak"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// with loads the shipped sheets with another condition for the driver gate.
func with(t *testing.T, condition string) (*sheet.Sheet, error) {
	t.Helper()
	files := only(shipped(t), "tarn/")
	files["tarn/tarn.yaml"] = strings.Replace(files["tarn/tarn.yaml"], "open: fact.driver.bound", "open: '"+condition+"'", 1)
	lib, err := load(files)
	if err != nil {
		return nil, err
	}
	return heron(t, lib), nil
}

func TestConditionsComeToATruthEvenWhereFactsAreMissing(t *testing.T) {
	now := time.Date(2026, 11, 23, 6, 52, 0, 0, time.UTC)
	known := []fact.Fact{
		{Key: fact.USBLink, Value: fact.Of(true), Source: fact.Bus, At: now},
		{Key: fact.OSRelease, Value: fact.Of(fact.Release("10")), Source: fact.Bus, At: now},
		{Key: fact.USBInterfaces, Value: fact.Of([]string{"06/01/01 Files"}), Source: fact.Bus, At: now},
		{Key: fact.GrantEnds, Value: fact.Of(now.Add(48 * time.Hour)), Source: fact.Device, At: now},
		{Key: fact.Battery, Value: fact.Of(15), Source: fact.Device, At: now.Add(-time.Hour)}, // outdated
	}
	for condition, want := range map[string]sheet.Truth{
		`fact.usb.link`:                                                        sheet.True,
		`!fact.usb.link`:                                                       sheet.False,
		`fact.driver.bound`:                                                    sheet.Unknown,
		`fact.driver.bound || fact.usb.link`:                                   sheet.True,
		`fact.usb.link || fact.driver.bound`:                                   sheet.True,
		`fact.driver.bound && !fact.usb.link`:                                  sheet.False,
		`fact.driver.bound && fact.usb.link`:                                   sheet.Unknown,
		`known.driver.bound && fact.driver.bound`:                              sheet.False,
		`fact.usb.link && (!known.driver.bound || fact.driver.bound)`:          sheet.True,
		`known.usb.link && fact.usb.link`:                                      sheet.True,
		`fact.device.release < version("12")`:                                  sheet.True,
		`fact.device.release >= version("10.0")`:                               sheet.True,
		`fact.device.release == version("10.0")`:                               sheet.True,
		`fact.device.release > version("9.9")`:                                 sheet.True,
		`fact.device.release <= version("6.2")`:                                sheet.False,
		`fact.device.battery > 20`:                                             sheet.Unknown,
		`fact.usb.interfaces.exists(i, i.startsWith("06/01"))`:                 sheet.True,
		`device.family == "tarn" && device.maker == "Halden" && fact.usb.link`: sheet.True,
		`device.code == "H3" && fact.usb.link`:                                 sheet.False,
		`app.id == "" && fact.usb.link`:                                        sheet.True,
		`fact.device.release >= app.release`:                                   sheet.True,
		`"pulse" in app.features || fact.usb.link`:                             sheet.True,
		`endsWithin(fact.grant.ends, duration("72h"))`:                         sheet.True,
		`endsWithin(fact.grant.ends, duration("47h"))`:                         sheet.False,
		`endsWithin(fact.grant.ends, duration("0s"))`:                          sheet.False,
		`endsWithin(fact.token.ends, duration("0s"))`:                          sheet.Unknown,
		`fact.device.release < version("twelve")`:                              sheet.Unknown,
	} {
		t.Run(condition, func(t *testing.T) {
			s, err := with(t, condition)
			require.NoError(t, err)
			k := fact.NewView(s.Registry, nil, known...).At(now)
			who := &sheet.Attributes{Family: s.Family, Maker: s.Maker, Code: s.Model.Code}
			got := s.Gate("driver").Open.Eval(who, k)
			require.Equal(t, want, got)
			require.Equal(t, got, s.Gate("driver").Open.Eval(who, k), "asking twice gives the same")
		})
	}
}

func TestAConditionKnowsTheFactsThatItReads(t *testing.T) {
	s, err := with(t, `known.link.trouble || fact.usb.link && fact.driver.set != ""`)
	require.NoError(t, err)
	require.ElementsMatch(t, []fact.Key{fact.LinkTrouble, fact.USBLink, fact.DriverSet}, s.Gate("driver").Open.Facts)
}

func TestAConditionKnowsWhenTimeAltersIt(t *testing.T) {
	s, err := with(t, `fact.usb.link && !endsWithin(fact.grant.ends, duration("72h"))`)
	require.NoError(t, err)
	require.Equal(t, []sheet.Flip{{Fact: fact.GrantEnds, Before: 72 * time.Hour}}, s.Gate("driver").Open.Flips)
	_, err = with(t, `endsWithin(fact.usb.link, duration("1h"))`)
	require.Error(t, err)
	_, err = with(t, `endsWithin(fact.grant.ends, fact.grant.ends)`)
	require.ErrorContains(t, err, "write endsWithin(fact.KEY")
}

func TestAConditionThatCouldCostTooMuchIsRefused(t *testing.T) {
	_, err := with(t, `fact.usb.interfaces.exists(a, fact.usb.interfaces.exists(b, fact.usb.interfaces.exists(c, a + b == c)))`)
	require.ErrorContains(t, err, "the bound is 2000")
	_, err = with(t, `fact.device.release < "12"`)
	require.ErrorContains(t, err, "no matching overload")
}
