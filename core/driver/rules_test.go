package driver_test

import (
	"fmt"
	"path"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/driver"
)

var digest = strings.Repeat("5f", 32)

func TestARuleIsMadeOfIdsAlone(t *testing.T) {
	text, err := driver.Rules([]driver.Rule{{Name: "halden-link", Version: "4.1", Digest: digest, USB: []string{"f3e0:0104", "f3e0:01f0-020f"}}}, driver.Access{Group: "ada", Seat: true})
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(text), "\n")
	require.Equal(t, []string{
		"# driver set halden-link 4.1 " + digest + " f3e0:0104 f3e0:01f0-020f",
		`SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ATTR{idVendor}=="f3e0", ATTR{idProduct}=="0104", MODE="0660", GROUP="ada", TAG+="uaccess", SYMLINK+="earlybench/$attr{idVendor}-$attr{idProduct}-$env{ID_SERIAL_SHORT}"`,
		`SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ATTR{idVendor}=="f3e0", ATTR{idProduct}=="01f[0-9a-f]", MODE="0660", GROUP="ada", TAG+="uaccess", SYMLINK+="earlybench/$attr{idVendor}-$attr{idProduct}-$env{ID_SERIAL_SHORT}"`,
		`SUBSYSTEM=="usb", ENV{DEVTYPE}=="usb_device", ATTR{idVendor}=="f3e0", ATTR{idProduct}=="020[0-9a-f]", MODE="0660", GROUP="ada", TAG+="uaccess", SYMLINK+="earlybench/$attr{idVendor}-$attr{idProduct}-$env{ID_SERIAL_SHORT}"`,
	}, lines[3:])
	require.Equal(t, []driver.Rule{{Name: "halden-link", Version: "4.1", Digest: digest, USB: []string{"f3e0:0104", "f3e0:01f0-020f"}}}, driver.ReadRules(text))
}

func TestWhatCouldBreakARulesFileIsRefused(t *testing.T) {
	good := driver.Rule{Name: "halden-link", Version: "4.1", Digest: digest, USB: []string{"f3e0:0104"}}
	for name, change := range map[string]func(*driver.Rule, *driver.Access){
		"a version with a line break": func(r *driver.Rule, _ *driver.Access) { r.Version = "4.1\nRUN+=\"x\"" },
		"a version with a space":      func(r *driver.Rule, _ *driver.Access) { r.Version = "4 1" },
		"a name with a quote":         func(r *driver.Rule, _ *driver.Access) { r.Name = `a"b` },
		"no digest":                   func(r *driver.Rule, _ *driver.Access) { r.Digest = "" },
		"ids with a quote":            func(r *driver.Rule, _ *driver.Access) { r.USB = []string{`f3e0:01"4`} },
		"no ids":                      func(r *driver.Rule, _ *driver.Access) { r.USB = nil },
		"any device":                  func(r *driver.Rule, _ *driver.Access) { r.USB = []string{""} },
		"a group with a quote":        func(_ *driver.Rule, a *driver.Access) { a.Group = `ada", RUN+="x` },
	} {
		r, a := good, driver.Access{Group: "ada"}
		change(&r, &a)
		_, err := driver.Rules([]driver.Rule{r}, a)
		require.Error(t, err, name)
	}
}

func TestTheRulesOfARangeMatchJustItsProducts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		from := rapid.Uint16().Draw(t, "from")
		to := from + min(rapid.Uint16().Draw(t, "more"), 0xffff-from)
		text, err := driver.Rules([]driver.Rule{{Name: "a", Version: "1", Digest: digest, USB: []string{fmt.Sprintf("f3e0:%04x-%04x", from, to)}}}, driver.Access{})
		require.NoError(t, err)
		var patterns []string
		for line := range strings.Lines(text) {
			if _, rest, ok := strings.Cut(line, `ATTR{idProduct}=="`); ok {
				pattern, _, _ := strings.Cut(rest, `"`)
				patterns = append(patterns, pattern)
			}
		}
		require.LessOrEqual(t, len(patterns), 13)
		for _, n := range []int{0, int(from) - 1, int(from), int(from) + 1, (int(from) + int(to)) / 2, int(to) - 1, int(to), int(to) + 1, 0xffff} {
			if n < 0 || n > 0xffff {
				continue
			}
			hits := 0
			for _, p := range patterns {
				if ok, err := path.Match(p, fmt.Sprintf("%04x", n)); err == nil && ok {
					hits++
				}
			}
			want := 0
			if n >= int(from) && n <= int(to) {
				want = 1
			}
			require.Equal(t, want, hits, "%04x in %04x-%04x by %v", n, from, to, patterns)
		}
	})
}
