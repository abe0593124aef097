package usb_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
)

// told is an opened device that answers control transfers from its descriptors,
// after change has had its way with the answer.
type told struct {
	usb.Descriptor
	change func(kind uint8, b []byte) []byte
}

func (d told) Control(_ context.Context, s usb.Setup, _ []byte) ([]byte, error) {
	kind := uint8(s.Value >> 8)
	var b []byte
	switch kind {
	case usb.DescDevice:
		b = d.DeviceBytes()
	case usb.DescConfig:
		b = d.ConfigBytes()
	case usb.DescString:
		b = d.StringBytes(uint8(s.Value))
	}
	if b == nil {
		return nil, usb.ErrStall
	}
	if d.change != nil {
		b = d.change(kind, b)
	}
	return b[:min(len(b), int(s.Length))], nil
}

func (told) SubmitIn(uint8, []byte) (usb.Transfer, error)   { return nil, usb.ErrStall }
func (told) SubmitBare(uint8, []byte) (usb.Transfer, error) { return nil, usb.ErrStall }
func (told) SubmitOut(uint8, []byte) (usb.Transfer, error)  { return nil, usb.ErrStall }
func (told) Gone() <-chan struct{}                          { return nil }
func (told) Close() error                                   { return nil }

func TestADeviceIsDescribedByWhatItsDescriptorsSay(t *testing.T) {
	want := handset()
	got, err := usb.Describe(t.Context(), told{Descriptor: want})
	require.NoError(t, err)
	require.Equal(t, want.ID, got.ID)
	require.Equal(t, want.Serial, got.Serial)
	require.Equal(t, "Files", got.Interfaces[0].Name)
	_, in, out, ok := got.Link()
	require.True(t, ok)
	require.Equal(t, [2]uint8{0x82, 2}, [2]uint8{in, out})
}

func TestDescriptorsThatLieAreAnErrorAndNoCrash(t *testing.T) {
	for name, change := range map[string]func(kind uint8, b []byte) []byte{
		"a device descriptor cut short":    func(k uint8, b []byte) []byte { return cut(k == usb.DescDevice, b, 7) },
		"a device descriptor of none":      func(k uint8, b []byte) []byte { return cut(k == usb.DescDevice, b, 0) },
		"a configuration cut short":        func(k uint8, b []byte) []byte { return cut(k == usb.DescConfig, b, 5) },
		"a part that is longer than all":   func(k uint8, b []byte) []byte { return set(k == usb.DescConfig, b, 9, 200) },
		"a part of no length":              func(k uint8, b []byte) []byte { return set(k == usb.DescConfig, b, 9, 0) },
		"a string of another kind":         func(k uint8, b []byte) []byte { return set(k == usb.DescString, b, 1, 9) },
		"a string that is longer than all": func(k uint8, b []byte) []byte { return set(k == usb.DescString, b, 0, 255) },
	} {
		t.Run(name, func(t *testing.T) {
			_, err := usb.Describe(t.Context(), told{handset(), change})
			require.Error(t, err)
		})
	}
}

func cut(yes bool, b []byte, n int) []byte {
	if yes {
		return b[:n]
	}
	return b
}

func set(yes bool, b []byte, at int, v byte) []byte {
	if yes && len(b) > at {
		b[at] = v
	}
	return b
}

// stalling stalls on every string descriptor, though it promises some.
type stalling struct{ told }

func (d stalling) Control(ctx context.Context, s usb.Setup, data []byte) ([]byte, error) {
	if uint8(s.Value>>8) == usb.DescString {
		return nil, usb.ErrStall
	}
	return d.told.Control(ctx, s, data)
}

func TestADeviceWithoutItsStringsIsReadAllTheSame(t *testing.T) {
	got, err := usb.Describe(t.Context(), stalling{told{Descriptor: handset()}})
	require.NoError(t, err)
	require.Equal(t, handset().ID, got.ID)
	require.Len(t, got.Interfaces, len(handset().Interfaces))
	require.Empty(t, got.Serial)
}
