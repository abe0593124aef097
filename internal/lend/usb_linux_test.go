package lend_test

import (
	"context"
	"errors"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/core/usbip"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/store"
)

// exclusive borrows the handset with its USB, and waits until that is offered.
func (p *pair) exclusive(long time.Duration) (r store.Loan, address, busID string) {
	p.T.Helper()
	r, err := p.Moor.Lend.BorrowUSB(p.T.Context(), "harbour-desk", p.Heron.Device().Handle, long)
	require.NoError(p.T, err)
	require.Equal(p.T, store.LoanActive, r.State, "%+v", r)
	p.Moor.Eventually("its USB is offered", func() bool { address, busID = p.Moor.Lend.USBOf(r.ID); return address != "" })
	return r, address, busID
}

// linkOver links with the handset over its USB, as the borrower's own programs may.
func (p *pair) linkOver(dev usb.Device) *link.Session {
	p.T.Helper()
	ctx, cancel := context.WithTimeout(p.T.Context(), 20*time.Second)
	defer cancel()
	d, err := usb.Describe(ctx, dev)
	require.NoError(p.T, err)
	i, in, out, ok := d.Link()
	require.True(p.T, ok)
	pipe, err := link.Bulk(ctx, dev, i.Number, in, out)
	require.NoError(p.T, err)
	stream, err := link.OpenStream(pipe, rand.Uint64())
	require.NoError(p.T, err)
	s, err := link.Dial(ctx, stream, p.Moor.Keys.Link, func(key string) error {
		if key != p.Heron.Device().Key {
			return errors.New("another device")
		}
		return nil
	})
	require.NoError(p.T, err)
	return s
}

func TestADeviceIsBorrowedWithItsUSB(t *testing.T) {
	p := lends(t, "use")
	r, address, busID := p.exclusive(time.Hour)
	require.Empty(t, p.Moor.Rack.All(), "the device is that computer's, not its bench's")
	ctx := t.Context()

	list, err := usbip.TCP(address).List(ctx)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, busID, list[0].BusID)
	dev, err := usbip.TCP(address).Open(ctx, busID)
	require.NoError(t, err)
	_, err = usbip.TCP(address).Open(ctx, busID)
	require.ErrorIs(t, err, usb.ErrBusy, "one importer at a time")
	_, err = usbip.TCP(address).Open(ctx, "9-9")
	require.ErrorIs(t, err, usb.ErrNotFound)

	// Its lender has let go of it, and knows who has it.
	require.Nil(t, p.Heron.Session())
	p.Harbour.Eventually("the lender knows who has it", func() bool {
		f, known := p.Harbour.Look(p.Heron).View.Get(fact.USBLent, p.Harbour.Clock.Now())
		return known && f.Value.String() == "moor-desk"
	})

	// The borrower is let in by the device itself, also over a break.
	s := p.linkOver(dev)
	admission, err := s.Admission()
	require.NoError(t, err)
	state, err := admission.State(ctx)
	require.NoError(t, err)
	require.Equal(t, device.RightsUse, state.Rights)
	p.Wire.Cut(false)
	_, err = admission.State(ctx)
	require.NoError(t, err, "the stream outlasts the link of the benches")

	// The end cuts it within a second, and the lender has the device back.
	ended := time.Now()
	require.NoError(t, p.Harbour.Lend.Recall(ctx, loan(t, p.Harbour).ID, 0))
	select {
	case <-dev.Gone():
	case <-time.After(5 * time.Second):
		t.Fatal("the borrower has it still")
	}
	require.Less(t, time.Since(ended), 2*time.Second)
	dev.Close()
	s.Close()
	p.ends(p.Harbour, store.LoanEnded)
	require.NotNil(t, p.Heron.Session())
	require.False(t, p.admitted())
	p.Moor.Eventually("nothing is offered any more", func() bool { at, _ := p.Moor.Lend.USBOf(r.ID); return at == "" })
	_, err = net.DialTimeout("tcp", address, time.Second)
	require.Error(t, err)
}

func TestWhatWasDoneOverBorrowedUSBIsInTheAuditAndTakenOff(t *testing.T) {
	p := lends(t, "use")
	_, address, busID := p.exclusive(time.Hour)
	dev, err := usbip.TCP(address).Open(t.Context(), busID)
	require.NoError(t, err)
	s := p.linkOver(dev)
	before, err := s.Apps()
	require.NoError(t, err)
	all, err := before.List(t.Context())
	require.NoError(t, err)
	if len(all) > 0 {
		_ = before.Stop(t.Context(), all[0].ID)
	}
	s.Close()
	dev.Close()
	_, err = p.Moor.Lend.Return(t.Context(), loan(t, p.Moor).ID)
	require.NoError(t, err)
	p.ends(p.Harbour, store.LoanEnded)
	lines, err := p.Harbour.Store.Audit(t.Context(), 0, 100)
	require.NoError(t, err)
	var done []string
	for _, l := range lines {
		if l.Actor == "peer/moor-desk" {
			done = append(done, l.Operation)
		}
	}
	require.Contains(t, done, "device-apps")
	require.Contains(t, done, "return-device")
}

func TestBorrowedUSBComesBackWhenEitherBenchIsStartedAgain(t *testing.T) {
	p := lends(t, "use")
	r, _, busID := p.exclusive(time.Hour)
	p.Harbour.End()
	p.StartHarbour()
	p.Watch() // its own link may be too short to be seen: the USB is lent at once
	var address string
	p.Moor.Eventually("it is offered again", func() bool {
		address, _ = p.Moor.Lend.USBOf(r.ID)
		if address == "" {
			return false
		}
		dev, err := usbip.TCP(address).Open(t.Context(), busID)
		if err == nil {
			dev.Close()
		}
		return err == nil
	})
	require.Equal(t, store.LoanActive, loan(t, p.Harbour).State)
}

func TestBorrowedUSBIsRefusedWithItsReason(t *testing.T) {
	p := lends(t, "look")
	_, err := p.Moor.Lend.BorrowUSB(t.Context(), "harbour-desk", p.Heron.Device().Handle, time.Hour)
	require.ErrorContains(t, err, "you may look at "+p.Heron.Device().Handle+", but not use it")
	_, err = p.Moor.Lend.BorrowUSB(t.Context(), "harbour-desk", "heron-7", time.Hour)
	require.ErrorContains(t, err, `there is no device "heron-7" that is shared with you`)
}

// Debian's usbip is no relative of this program. It runs as another user, too, who gets nothing.
func TestDebiansUsbipListsABorrowedDeviceForItsBorrowerOnly(t *testing.T) {
	program, err := exec.LookPath("usbip")
	if err != nil {
		program = "/usr/sbin/usbip"
	}
	if _, err := os.Stat(program); err != nil {
		t.Skip("usbip is not installed")
	}
	p := lends(t, "use")
	_, address, busID := p.exclusive(time.Hour)
	host, _, err := net.SplitHostPort(address)
	require.NoError(t, err)
	list := func(user uint32) (string, error) {
		c := exec.CommandContext(t.Context(), program, "list", "-r", host)
		c.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: user}}
		out, err := c.CombinedOutput()
		return string(out), err
	}
	out, err := list(uint32(os.Geteuid()))
	require.NoError(t, err, out)
	require.Contains(t, out, busID+": ")
	require.Contains(t, strings.ToLower(out), "f3e0")
	if os.Geteuid() != 0 {
		return // only the administrator runs programs as somebody else
	}
	out, _ = list(65534)
	require.NotContains(t, out, busID+": ")
}

// A network analyser that knows USB/IP reads what the borrower's kernel would say and hear.
func TestAnAnalyserOfNetworksReadsAnExclusiveLoan(t *testing.T) {
	p := lends(t, "use")
	_, address, busID := p.exclusive(time.Hour)
	r := benchtest.Record(t, address)
	dev, err := usbip.TCP(r.Addr().String()).Open(t.Context(), busID)
	require.NoError(t, err)
	s := p.linkOver(dev)
	s.Close()
	dev.Close()
	read := r.Analysed(t)
	require.Empty(t, read("_ws.expert"), "nothing is malformed, and nothing is remarkable")
	require.Contains(t, read("usbip.operation", "-T", "fields", "-e", "usbip.operation"), "0x8003", "the import")
	require.Contains(t, read("usb.bDescriptorType == 1", "-V"), "idVendor: Unknown (0xf3e0)")
	require.Greater(t, len(strings.Fields(read("usbip.urb", "-T", "fields", "-e", "usbip.urb"))), 20, "the descriptors, and the link's traffic")
	require.Empty(t, read("tcp.port == 3240 && !usbip"), "every packet is understood")
}
