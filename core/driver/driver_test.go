package driver_test

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/driver"
	"earlybench.invalid/earlybench/core/usb"
)

func TestASetFitsJustTheInterfacesThatItNames(t *testing.T) {
	m := driver.Manifest{Name: "halden-link", Version: "4.1", Fits: []driver.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}
	root := fstest.MapFS{"link.drv": {Data: []byte("driver")}}
	var b bytes.Buffer
	require.NoError(t, driver.Pack(&b, m, root, []string{"link.drv"}, nil))
	s, err := driver.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	fit := func(product uint16, class uint8, name string) driver.Fit {
		f, _ := s.About.FitOf(driver.Target{ID: usb.ID{Vendor: 0xf3e0, Product: product}, Class: usb.Class{Class: class}, Interface: name})
		return f
	}
	require.Equal(t, driver.Exact, fit(0x0104, 0xff, usb.LinkName))
	require.Equal(t, driver.Similar, fit(0x0103, 0xff, usb.LinkName), "a similar model is another")
	require.Equal(t, driver.NoFit, fit(0x0104, 0xff, "Something"))
	require.Equal(t, driver.NoFit, fit(0x0104, 6, usb.LinkName))
	require.Nil(t, s.Publisher)

	for _, change := range []func(*driver.Manifest){
		func(m *driver.Manifest) { m.Name = "Halden Link" },
		func(m *driver.Manifest) { m.Version = "" },
		func(m *driver.Manifest) { m.Fits = nil },
		func(m *driver.Manifest) { m.Fits = []driver.Match{{USB: "f3e0"}} },
		func(m *driver.Manifest) { m.Fits = []driver.Match{{USB: "f3e0:0104-0103", Class: "ff/00/00"}} },
		func(m *driver.Manifest) { m.Fits = []driver.Match{{USB: "f3e0:0104", Class: "FF/0/0"}} },
		func(m *driver.Manifest) { m.Fits = []driver.Match{{Class: "06/01/01"}} },
		func(m *driver.Manifest) { m.Systems = []driver.System{{Name: "Vale OS"}} },
	} {
		bad := m
		change(&bad)
		require.Error(t, driver.Pack(&b, bad, root, []string{"link.drv"}, nil))
	}
	_, err = driver.Open(bytes.NewReader([]byte("PK")), 2)
	require.ErrorIs(t, err, bundle.ErrNotZIP)
}

func FuzzOpen(f *testing.F) {
	m := driver.Manifest{Name: "halden-link", Version: "4.1", Fits: []driver.Match{{USB: "f3e0:0100-01ff", Class: "ff/00/00", Interface: usb.LinkName}}, Systems: []driver.System{{Name: "linux", From: "5"}}}
	var b bytes.Buffer
	if err := driver.Pack(&b, m, fstest.MapFS{"link.drv": {Data: []byte("driver")}}, []string{"link.drv"}, nil); err != nil {
		f.Fatal(err)
	}
	f.Add(b.Bytes())
	f.Fuzz(func(t *testing.T, raw []byte) {
		s, err := driver.Open(bytes.NewReader(raw), int64(len(raw)))
		if err != nil {
			return
		}
		s.About.FitOf(driver.LinkOf(usb.ID{Vendor: 0xf3e0, Product: 0x0104}, "linux", "6"))
		text, err := driver.Rules([]driver.Rule{driver.RuleOf(s.Held(bundle.Digest(raw)))}, driver.Access{Group: "ada"})
		if err == nil {
			require.NotContains(t, text, "RUN")
			require.Len(t, driver.ReadRules(text), 1, "whatever the set says, it makes one entry: %s", text)
		}
	})
}

// A small file that unpacks to 4 GiB is refused before anything of it is unpacked.
func TestASetThatUnpacksToMuchIsRefusedAtOnce(t *testing.T) {
	const files, each = 64, 64 << 20
	m := driver.Manifest{Format: 1, Kind: "driver", Name: "halden-link", Version: "4.1", Fits: []driver.Match{{USB: "f3e0:0104", Class: "ff/00/00", Interface: usb.LinkName}}}
	for i := range files {
		m.Files = append(m.Files, bundle.File{Path: fmt.Sprintf("f%d", i), SHA256: strings.Repeat("0", 64), Size: each})
	}
	manifest, err := json.Marshal(m)
	require.NoError(t, err)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create(driver.ManifestName)
	require.NoError(t, err)
	_, err = w.Write(manifest)
	require.NoError(t, err)
	for _, f := range m.Files { // each says that it is large
		w, err := z.CreateRaw(&zip.FileHeader{Name: "files/" + f.Path, Method: zip.Deflate, UncompressedSize64: each, CompressedSize64: 0})
		require.NoError(t, err)
		_, err = w.Write(nil)
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	began := time.Now()
	_, err = driver.Open(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.ErrorContains(t, err, "it unpacks to more than 268435456 bytes")
	require.Less(t, time.Since(began), time.Second)
}
