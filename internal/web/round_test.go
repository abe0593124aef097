package web

import (
	"testing"

	"github.com/stretchr/testify/require"
)

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
