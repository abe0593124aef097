package handover_test

import (
	"bytes"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/handover"
)

func TestARequestCollectsSerialsEachOnce(t *testing.T) {
	r := handover.Request{App: "fellgate/callout", From: "moor-desk", Key: "k"}
	require.NoError(t, r.Add(handover.Device{Serial: "K 2 10031", Model: "K7", At: "harbour-desk"}))
	require.NoError(t, r.Add(handover.Device{Serial: "K 2 10031"}))
	require.Error(t, r.Add(handover.Device{Serial: "<b>"}))
	var out bytes.Buffer
	require.NoError(t, r.Write(&out))
	back, err := handover.ReadRequest(&out)
	require.NoError(t, err)
	require.Equal(t, &r, back)
	require.Len(t, back.Devices, 1)
}

func TestWhatIsNotARequestIsRefused(t *testing.T) {
	const good = `{"format":1,"app":"fellgate/callout","from":"m","key":"k","devices":[]}`
	_, err := handover.ReadRequest(strings.NewReader(good))
	require.NoError(t, err)
	for name, text := range map[string]string{"nothing": "", "another format": strings.Replace(good, "1", "2", 1), "no app": strings.Replace(good, "fellgate/callout", "x", 1), "another member": strings.Replace(good, `"from"`, `"form"`, 1),
		"a serial twice": strings.Replace(good, "[]", `[{"serial":"K 2 1","model":"","at":""},{"serial":"K 2 1","model":"","at":""}]`, 1), "too long": good + strings.Repeat(" ", handover.MaxRequest), "something behind it": good + "{}"} {
		_, err := handover.ReadRequest(strings.NewReader(text))
		require.Error(t, err, name)
	}
}

func TestAHandoverIsOpenedAsItWasMadeAndNothingElseIs(t *testing.T) {
	h := handover.Handover{App: "fellgate/callout", From: "moor-desk", File: []byte("an app file"), Statement: "a.b.c"}
	var out bytes.Buffer
	require.NoError(t, handover.Pack(&out, files(h), h.App, h.From))
	back, err := handover.Open(bytes.NewReader(out.Bytes()), int64(out.Len()))
	require.NoError(t, err)
	require.Equal(t, h, back)
	for name, raw := range map[string][]byte{"nothing": nil, "no ZIP": []byte("hello"), "cut": out.Bytes()[:out.Len()-30], "other bytes": bytes.Replace(out.Bytes(), []byte("an app file"), []byte("another one"), 1)} {
		_, err := handover.Open(bytes.NewReader(raw), int64(len(raw)))
		require.Error(t, err, name)
	}
}

func files(h handover.Handover) fstest.MapFS {
	return fstest.MapFS{handover.AppFile: {Data: h.File}, handover.StatementFile: {Data: []byte(h.Statement)}}
}

func FuzzOpen(f *testing.F) {
	var out bytes.Buffer
	require.NoError(f, handover.Pack(&out, files(handover.Handover{File: []byte("x"), Statement: "a.b.c"}), "fellgate/callout", "moor-desk"))
	f.Add(out.Bytes())
	f.Fuzz(func(_ *testing.T, raw []byte) { // it must not panic
		handover.Open(bytes.NewReader(raw), int64(len(raw)))
		handover.ReadRequest(bytes.NewReader(raw))
	})
}
