package demo

import (
	"context"
	"fmt"
	"net"
	"path/filepath"
	"time"

	"earlybench.invalid/earlybench/client"
	"earlybench.invalid/earlybench/internal/service"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/standin"
	"earlybench.invalid/earlybench/standin/body"
)

// harbour is the other bench, harbour-desk, with devices of its own that it lends.
type harbour struct {
	dir      string
	ports    [2]int // service, where peers connect
	at       service.Addresses
	service  *child
	standins *child
	rig      standin.Addresses
	client   *client.Client
}

const (
	harbourName = "harbour-desk"
	quayName    = "quay" // its host
)

// harbourBodies are its devices. Both are ready, and let it in.
var harbourBodies = []demoBody{
	{name: "heron-9", maker: "halden", model: "H3", serial: "HH3 0042 9B31", begin: &body.Beginning{Opened: true, Settings: map[string]string{"computers": "debug and install", "rests": "100 minutes"}}},
	{name: "whimbrel-9", maker: "ostler", model: "WO", serial: "OH W 3902", begin: &body.Beginning{Settings: map[string]string{"crew": "yes", "lodgers": "yes"}}},
}

// startHarbour starts the other bench and its stand-ins, and makes it a peer of the first one.
func startHarbour(ctx context.Context, d *demo, made sets, authority *standin.Authority) (*harbour, error) {
	h := &harbour{dir: filepath.Join(d.cfg.State, harbourName), ports: [2]int{d.ports[8], d.ports[9]}}
	if err := h.start(d); err != nil {
		return h, err
	}
	h.client = client.New(h.at.Socket)
	own, err := h.client.Bench(ctx)
	if err != nil {
		return h, err
	}
	sc := standin.Scenario{Dir: filepath.Join(h.dir, "standins"), Host: quayName, Answer: d.cfg.Answer, Boot: d.cfg.Boot, Crew: crewNumber, System: system, Release: systemRelease, Authority: authority,
		HubAddress: "127.0.0.1:0", HostAddress: "127.0.0.1:0", HandsAddress: "127.0.0.1:0", Socket: state.Socket(h.dir, "standin")}
	if sc.Sets, err = made.onHost([]setOf{heron3Set, tabletSet}, nil); err != nil {
		return h, err
	}
	for _, b := range harbourBodies {
		begin := *b.begin
		begin.Admits = map[string]string{own.Fingerprint: own.Name}
		sc.Bodies = append(sc.Bodies, standin.Entry{Name: b.name, Body: b.maker, Model: b.model, Serial: b.serial, Begin: &begin})
	}
	if h.standins, err = spawn(d.cfg.Err, sc, &h.rig, "standin", "serve"); err != nil {
		return h, fmt.Errorf("start its stand-ins: %w", err)
	}
	if err := h.client.AddHost(ctx, client.Host{Name: quayName, USBIP: h.rig.Hub, Control: h.rig.Host}); err != nil {
		return h, fmt.Errorf("tell it of its host: %w", err)
	}
	if err := h.named(ctx); err != nil {
		return h, err
	}
	return h, h.meet(ctx, d.client)
}

// start starts its service.
func (h *harbour) start(d *demo) (err error) {
	h.at = service.Addresses{}
	h.service, err = spawn(d.cfg.Err, nil, &h.at, "serve", "--supervised", "--own-usb=false", "--no-announcements", "--name", harbourName, "--state", h.dir, "--port", fmt.Sprint(h.ports[0]),
		"--peers", fmt.Sprintf("127.0.0.1:%d", h.ports[1]))
	if err != nil {
		return fmt.Errorf("start %s: %w", harbourName, err)
	}
	for i, at := range []string{h.at.Service[len("http://"):], h.at.Peers} { // the same again, should it be started again
		_, port, err := net.SplitHostPort(at)
		if err != nil {
			return err
		}
		if _, err := fmt.Sscan(port, &h.ports[i]); err != nil {
			return err
		}
	}
	return nil
}

// ended is closed when its service has ended; nil where there is no other bench.
func (h *harbour) ended() <-chan struct{} {
	if h == nil {
		return nil
	}
	return h.service.done
}

// named waits until it sees its devices, and gives them their names.
func (h *harbour) named(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, readyWithin)
	defer cancel()
	for {
		devices, err := h.client.Devices(ctx, "")
		if err != nil {
			return fmt.Errorf("look at its rack: %w", err)
		}
		settled := 0
		for _, dev := range devices {
			for _, b := range harbourBodies {
				if b.serial != dev.Serial {
					continue
				}
				url := h.rig.Hands + "/held/" + b.name
				if dev.Handle != b.name || dev.HandsURL != url {
					if err := h.client.Set(ctx, dev.Handle, client.Change{Handle: &b.name, HandsURL: &url}); err != nil {
						return fmt.Errorf("name its devices: %w", err)
					}
				}
				if dev.Summary != "unseen" {
					settled++
				}
			}
		}
		if settled == len(harbourBodies) {
			return nil
		}
		select {
		case <-ctx.Done():
			return nil // some are not as they were at first
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// meet makes it a peer of the first bench, which may use its devices, and ask for hands.
func (h *harbour) meet(ctx context.Context, first *client.Client) error {
	peers, err := first.Peers(ctx)
	if err != nil {
		return err
	}
	for _, p := range peers {
		if p.Name != harbourName {
			continue
		}
		if len(p.Addresses) != 1 || p.Addresses[0] != h.at.Peers {
			_, err = first.SetPeer(ctx, harbourName, client.PeerChange{Addresses: []string{h.at.Peers}})
		}
		return err
	}
	i, err := h.client.Invite(ctx, client.NewInvitation{For: 600, May: "hands"})
	if err != nil {
		return fmt.Errorf("invite the first bench: %w", err)
	}
	if _, err := first.AddPeer(ctx, client.NewPeer{Invitation: i}); err != nil {
		return fmt.Errorf("become a peer of %s: %w", harbourName, err)
	}
	return h.giveKit(ctx, first)
}

// farKit is the version of the stand-in kit that it has, and gives the first bench.
const farKit = "3.3"

func (h *harbour) giveKit(ctx context.Context, first *client.Client) error {
	app, err := appDir("muster")
	if err != nil {
		return nil // the program is not beside the demo's apps
	}
	if err := addKit(ctx, h.client, app, filepath.Join(h.dir, "standins", kitName+"-"+farKit), farKit); err != nil {
		return fmt.Errorf("give it its stand-in kit: %w", err)
	}
	who, err := first.Bench(ctx)
	if err != nil {
		return err
	}
	if _, err := h.client.SetPeer(ctx, who.Name, client.PeerChange{Kits: &[]string{kitName}}); err != nil {
		return fmt.Errorf("give the first bench its kit: %w", err)
	}
	return nil
}

// welcome says what can be done with it.
func (h *harbour) welcome(command string) string {
	if h == nil {
		return ""
	}
	return fmt.Sprintf(`  From afar, of the bench %[2]s:
    %[1]s rack --peers
    %[1]s loan start heron-9 --from %[2]s --for 2h
`, command, harbourName)
}
