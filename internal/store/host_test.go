package store_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/store"
)

func TestOnlyTheBenchsOwnComputerHasNoAddress(t *testing.T) {
	require.True(t, store.Host{Name: "moor-desk"}.Own())
	require.False(t, store.Host{Name: "pit", Control: "127.0.0.1:1"}.Own(), "one that exports nothing is another all the same")
	require.False(t, store.Host{Name: "loft", USBIP: "127.0.0.1:1", Control: "127.0.0.1:2"}.Own())
}
