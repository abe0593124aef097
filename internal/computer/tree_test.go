package computer_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/hostlink"
	"earlybench.invalid/earlybench/core/usb"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/benchtest/leaks"
	"earlybench.invalid/earlybench/internal/computer"
	"earlybench.invalid/earlybench/internal/outlook"
	"earlybench.invalid/earlybench/internal/rack"
)

func TestMain(m *testing.M) { leaks.None(m) }

func hubAt(id, parent string, port int) hostlink.Hub {
	return hostlink.Hub{BusID: id, Name: "hub " + id, Ports: 4, Joint: hostlink.Joint{Parent: parent, PortNumber: port}}
}

func deviceAt(id, parent string, port int, interfaces ...hostlink.Interface) hostlink.Device {
	return hostlink.Device{BusID: id, Port: "port of " + id, Name: "thing " + id, USB: "f3e9:0001", Interfaces: interfaces, Joint: hostlink.Joint{Parent: parent, PortNumber: port}}
}

// lines are a tree, a row a line.
func lines(rows []computer.Row) (out []string) {
	for _, r := range rows {
		text := fmt.Sprintf("%d %s %s", r.Depth, r.Kind, r.ID)
		if r.Trouble != "" {
			text += ": " + r.Gate + " " + r.Trouble
		}
		out = append(out, text)
	}
	return out
}

func TestARowStandsBelowWhatItIsConnectedTo(t *testing.T) {
	b := hostlink.Bus{
		Hubs:    []hostlink.Hub{hubAt("1-2", "usb1", 2), hubAt("usb1", "", 0), hubAt("usb2", "", 0)},
		Devices: []hostlink.Device{deviceAt("1-10", "usb1", 10), deviceAt("1-2.1", "1-2", 1, hostlink.Interface{Number: 3, Class: "03/01/01"}), deviceAt("1-1", "usb1", 1)},
	}
	require.Equal(t, []string{"0 controller usb1", "1 device 1-1", "1 hub 1-2", "2 device 1-2.1", "3 interface 3", "1 device 1-10", "0 controller usb2"}, lines(computer.Tree(b, computer.Known{})))
}

func TestAHostThatReportsNoHubsOrImpossibleOnesIsShownAllTheSame(t *testing.T) {
	flat := hostlink.Bus{Devices: []hostlink.Device{deviceAt("1-1", "", 0), deviceAt("1-2", "nowhere", 2)}}
	require.Equal(t, []string{"0 device 1-1", "0 device 1-2"}, lines(computer.Tree(flat, computer.Known{})))
	self := hostlink.Bus{Hubs: []hostlink.Hub{hubAt("a", "a", 1), hubAt("b", "c", 1), hubAt("c", "b", 1)}}
	require.Equal(t, []string{"0 hub a"}, lines(computer.Tree(self, computer.Known{}))[:1], "hubs in a circle end")
	var deep hostlink.Bus
	for n := range 40 {
		parent := ""
		if n > 0 {
			parent = fmt.Sprint("h", n-1)
		}
		deep.Hubs = append(deep.Hubs, hubAt(fmt.Sprint("h", n), parent, 1))
	}
	require.Len(t, computer.Tree(deep, computer.Known{}), 9)
}

func TestWhatIsWrongIsMarkedWhereItIsWrong(t *testing.T) {
	link := hostlink.Interface{Number: 1, Class: "ff/00/00", Name: usb.LinkName}
	held, unknown := deviceAt("1-1", "", 1, link), deviceAt("1-2", "", 2)
	held.Holder = "scanner (process 7)"
	known := computer.Known{Devices: map[string]outlook.Standing{}, Unrecognised: map[string]rack.Unrecognised{"port of 1-2": {Name: "unknown-1"}}}
	rows := computer.Tree(hostlink.Bus{Devices: []hostlink.Device{held, unknown, deviceAt("1-3", "", 3)}}, known)
	require.True(t, rows[0].Worst)
	require.Equal(t, []string{"0 device 1-1: seen Held by scanner (process 7).", "1 interface 1", "0 device 1-2:  No prep sheet fits it.", "0 device 1-3"}, lines(rows))
}

func TestADeviceLinkWithoutDriverIsMarkedWithItsGate(t *testing.T) {
	b := benchtest.New(t)
	rig := benchtest.Handset(t, true)
	b.Watch(rig)
	c := computer.Computer{Rack: b.Rack, Outlook: b.Outlook, Hosts: b.Hosts}
	_, err := c.Of("nowhere")
	require.ErrorContains(t, err, `host "nowhere"`)
	marked := ""
	b.Eventually("the interface is marked", func() bool {
		v, err := c.Of("loft")
		if err != nil || !v.Known {
			return false
		}
		for _, r := range v.Rows {
			if r.Kind == computer.Interface && r.Gate == "driver" {
				marked = r.Name
			}
		}
		return marked != ""
	})
	require.Equal(t, usb.LinkName, marked)
}
