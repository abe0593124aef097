package resume_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"earlybench.invalid/earlybench/core/resume"
	"earlybench.invalid/earlybench/core/tcptest"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// counted is a connection that breaks after so many bytes were read from it.
type counted struct {
	net.Conn
	left atomic.Int64
	got  *atomic.Int64
}

var errCut = errors.New("cut")

func (c *counted) Read(p []byte) (int, error) {
	if c.left.Load() <= 0 {
		c.Close()
		return 0, errCut
	}
	n, err := c.Conn.Read(p[:min(int64(len(p)), c.left.Load())])
	c.left.Add(-int64(n))
	c.got.Add(int64(n))
	return n, err
}

// carry carries two ends over one connection after the other; each breaks after some bytes at the second.
func carry(t *testing.T, a, b *resume.Stream, breaks []int64) (received *atomic.Int64) {
	received = &atomic.Int64{}
	ctx, cancel := context.WithCancel(context.Background())
	var work sync.WaitGroup
	t.Cleanup(func() { cancel(); work.Wait() })
	work.Go(func() {
		for i := 0; ctx.Err() == nil; i++ {
			here, there := tcptest.Pair(t)
			cut := &counted{Conn: there, got: received}
			cut.left.Store(1 << 62)
			if i < len(breaks) {
				cut.left.Store(breaks[i])
			}
			var both sync.WaitGroup
			both.Go(func() { a.Carry(ctx, here) })
			both.Go(func() { b.Carry(ctx, cut) })
			both.Wait()
			wait, stop := context.WithTimeout(ctx, 5*time.Millisecond)
			ended := a.Wait(wait)
			stop()
			if !errors.Is(ended, context.DeadlineExceeded) {
				return
			}
		}
	})
	return received
}

func TestAStreamArrivesWholeAcrossBreaksAndNothingIsReceivedTwice(t *testing.T) {
	const size = 20 << 20
	data := make([]byte, size)
	for i := range data {
		data[i] = byte(rand.Uint32())
	}
	var breaks []int64
	for range 10 {
		breaks = append(breaks, rand.Int64N(2<<20))
	}
	a, b := resume.New(time.Minute), resume.New(time.Minute)
	received := carry(t, a, b, breaks)
	go func() {
		a.Write(data)
	}()
	back := []byte("and something the other way")
	go func() { b.Write(back) }()
	got := sha256.New()
	_, err := io.CopyN(got, b, size)
	require.NoError(t, err)
	require.Equal(t, sha256.Sum256(data), [32]byte(got.Sum(nil)), "breaks at %v", breaks)
	answer := make([]byte, len(back))
	_, err = io.ReadFull(a, answer)
	require.NoError(t, err)
	require.Equal(t, back, answer)
	require.EqualValues(t, size, b.Received())
	// Frames that were cut in the middle come again: one of 64 KiB for each break, and headers.
	require.Less(t, received.Load(), int64(size+10*(64<<10)+size/100))
	require.NoError(t, a.Close())
	_, err = b.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF)
}

func TestAnEndIsToldWithItsReason(t *testing.T) {
	a, b := resume.New(time.Minute), resume.New(time.Minute)
	carry(t, a, b, nil)
	_, err := a.Write([]byte("last words"))
	require.NoError(t, err)
	got := make([]byte, 10)
	_, err = io.ReadFull(b, got)
	require.NoError(t, err)
	a.CloseWith("the loan has ended")
	_, err = b.Read(got)
	require.EqualError(t, err, "the loan has ended")
	_, err = b.Write(got)
	require.EqualError(t, err, "the loan has ended")
	_, err = a.Write(got)
	require.ErrorIs(t, err, io.ErrClosedPipe)
}

// The acknowledgement of the last words may arrive while the stream is being closed.
func TestAnEndArrivesAlthoughTheOtherSideStillAcknowledges(t *testing.T) {
	for range 300 {
		a, b := resume.New(5*time.Second), resume.New(5*time.Second)
		carry(t, a, b, nil)
		_, err := a.Write(make([]byte, 200_000))
		require.NoError(t, err)
		_, err = io.ReadFull(b, make([]byte, 200_000))
		require.NoError(t, err)
		a.CloseWith("the loan has ended")
		_, err = b.Read(make([]byte, 1))
		require.EqualError(t, err, "the loan has ended")
	}
}

func TestAnEndWhileNothingCarriesTheStreamIsToldOnTheNextConnection(t *testing.T) {
	a, b := resume.New(time.Minute), resume.New(time.Minute)
	a.CloseWith("recalled")
	carry(t, a, b, nil)
	_, err := b.Read(make([]byte, 1))
	require.EqualError(t, err, "recalled")
}

func TestAStreamOfWhichTheOtherSideKnowsNothingAnyMoreEndsOnBothSides(t *testing.T) {
	a, b := resume.New(time.Minute), resume.New(time.Minute)
	ctx, cancel := context.WithCancel(t.Context())
	here, there := tcptest.Pair(t)
	var work sync.WaitGroup
	work.Go(func() { a.Carry(ctx, here) })
	work.Go(func() { b.Carry(ctx, there) })
	_, err := a.Write([]byte("so far"))
	require.NoError(t, err)
	got := make([]byte, 6)
	_, err = io.ReadFull(b, got)
	require.NoError(t, err)
	_, err = b.Write([]byte("and back"))
	require.NoError(t, err)
	_, err = io.ReadFull(a, got)
	require.NoError(t, err)
	cancel()
	work.Wait()
	again := resume.New(time.Minute) // the other side was started anew
	carry(t, a, again, nil)
	require.ErrorIs(t, a.Wait(t.Context()), resume.ErrForgotten)
	require.Error(t, again.Wait(t.Context()))
	b.Close()
}

func TestABreakIsBridgedForSoLongAndNotLonger(t *testing.T) {
	a := resume.New(100 * time.Millisecond)
	began := time.Now()
	_, err := a.Read(make([]byte, 1))
	require.ErrorIs(t, err, resume.ErrBroken)
	require.Less(t, time.Since(began), 5*time.Second)
	b, c := resume.New(150*time.Millisecond), resume.New(150*time.Millisecond)
	here, there := tcptest.Pair(t)
	var work sync.WaitGroup
	work.Go(func() { b.Carry(t.Context(), here) })
	work.Go(func() { c.Carry(t.Context(), there) })
	time.Sleep(400 * time.Millisecond)
	_, err = b.Write([]byte("still there"))
	require.NoError(t, err, "while a connection carries it, no time passes")
	here.Close()
	work.Wait()
	require.ErrorIs(t, b.Wait(t.Context()), resume.ErrBroken)
	require.ErrorIs(t, c.Wait(t.Context()), resume.ErrBroken)
}

func TestASenderIsHeldBackByAReaderWhoDoesNotRead(t *testing.T) {
	a, b := resume.New(time.Minute), resume.New(time.Minute)
	carry(t, a, b, nil)
	var sent atomic.Int64
	go func() {
		piece := make([]byte, 32<<10)
		for {
			n, err := a.Write(piece)
			sent.Add(int64(n))
			if err != nil {
				return
			}
		}
	}()
	require.Eventually(t, func() bool { return sent.Load() > resume.Window }, 5*time.Second, time.Millisecond)
	time.Sleep(300 * time.Millisecond)
	require.Less(t, sent.Load(), int64(16<<20), "what neither side has read is bounded")
	b.Close()
	a.Close()
}

// FuzzCarry has a hostile peer send anything: it ends, and nothing is delivered that was not sent as data.
func FuzzCarry(f *testing.F) {
	hello := []byte{1, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0}
	f.Add(hello)
	f.Add(append(bytes.Clone(hello), 2, 0, 0, 0, 1, 'x'))
	f.Add(append(bytes.Clone(hello), 3, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 9))
	f.Add(append(bytes.Clone(hello), 4, 0, 0, 0, 2, 'n', 'o'))
	f.Add([]byte{2, 255, 255, 255, 255})
	f.Fuzz(func(t *testing.T, raw []byte) {
		s := resume.New(time.Hour)
		defer s.Close()
		here, there := net.Pipe()
		go func() {
			there.Write(raw)
			there.Close()
		}()
		go io.Copy(io.Discard, there)
		if err := s.Carry(t.Context(), here); err == nil {
			t.Error("a connection that has ended carries nothing")
		}
		if s.Received() > uint64(len(raw)) {
			t.Errorf("%d bytes of %d", s.Received(), len(raw))
		}
	})
}
