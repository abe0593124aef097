package test

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/standin/authority"
)

// belongsTo signs the bench in at an authority that this test runs, with a standing of 600 places.
func (d *demo) belongsTo(at *authority.Authority) {
	d.t.Helper()
	look := d.run("authority", "add", at.URL(), "--unattended")
	accept := regexp.MustCompile(`--accept ([0-9a-f]{64})`).FindStringSubmatch(look.out + look.err)
	require.NotNil(d.t, accept, look.out+look.err)
	d.ok("authority", "drop", "fell-authority")
	d.ok("authority", "add", at.URL(), "--accept", accept[1])
	code := userCode.FindString(d.ok("account", "sign-in", "--wait=false"))
	require.NotEmpty(d.t, code)
	made := url.Values{"code": {code}, "account": {"thwaite"}, "password": {"fog-and-fell"}, "name": {"Rowan Thwaite"}, "crew": {"fellgate"}, "standing": {"full"}, "do": {"make"}}
	require.Contains(d.t, benchtest.Types(d.t, at.URL()+"code", made), "is signed in")
	d.eventually("it is signed in", func() bool { return strings.Contains(d.ok("account"), "0 of 600 places") })
}

func TestFiveHundredDevicesAreRegisteredOnceAlthoughTheServiceIsKilledInTheMiddle(t *testing.T) {
	d := startDemo(t)
	at := benchtest.Authority(t, &clock.Moved{})
	d.belongsTo(at)
	var rows strings.Builder
	rows.WriteString("serial,model\n")
	for i := range 500 {
		fmt.Fprintf(&rows, "KS %04d,KS\n", i)
	}
	file := filepath.Join(t.TempDir(), "devices.csv")
	require.NoError(t, os.WriteFile(file, []byte(rows.String()), 0o600))

	at.Set(authority.Busy) // 25 requests a second, so that there is a middle
	others := make([]client.OutOfReach, 500)
	for i := range others {
		others[i] = client.OutOfReach{Serial: fmt.Sprintf("KS %04d", i), Model: "KS"}
	}
	j, err := d.api.RegisterDevices(t.Context(), client.NewEntries{Others: others})
	require.NoError(t, err)
	d.eventually("some are registered", func() bool { return at.Places("fellgate") > 60 })
	bench := processOf(t, d.cmd.Process.Pid, "serve")
	require.NoError(t, syscall.Kill(bench, syscall.SIGKILL))
	cut := at.Places("fellgate")
	require.Less(t, cut, 500, "it was killed in the middle")
	at.Set(authority.Well)
	d.eventually("it goes on by itself with the next service", func() bool { return at.Places("fellgate") == 500 })
	done := d.ended(j.ID)
	require.Equal(t, "done", done.State, "%+v", done.Error)
	began := time.Now()
	require.Contains(t, d.ok("register", "add", "--from", file), "500 of 600 places are taken", "the same once more, by command")
	require.Less(t, time.Since(began), 30*time.Second)
	register, err := d.api.Register(t.Context())
	require.NoError(t, err)
	serials := map[string]bool{}
	for _, e := range register.Entries {
		serials[e.Serial] = true
	}
	require.Len(t, register.Entries, 500)
	require.Len(t, serials, 500, "no device is in it twice")
	t.Logf("killed at %d of 500; once more: %s", cut, time.Since(began).Round(time.Millisecond))
}
