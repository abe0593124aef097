package web

import (
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/core/sheet"
)

func TestADevicesNeedIsSaidWithoutItsNameSoThatOthersCanShareIt(t *testing.T) {
	for _, c := range []struct {
		name  string
		d     client.Device
		title string
		who   sheet.Who
	}{
		{"a step with its name", client.Device{Handle: "heron-2", Summary: "blocked", Next: &client.Step{ID: "plug", Title: "Plug heron-2 in", Who: "hands"}}, "Plug it in", sheet.Hands},
		{"no step, but a fault", client.Device{Handle: "heron-2", Summary: "blocked", Says: "heron-2 is held."}, "it is held.", sheet.Computer},
		{"nothing", client.Device{Handle: "heron-2", Summary: "ready", Says: "left over"}, "", ""},
		{"what ends soon is no step yet", client.Device{Handle: "heron-2", Summary: "lapsing"}, "", ""},
	} {
		need := needOf(c.d)
		require.Equal(t, c.title, need.Title, c.name)
		require.Equal(t, c.who, need.Who, c.name)
	}
}

func TestAPhonesPageMayDoLittle(t *testing.T) {
	p := &phone{handle: "heron-2"}
	for request, may := range map[[2]string]bool{
		{"GET", "/api/v1/bench"}:                              true,
		{"GET", "/api/v1/events"}:                             true,
		{"GET", "/api/v1/devices/heron-2"}:                    true,
		{"DELETE", "/api/v1/devices/heron-2/answers/plugged"}: true,
		{"POST", "/api/v1/devices/heron-2/admission"}:         true,
		{"GET", "/api/v1/devices/heron-20/prep"}:              false,
		{"GET", "/api/v1/devices/heron-2/../heron-1/prep"}:    false,
		{"GET", "/api/v1/devices/heron-2/prep/"}:              false,
		{"POST", "/api/v1/devices/heron-2/driver"}:            false,
		{"DELETE", "/api/v1/devices/heron-2/retirement"}:      false,
		{"PUT", "/api/v1/devices/heron-2/told"}:               false,
		{"GET", "/api/v1/sheets"}:                             false,
		{"POST", "/api/v1/bench"}:                             false,
		{"GET", "/API/v1/devices/heron-2/prep"}:               false,
		{"DELETE", "/api/v1/devices/heron-2"}:                 false,
		{"POST", "/api/v1/devices/heron-2/retirement/told"}:   false,
		{"GET", "/api/v1/devices/heron-2/report"}:             false,
		{"POST", "/api/v1/devices/heron-2/find"}:              false,
		{"GET", "/api/v1/devices/heron-2/log"}:                false,
		{"POST", "/api/v1/devices/heron-2/told"}:              true,
		{"POST", "/api/v1/devices/heron-2/remedies"}:          true,
		{"GET", "/api/v1/devices/heron-2/why"}:                true,
	} {
		require.Equal(t, may, p.may(request[0], request[1]), "%s %s", request[0], request[1])
	}
}
