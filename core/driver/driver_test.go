package driver_test

import (
	"bytes"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
)

func TestASetFitsJustTheInterfacesThatItNames(t *testing.T) {
	m := driver.Manifest{Name: "halden-link", Version: "4.1", Fits: []driver.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}
	root := fstest.MapFS{"link.drv": {Data: []byte("driver")}}
	var b bytes.Buffer
	require.NoError(t, driver.Pack(&b, m, root, []string{"link.drv"}))
	s, err := driver.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	heron4, heron3 := usb.ID{Vendor: 0xf3e0, Product: 0x0104}, usb.ID{Vendor: 0xf3e0, Product: 0x0103}
	link := usb.Class{Class: 0xff}
	require.True(t, s.About.FitsInterface(heron4, link, usb.LinkName))
	require.False(t, s.About.FitsInterface(heron3, link, usb.LinkName), "a similar model is another")
	require.False(t, s.About.FitsInterface(heron4, link, "Something"))
	require.False(t, s.About.FitsInterface(heron4, usb.Class{Class: 6}, usb.LinkName))

	for _, change := range []func(*driver.Manifest){
		func(m *driver.Manifest) { m.Name = "Halden Link" },
		func(m *driver.Manifest) { m.Version = "" },
		func(m *driver.Manifest) { m.Fits = nil },
		func(m *driver.Manifest) { m.Fits = []driver.Match{{USB: "f3e0"}} },
	} {
		bad := m
		change(&bad)
		require.Error(t, driver.Pack(&b, bad, root, []string{"link.drv"}))
	}
	_, err = driver.Open(bytes.NewReader([]byte("PK")), 2)
	require.ErrorIs(t, err, bundle.ErrNotZIP)
}
