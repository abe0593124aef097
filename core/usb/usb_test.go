package usb_test

import (
	"context"
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/usb"
)

func handset() usb.Descriptor {
	return usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0104}, Revision: 0x1200, Maker: "Halden", Product: "Heron 4", Serial: "HH4 0077 3C1E", Config: 1, MilliAmps: 500,
		Interfaces: []usb.Interface{
			{Number: 0, Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}, Name: "Files", Endpoints: []usb.Endpoint{{Address: 0x81, MaxPacket: 512}, {Address: 1, MaxPacket: 512}}},
			{Number: 1, Class: usb.Class{Class: 0xff}, Name: usb.LinkName, Endpoints: []usb.Endpoint{{Address: 0x82, MaxPacket: 512}, {Address: 2, MaxPacket: 512}}}}}
}

func TestDescriptorsComeBackAsTheyWereWritten(t *testing.T) {
	want := handset()
	got, names, err := usb.ParseDevice(want.DeviceBytes())
	require.NoError(t, err)
	require.NoError(t, got.ParseConfig(want.ConfigBytes()))
	require.Equal(t, want.ID, got.ID)
	require.Equal(t, 500, got.MilliAmps)
	require.Len(t, got.Interfaces, 2)
	require.Equal(t, want.Interfaces[1].Endpoints, got.Interfaces[1].Endpoints)
	for i, s := range []string{"Halden", "Heron 4", "HH4 0077 3C1E"} {
		name, err := usb.ParseString(want.StringBytes(names[i]))
		require.NoError(t, err)
		require.Equal(t, s, name)
	}
	require.Nil(t, want.StringBytes(99))
	_, in, out, ok := want.Link()
	require.True(t, ok)
	require.Equal(t, []uint8{0x82, 2}, []uint8{in, out})
}

func TestRevisionsAreReadAsReleases(t *testing.T) {
	for revision, want := range map[uint16]string{0x1200: "12", 0x0620: "6.2", 0x0300: "3", 0x0612: "6.1.2"} {
		require.Equal(t, want, usb.Release(revision))
	}
}

func TestIdsAreReadStrictly(t *testing.T) {
	id, err := usb.ParseID("f3e0:0104")
	require.NoError(t, err)
	require.Equal(t, "f3e0:0104", id.String())
	for _, bad := range []string{"", "f3e0", "f3e0:104", "zzzz:0104", "f3e0:0104:1", "+3e0:0104"} {
		_, err := usb.ParseID(bad)
		require.Error(t, err, bad)
	}
}

func FuzzParseConfig(f *testing.F) {
	d := handset()
	f.Add(d.ConfigBytes())
	f.Add([]byte{9, 2, 255, 255, 1, 1, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		var d usb.Descriptor
		if d.ParseConfig(b) == nil {
			d.Link()
		}
		usb.ParseString(b)
		usb.ParseDevice(b)
		usb.Release(uint16(len(b)))
	})
}

func TestAFifoWaitsWhenFullAndWhenEmptyAndEnds(t *testing.T) {
	f := usb.NewFifo(4)
	done := make(chan error, 1)
	go func() {
		_, err := f.Write([]byte("abcdefgh"))
		done <- err
	}()
	buf := make([]byte, 3)
	var got string
	for len(got) < 8 {
		n, err := f.Read(buf)
		require.NoError(t, err)
		got += string(buf[:n])
	}
	require.Equal(t, "abcdefgh", got)
	require.NoError(t, <-done)

	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, err := f.ReadContext(ctx, buf)
	require.ErrorIs(t, err, context.DeadlineExceeded)
	f.Write([]byte("xy"))
	f.Close()
	n, err := f.Read(buf)
	require.NoError(t, err)
	require.Equal(t, "xy", string(buf[:n]), "what was there is still read")
	_, err = f.Read(buf)
	require.ErrorIs(t, err, io.EOF)
	_, err = f.Write([]byte("z"))
	require.Error(t, err)
}
