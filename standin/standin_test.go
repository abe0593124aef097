package standin_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"log/slog"
	"net"
	"path/filepath"
	"sync/atomic"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func driverSet(t testing.TB) []byte {
	t.Helper()
	var b bytes.Buffer
	root := fstest.MapFS{"link.drv": {Data: bytes.Repeat([]byte("driver"), 1000)}}
	require.NoError(t, driver.Pack(&b, driver.Manifest{Name: "halden-link", Version: "4.1", Maker: "Halden",
		Fits: []driver.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}, root, []string{"link.drv"}, nil))
	return b.Bytes()
}

// rig starts one stand-in handset, with everything open that open names.
func rig(t testing.TB, open bool, driver bool, dir string) *standin.Rig {
	t.Helper()
	sc := standin.Scenario{Dir: dir, Host: "pit", Answer: "2s", HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0",
		HandsAddress: "127.0.0.1:0", Socket: filepath.Join(t.TempDir(), "steer"),
		Bodies: []standin.Entry{{Name: "heron-2", Body: "halden", Model: "H4", Serial: "HH4 0077 3C1E"}}}
	if open {
		sc.Bodies[0].Begin = &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install"}}
	}
	if driver {
		sc.Sets = []standin.Set{{File: driverSet(t)}}
	}
	r, err := standin.Start(t.Context(), sc, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, r.Close()) })
	return r
}

func steer(t testing.TB, r *standin.Rig, method string, p standin.Steer) error {
	t.Helper()
	c, err := net.Dial("unix", r.Addresses().Socket)
	require.NoError(t, err)
	conn := rpc.New(c, rpc.NoMethod)
	defer conn.Close()
	return conn.Call(t.Context(), method, p, nil)
}

func touch(t testing.TB, r *standin.Rig, texts ...string) {
	t.Helper()
	for _, s := range texts {
		require.Eventually(t, func() bool {
			return steer(t, r, standin.MethodTouch, standin.Steer{Body: "heron-2", Text: s}) == nil
		}, 5*time.Second, 5*time.Millisecond, "touch %s", s)
	}
}

func newKey(t testing.TB) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return s
}

var epochs atomic.Uint64

// dial links to the handset over its cable.
func dial(t testing.TB, r *standin.Rig, key ssh.Signer, pinned string) (*link.Session, usb.Device, error) {
	t.Helper()
	var dev usb.Device
	require.Eventually(t, func() (opened bool) { // an importer that just left may still hold it
		var err error
		dev, err = usbip.TCP(r.Addresses().Hub).Open(t.Context(), "1-1")
		return err == nil
	}, 5*time.Second, 5*time.Millisecond)
	t.Cleanup(func() { dev.Close() })
	d, err := usb.Describe(t.Context(), dev)
	require.NoError(t, err)
	i, in, out, ok := d.Link()
	require.True(t, ok, "the device link is on the bus")
	pipe, err := link.Bulk(t.Context(), dev, i.Number, in, out)
	if err != nil {
		return nil, dev, err
	}
	stream, err := link.OpenStream(pipe, epochs.Add(1))
	require.NoError(t, err)
	s, err := link.Dial(t.Context(), stream, key, device.Pinned(pinned))
	if err == nil {
		t.Cleanup(func() { s.Close() })
	}
	return s, dev, err
}

func TestAHandsetShowsOneInterfaceUntilItsHiddenRowIsTappedOftenEnough(t *testing.T) {
	r := rig(t, false, false, t.TempDir())
	bus := usbip.TCP(r.Addresses().Hub)
	list := func() usb.Info {
		infos, err := bus.List(t.Context())
		require.NoError(t, err)
		if len(infos) == 0 {
			return usb.Info{}
		}
		return infos[0]
	}
	require.Equal(t, []usb.Class{{Class: 6, Subclass: 1, Protocol: 1}}, list().Interfaces)
	require.Contains(t, list().Path, "heron-2")

	touch(t, r, "Settings", "Care", "Inside label", "Batch", "Batch", "Batch", "Batch", "Batch")
	require.ErrorContains(t, steer(t, r, standin.MethodTouch, standin.Steer{Body: "heron-2", Text: "Computers may"}), "\"Batch\", \"Rinse\"")
	touch(t, r, "Batch", "Batch", "Computers may", "debug and install", "Let them")
	require.Eventually(t, func() bool { return len(list().Interfaces) == 2 }, 5*time.Second, 5*time.Millisecond)
}

func TestTheLinksEndpointsAnswerEACCESUntilADriverIsBound(t *testing.T) {
	r := rig(t, true, false, t.TempDir())
	_, _, err := dial(t, r, newKey(t), "")
	require.ErrorIs(t, err, usb.ErrAccess)
}

func TestAVisitorIsLetInByAnswersOnTheScreenOnly(t *testing.T) {
	r := rig(t, true, true, t.TempDir())
	key := newKey(t)
	s, dev, err := dial(t, r, key, "")
	require.NoError(t, err)
	pinned := s.Key()
	ask := func(s *link.Session, name string) (device.AdmitState, []device.AdmitState) {
		var states []device.AdmitState
		a, err := admission(t, s).Ask(t.Context(), device.Visitor{Name: name}, func(a device.Admittance) { states = append(states, a.State) })
		require.NoError(t, err)
		return a.State, states
	}
	_, err = s.Describe(t.Context())
	require.ErrorContains(t, err, "no longer admitted")

	go touch(t, r, "No")
	state, _ := ask(s, "moor-desk")
	require.Equal(t, device.AdmitRefused, state)

	state, _ = ask(s, "moor-desk") // nobody answers
	require.Equal(t, device.AdmitExpired, state)

	go touch(t, r, "This visit")
	state, states := ask(s, "moor-desk")
	require.Equal(t, device.Admitted, state)
	require.Equal(t, []device.AdmitState{device.AdmitAsking, device.Admitted}, states)
	s.Close()
	dev.Close()

	second, dev, err := dial(t, r, newKey(t), pinned)
	require.NoError(t, err)
	a, err := admission(t, second).State(t.Context())
	require.NoError(t, err)
	require.Equal(t, device.AdmitNone, a.State, "another key gets a question of its own")
	second.Close()
	dev.Close()

	require.NoError(t, steer(t, r, standin.MethodPull, standin.Steer{Body: "heron-2"}))
	require.NoError(t, steer(t, r, standin.MethodPlug, standin.Steer{Body: "heron-2"}))
	again, _, err := dial(t, r, key, pinned)
	require.NoError(t, err)
	a, err = admission(t, again).State(t.Context())
	require.NoError(t, err)
	require.Equal(t, device.AdmitNone, a.State, "a visit ends with the cable")
}

func TestAWipedDeviceHasAnotherKeyAndIsNotTakenForTheOldOne(t *testing.T) {
	r := rig(t, true, true, t.TempDir())
	s, dev, err := dial(t, r, newKey(t), "")
	require.NoError(t, err)
	pinned := s.Key()
	s.Close()
	dev.Close()
	touch(t, r, "Settings", "Care", "Start over", "Start over")
	touch(t, r, "Settings", "Care", "Inside label", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch", "Batch",
		"Computers may", "debug and install", "Let them")
	require.Eventually(t, func() bool {
		infos, err := usbip.TCP(r.Addresses().Hub).List(t.Context())
		return err == nil && len(infos) == 1 && len(infos[0].Interfaces) == 2
	}, 5*time.Second, 5*time.Millisecond)
	_, _, err = dial(t, r, newKey(t), pinned)
	changed, ok := errors.AsType[*device.KeyChanged](err)
	require.True(t, ok, "%v", err)
	require.Equal(t, pinned, changed.Pinned)
	require.NotEqual(t, pinned, changed.Shown)
}

func admission(t testing.TB, s device.Session) device.Admission {
	t.Helper()
	a, err := s.Admission()
	require.NoError(t, err)
	return a
}

func admitted(t testing.TB, r *standin.Rig) (device.Session, device.Apps) {
	t.Helper()
	s, _, err := dial(t, r, newKey(t), "")
	require.NoError(t, err)
	go touch(t, r, "Until withdrawn")
	a, err := admission(t, s).Ask(t.Context(), device.Visitor{Name: "moor-desk"}, func(device.Admittance) {})
	require.NoError(t, err)
	require.Equal(t, device.Admitted, a.State)
	apps, err := s.Apps()
	require.NoError(t, err)
	return s, apps
}

func TestFilesAreCopiedInAndResumedWhereTheCableWasPulled(t *testing.T) {
	r := rig(t, true, true, t.TempDir())
	s, apps := admitted(t, r)
	content := make([]byte, 8<<20)
	rand.Read(content)
	root := fstest.MapFS{"main.wasm": {Data: content}}
	var packed bytes.Buffer
	_, err := appfile.Pack(&packed, appfile.Manifest{ID: "fellgate/callout", Name: "Callout", Version: "2.3", Families: []string{"tarn"}, Entry: "main.wasm"}, root, []string{"main.wasm"}, nil)
	require.NoError(t, err)
	f, err := appfile.Open(bytes.NewReader(packed.Bytes()), int64(packed.Len()))
	require.NoError(t, err)

	lacks, err := apps.Offer(t.Context(), f.Manifest, developer.Signature{})
	require.NoError(t, err)
	require.Len(t, lacks.Files, 1)
	require.NoError(t, steer(t, r, standin.MethodPull, standin.Steer{Body: "heron-2", After: 3 << 20}))
	put := func(s device.Session, from int64) error {
		files, err := s.Files()
		require.NoError(t, err)
		file := lacks.Files[0]
		return files.Put(t.Context(), lacks.Dir, file.SHA256, bytes.NewReader(content[from:]), from, file.Size, func(int64) {})
	}
	require.Error(t, put(s, 0))
	require.NoError(t, steer(t, r, standin.MethodPlug, standin.Steer{Body: "heron-2"}))

	s, apps = admitted(t, r)
	require.Eventually(t, func() bool {
		lacks, err = apps.Offer(t.Context(), f.Manifest, developer.Signature{})
		return err == nil && lacks.Files[0].Have > 0 // how much is handled when the cable goes is the load's matter
	}, 20*time.Second, 10*time.Millisecond)
	require.Less(t, lacks.Files[0].Have, int64(3<<20))
	require.ErrorContains(t, apps.Install(t.Context(), lacks.Digest), "did not arrive whole")
	lacks, err = apps.Offer(t.Context(), f.Manifest, developer.Signature{})
	require.NoError(t, err)
	require.NoError(t, put(s, lacks.Files[0].Have))
	require.NoError(t, apps.Install(t.Context(), lacks.Digest))
	list, err := apps.List(t.Context())
	require.NoError(t, err)
	require.Equal(t, "fellgate/callout", list[0].ID)
}

func TestTheScreenIsSeenOverTheLink(t *testing.T) {
	r := rig(t, true, true, t.TempDir())
	s, _ := admitted(t, r)
	shown, err := s.Screen()
	require.NoError(t, err)
	screen, err := shown.Open(t.Context())
	require.NoError(t, err)
	defer screen.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
	defer cancel()
	defer context.AfterFunc(ctx, func() { screen.Close() })()
	img, err := rfb.Picture(screen)
	require.NoError(t, err)
	require.Equal(t, 276*body.Scale, img.Bounds().Dx())
	colours := map[[3]byte]bool{}
	for i := 0; i < len(img.Pix); i += 4 {
		colours[[3]byte(img.Pix[i:i+3])] = true
	}
	require.Greater(t, len(colours), 50, "a real picture, not one colour")
}
