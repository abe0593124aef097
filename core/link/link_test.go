package link_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"errors"
	"image"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
)

// fake is a device with an answer to every question; it tells what it was asked.
type fake struct {
	*meetings // nil: it is not to be introduced

	mu       sync.Mutex
	admitted map[string]bool
	asking   bool
	answer   chan bool
}

func (f *fake) Admission(key string) device.Admittance {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.admitted[key] {
		return device.Admittance{State: device.Admitted, For: "visit"}
	}
	return device.Admittance{State: device.AdmitNone}
}

func (f *fake) Ask(ctx context.Context, v device.Visitor, report func(device.Admittance)) {
	f.mu.Lock()
	if f.asking {
		f.mu.Unlock()
		report(device.Admittance{State: device.AdmitBusy})
		return
	}
	f.asking = true
	f.mu.Unlock()
	report(device.Admittance{State: device.AdmitAsking})
	end := device.Admittance{State: device.AdmitExpired}
	select {
	case <-ctx.Done():
	case yes := <-f.answer:
		f.mu.Lock()
		f.admitted[v.Key] = yes
		f.mu.Unlock()
		if end.State = device.AdmitRefused; yes {
			end.State = device.Admitted
		}
	}
	f.mu.Lock()
	f.asking = false
	f.mu.Unlock()
	report(end)
}

func (f *fake) Control(_ context.Context, method string, _ json.RawMessage, _ func(string, any) error) (any, error) {
	return map[string]string{"name": method}, nil
}

func (f *fake) Files() sftp.Handlers { return sftp.InMemHandler() }
func (f *fake) Screen() rfb.Source   { return still{} }

type still struct{}

func (still) Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error) {
	if after > 0 {
		<-ctx.Done()
		return nil, 0, ctx.Err()
	}
	img := image.NewRGBA(image.Rect(0, 0, 3, 2))
	copy(img.Pix, bytes.Repeat([]byte{10, 20, 30, 255}, 6))
	return img, 1, nil
}
func (still) Pointer(int, int, uint8) {}
func (still) Key(uint32, bool)        {}

func signer(t testing.TB) ssh.Signer {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	require.NoError(t, err)
	s, err := ssh.NewSignerFromKey(key)
	require.NoError(t, err)
	return s
}

// serve serves a fake device on loopback, to any number of benches.
func serve(t testing.TB, key ssh.Signer) (*fake, string) {
	t.Helper()
	f := &fake{admitted: map[string]bool{}, answer: make(chan bool)}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var serving sync.WaitGroup
	ctx, cancel := context.WithCancel(context.Background())
	serving.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			serving.Go(func() { link.Serve(ctx, c, key, f) })
		}
	})
	t.Cleanup(func() { l.Close(); cancel(); serving.Wait() })
	return f, l.Addr().String()
}

func dial(t testing.TB, address string, key ssh.Signer, pinned string) (*link.Session, error) {
	t.Helper()
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	s, err := link.Dial(t.Context(), c, key, device.Pinned(pinned))
	if err == nil {
		t.Cleanup(func() { s.Close() })
	}
	return s, err
}

func admissionOf(s device.Session) device.Admission {
	a, err := s.Admission()
	if err != nil {
		panic(err)
	}
	return a
}

func TestAVisitorGetsNothingButItsQuestion(t *testing.T) {
	f, address := serve(t, signer(t))
	s, err := dial(t, address, signer(t), "")
	require.NoError(t, err)
	apps, err := s.Apps()
	require.NoError(t, err)
	_, err = apps.List(t.Context())
	require.ErrorContains(t, err, "no longer admitted")
	files, err := s.Files()
	require.NoError(t, err)
	put := func() error {
		return files.Put(t.Context(), "", "x", bytes.NewReader([]byte("hello")), 0, 5, func(int64) {})
	}
	require.ErrorContains(t, put(), "no longer admitted")
	screen, err := s.Screen()
	require.NoError(t, err)
	_, err = screen.Open(t.Context())
	require.ErrorContains(t, err, "no longer admitted")

	go func() { f.answer <- true }()
	admission, err := s.Admission()
	require.NoError(t, err)
	a, err := admission.Ask(t.Context(), device.Visitor{Name: "moor-desk"}, func(device.Admittance) {})
	require.NoError(t, err)
	require.Equal(t, device.Admitted, a.State)

	d, err := s.Describe(t.Context())
	require.NoError(t, err)
	require.Equal(t, "describe", d.Name)
	open, err := screen.Open(t.Context())
	require.NoError(t, err)
	defer open.Close()
	img, err := rfb.Picture(open)
	require.NoError(t, err)
	require.Equal(t, image.Rect(0, 0, 3, 2), img.Bounds())
	require.Equal(t, []byte{10, 20, 30, 255}, img.Pix[:4])
	require.NoError(t, put())
}

func TestOneQuestionAtATimeAndOneThatIsTakenBackGoesAway(t *testing.T) {
	f, address := serve(t, signer(t))
	one, err := dial(t, address, signer(t), "")
	require.NoError(t, err)
	two, err := dial(t, address, signer(t), "")
	require.NoError(t, err)

	asking := make(chan device.AdmitState, 4)
	ctx, cancel := context.WithCancel(t.Context())
	ended := make(chan error, 1)
	go func() {
		_, err := admissionOf(one).Ask(ctx, device.Visitor{Name: "one"}, func(a device.Admittance) { asking <- a.State })
		ended <- err
	}()
	require.Equal(t, device.AdmitAsking, <-asking)
	a, err := admissionOf(two).Ask(t.Context(), device.Visitor{Name: "two"}, func(device.Admittance) {})
	require.NoError(t, err)
	require.Equal(t, device.AdmitBusy, a.State)

	cancel()
	require.ErrorIs(t, <-ended, context.Canceled)
	require.Eventually(t, func() bool { f.mu.Lock(); defer f.mu.Unlock(); return !f.asking }, 5*time.Second, time.Millisecond)
	go func() { f.answer <- false }()
	a, err = admissionOf(two).Ask(t.Context(), device.Visitor{Name: "two"}, func(device.Admittance) {})
	require.NoError(t, err)
	require.Equal(t, device.AdmitRefused, a.State)
}

func TestAnotherDeviceKeyThanThePinnedOneIsNeverGoneOver(t *testing.T) {
	key := signer(t)
	_, address := serve(t, key)
	fingerprint := ssh.FingerprintSHA256(key.PublicKey())
	s, err := dial(t, address, signer(t), fingerprint)
	require.NoError(t, err)
	require.Equal(t, fingerprint, s.Key())
	_, err = dial(t, address, signer(t), "SHA256:another")
	changed, ok := errors.AsType[*device.KeyChanged](err)
	require.True(t, ok, "%v", err)
	require.Equal(t, device.KeyChanged{Pinned: "SHA256:another", Shown: fingerprint}, *changed)
}

// A bench refuses every channel that a device opens: SSH has the server open
// some for forwarding (RFC 4254, 7.2), which nobody asked for here.
func TestADeviceOpensNoChannelsAtTheBench(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	refused, dialled := make(chan error, 1), make(chan struct{})
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		config := &ssh.ServerConfig{NoClientAuth: true, PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
		config.AddHostKey(signer(t))
		conn, channels, requests, err := ssh.NewServerConn(c, config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		admit := <-channels
		ch, reqs, _ := admit.Accept()
		go ssh.DiscardRequests(reqs)
		_, _, err = conn.OpenChannel("forwarded-tcpip", nil)
		refused <- err
		<-dialled
		ch.Close()
		conn.Close()
	}()
	s, err := dial(t, l.Addr().String(), signer(t), "")
	close(dialled)
	require.NoError(t, err)
	require.ErrorContains(t, <-refused, "must not open channels")
	<-s.Done()
}
