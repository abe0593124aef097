package bus_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/bus"
)

func TestTheComputersNameBecomesThatOfAHost(t *testing.T) {
	for given, want := range map[string]string{"moor-desk": "moor-desk", "Moor-Desk.fellgate.invalid": "moor-desk", "moor_desk": "moor-desk", "7seas": "computer-seas",
		"": "computer", "42": "computer", "-x-": "computer-x", "a-very-long-name-of-a-computer-that-nobody-wants-to-type": "a-very-long-name-of-a-computer-that-nobo"} {
		require.Equal(t, want, bus.NameOf(func() (string, error) { return given, nil }), "%q", given)
	}
	require.Equal(t, "computer", bus.NameOf(func() (string, error) { return "", errors.New("none") }))
}
