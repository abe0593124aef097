package link_test

import (
	"bytes"
	"context"
	"errors"
	"io"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/usb"
)

// loop is an opened device whose IN endpoint gives back what its OUT endpoint
// took.
type loop struct {
	fifo   *usb.Fifo
	gone   chan struct{}
	out    error // of every OUT transfer
	setups []usb.Setup

	mu      sync.Mutex
	reading int // IN transfers under way
}

func newLoop() *loop { return &loop{fifo: usb.NewFifo(1 << 20), gone: make(chan struct{})} }

func (l *loop) Control(_ context.Context, s usb.Setup, _ []byte) ([]byte, error) {
	l.setups = append(l.setups, s)
	return nil, nil
}
func (l *loop) Gone() <-chan struct{} { return l.gone }
func (l *loop) Close() error          { return l.fifo.Close() }

type transfer func(ctx context.Context) ([]byte, int, error)

func (t transfer) Wait(ctx context.Context) ([]byte, int, error) { return t(ctx) }

func (l *loop) SubmitIn(_ uint8, p []byte) (usb.Transfer, error) {
	l.mu.Lock()
	l.reading++
	l.mu.Unlock()
	return transfer(func(ctx context.Context) ([]byte, int, error) {
		defer func() { l.mu.Lock(); l.reading--; l.mu.Unlock() }()
		n, err := l.fifo.ReadContext(ctx, p)
		return p[:n], n, err
	}), nil
}

func (l *loop) SubmitBare(_ uint8, data []byte) (usb.Transfer, error) { return l.SubmitOut(0, data) }

func (l *loop) SubmitOut(_ uint8, data []byte) (usb.Transfer, error) {
	n, err := l.fifo.Write(bytes.Clone(data))
	if l.out != nil {
		err = l.out
	}
	return transfer(func(context.Context) ([]byte, int, error) { return nil, n, err }), nil
}

func TestABulkPipeCarriesBytesWhateverTheTransfers(t *testing.T) {
	dev := newLoop()
	pipe, err := link.Bulk(t.Context(), dev, 1, 0x82, 2)
	require.NoError(t, err)
	require.Equal(t, []usb.Setup{{RequestType: 1, Request: usb.ReqSetInterface, Index: 1}}, dev.setups, "the interface is selected first")
	sent := bytes.Repeat([]byte("moor and harbour "), 20_000)
	go pipe.Write(sent)
	got := make([]byte, len(sent))
	_, err = io.ReadFull(pipe, got)
	require.NoError(t, err)
	require.Equal(t, sent, got)
	dev.mu.Lock()
	require.Greater(t, dev.reading, 2, "several are always under way")
	dev.mu.Unlock()
	require.NoError(t, pipe.Close())
	_, err = pipe.Read(got)
	require.ErrorIs(t, err, io.ErrClosedPipe)
}

func TestABulkPipeThatIsClosedLetsItsReaderGo(t *testing.T) {
	pipe, err := link.Bulk(t.Context(), newLoop(), 1, 0x82, 2)
	require.NoError(t, err)
	ended := make(chan error, 1)
	go func() {
		_, err := pipe.Read(make([]byte, 1))
		ended <- err
	}()
	time.Sleep(5 * time.Millisecond)
	pipe.Close()
	require.ErrorIs(t, <-ended, io.ErrClosedPipe)
}

func TestAnEndpointWithoutADriverIsNoticedBeforeAnythingWaits(t *testing.T) {
	dev := newLoop()
	dev.out = usb.ErrAccess
	_, err := link.Bulk(t.Context(), dev, 1, 0x82, 2)
	require.ErrorIs(t, err, usb.ErrAccess)
}

func TestAWriteTellsOfATransferThatFailedBefore(t *testing.T) {
	dev := newLoop()
	pipe, err := link.Bulk(t.Context(), dev, 1, 0x82, 2)
	require.NoError(t, err)
	defer pipe.Close()
	dev.out = errors.New("worn cable")
	for err == nil {
		_, err = pipe.Write(make([]byte, 1000))
	}
	require.ErrorContains(t, err, "worn cable")
}
