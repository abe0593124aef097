package resume_test

import (
	"context"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/resume"
)

func TestWhatWasWrittenBeforeTheEndArrives(t *testing.T) {
	for range 50 {
		here, there := resume.New(time.Minute), resume.New(time.Minute)
		a, b := net.Pipe()
		var carrying sync.WaitGroup
		carrying.Go(func() { here.Carry(context.Background(), a) })
		carrying.Go(func() { there.Carry(context.Background(), b) })
		text := make([]byte, 300_000)
		_, err := here.Write(text)
		require.NoError(t, err)
		here.Finish("that is all")
		got, err := io.ReadAll(there)
		require.Equal(t, len(text), len(got))
		require.ErrorContains(t, err, "that is all")
		carrying.Wait()
	}
}

func TestAnEndThatNobodyTakesDoesNotLast(t *testing.T) {
	here := resume.New(100 * time.Millisecond)
	a, b := net.Pipe()
	defer b.Close()
	ended := make(chan error, 1)
	go func() { ended <- here.Carry(context.Background(), a) }()
	_, err := b.Write([]byte{1, 0, 0, 0, 8, 0, 0, 0, 0, 0, 0, 0, 0}) // hello
	require.NoError(t, err)
	_, err = io.ReadFull(b, make([]byte, 13))
	require.NoError(t, err)
	_, err = here.Write(make([]byte, 300_000))
	require.NoError(t, err)
	here.Finish("that is all")
	select {
	case <-ended:
	case <-time.After(10 * time.Second):
		t.Fatal("it waits for whoever takes nothing")
	}
}
