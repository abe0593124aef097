package companion_test

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/standin"
)

// apart serves stand-ins in a process of their own.
func apart(t *testing.T, bodies ...standin.Entry) (at standin.Addresses, pid int) {
	t.Helper()
	exe, err := os.Executable()
	require.NoError(t, err)
	cmd := exec.Command(exe)
	cmd.Env, cmd.Stderr = append(os.Environ(), serves+"=1"), os.Stderr
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { in.Close(); cmd.Wait() })
	require.NoError(t, json.NewEncoder(in).Encode(scenario(t, "loft", bodies...)))
	require.NoError(t, json.NewDecoder(out).Decode(&at))
	return at, cmd.Process.Pid
}

// What bench and watch say to each other is not in the memory of the handset that carries it.
func TestAHandsetSeesCiphertextOnly(t *testing.T) {
	b := benchtest.New(t)
	pair := benchtest.FreeAddress(t)
	w, watchPID := apart(t, watch(watchName, "W 2 0019", pair))
	h, handsetPID := apart(t, handset(b, handsetName, "HH3 0042 9A07", pair))
	b.Hosts.Watch(store.Host{Name: "loft", USBIP: h.Hub, Control: h.Host})
	d := &desk{Bench: b, socket: w.Socket}
	k := d.introduced()
	s := b.Linked(k)

	raw := make([]byte, 12)
	rand.Read(raw)
	secret := hex.EncodeToString(raw)
	require.NoError(t, s.Find(t.Context(), secret))
	apps, err := s.Apps()
	require.NoError(t, err)
	for range 20 { // a manifest that is not one, with the secret in it
		_, err = apps.Offer(t.Context(), []byte(strings.Repeat(secret, 1000)), developer.Signature{})
		require.Error(t, err)
	}
	files, err := s.Files()
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	_ = files.Put(ctx, "/nowhere", secret, strings.NewReader(strings.Repeat(secret, 10_000)), 0, int64(10_000*len(secret)), func(int64) {})
	require.Contains(t, d.reads(watchName), secret, "it has come")
	require.True(t, benchtest.Holds(t, watchPID, secret), "the watch has it")
	require.False(t, benchtest.Holds(t, handsetPID, secret), "the handset has not")

	list, err := b.Rack.Find(handsetName)
	require.NoError(t, err)
	require.NoError(t, b.Linked(list).Find(t.Context(), secret+"-outer"))
	require.True(t, benchtest.Holds(t, handsetPID, secret+"-outer"), "what is said to the handset itself is there")
}
