// Package hostile is devices that attack the bench they are connected to: each attack has a name, says what
// the device does, and what the bench must say of it.
package hostile

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"sync"

	"github.com/pkg/sftp"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/core/usb"
)

// Call is one call of a control method.
type Call struct {
	Context context.Context
	Params  json.RawMessage
	Notify  func(method string, params any) error
}

// Behaviour is how a device differs from an honest one.
type Behaviour struct {
	USB     func(d *usb.Descriptor)                     // changes what it presents on the bus
	Pipe    func(pipe io.ReadWriteCloser)               // speaks on the cable instead of the link
	Stream  func(stream io.ReadWriteCloser)             // speaks in the stream instead of SSH
	Keys    bool                                        // it has another device key each time
	Admit   func() device.Admittance                    // what it says of the bench's admission
	Control map[string]func(c Call) (any, error)        // methods that it answers in its own way
	Channel map[string]func(channel io.ReadWriteCloser) // channels on which it speaks in its own way, by the beginning of their type
	Files   func(ctx context.Context) sftp.Handlers
}

// Device is a handset that looks like a Heron 3 and has admitted everybody. It is plugged into a hub.
type Device struct {
	Behaviour
	name, serial string
	signer       ssh.Signer

	ctx     context.Context // of the link
	mu      sync.Mutex
	app     device.App    // that was offered last
	started chan struct{} // closed once it was started
}

// New makes a device with a name for its hub, and a serial.
func New(name, serial string, b Behaviour) (*Device, error) {
	signer, err := newKey()
	return &Device{Behaviour: b, name: name, serial: serial, signer: signer, started: make(chan struct{})}, err
}

func newKey() (ssh.Signer, error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(key)
}

// Name is its name on the hub.
func (d *Device) Name() string { return d.name }

// Descriptor is what it presents on the bus.
func (d *Device) Descriptor() usb.Descriptor {
	link := usb.Interface{Number: 1, Class: usb.Class{Class: usb.LinkClass}, Name: "Early Bench device link 1",
		Endpoints: []usb.Endpoint{{Address: 0x82, MaxPacket: 512}, {Address: 2, MaxPacket: 512}}}
	files := usb.Interface{Class: usb.Class{Class: 6, Subclass: 1, Protocol: 1}, Name: "Files", Endpoints: []usb.Endpoint{{Address: 0x81, MaxPacket: 512}, {Address: 1, MaxPacket: 512}}}
	u := usb.Descriptor{ID: usb.ID{Vendor: 0xf3e0, Product: 0x0103}, Revision: 0x1200, Maker: "Halden", Product: "Heron 3", Serial: d.serial, MaxPacket0: 64, Config: 1, MilliAmps: 500,
		Interfaces: []usb.Interface{files, link}}
	if d.USB != nil {
		d.USB(&u)
	}
	return u
}

// Changed is never closed: what it presents stays.
func (d *Device) Changed() <-chan struct{} { return nil }

// On says that it runs.
func (d *Device) On() bool { return true }

// Plugged, Unplugged and Reset change nothing.
func (d *Device) Plugged()   {}
func (d *Device) Unplugged() {}
func (d *Device) Reset()     {}

// ServeLink speaks on the cable.
func (d *Device) ServeLink(ctx context.Context, pipe io.ReadWriteCloser) {
	defer context.AfterFunc(ctx, func() { pipe.Close() })()
	defer pipe.Close()
	d.ctx = ctx
	if d.Pipe != nil {
		d.Pipe(pipe)
		return
	}
	stream, err := link.AcceptStream(pipe)
	if err != nil {
		return
	}
	defer stream.Close()
	if d.Stream != nil {
		d.Stream(stream)
		return
	}
	signer := d.signer
	if d.Keys {
		if signer, err = newKey(); err != nil {
			return
		}
	}
	if len(d.Channel) == 0 {
		link.Serve(ctx, stream, signer, d) //nolint:errcheck // the bench sees the end
		return
	}
	d.serveRaw(ctx, stream, signer)
}

// serveRaw serves the link as link.Serve does, with channels of its own.
func (d *Device) serveRaw(ctx context.Context, stream *link.Stream, signer ssh.Signer) {
	config := &ssh.ServerConfig{ServerVersion: "SSH-2.0-EarlyBenchLink_1", PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(signer)
	conn, channels, requests, err := ssh.NewServerConn(stream, config)
	if err != nil {
		return
	}
	defer context.AfterFunc(ctx, func() { conn.Close() })()
	go ssh.DiscardRequests(requests)
	var running sync.WaitGroup
	defer running.Wait()
	for n := range channels {
		speak := d.Channel[n.ChannelType()]
		if speak == nil {
			speak = func(c io.ReadWriteCloser) { d.speak(ctx, c) }
		}
		c, requests, err := n.Accept()
		if err != nil {
			continue
		}
		go ssh.DiscardRequests(requests)
		running.Go(func() {
			defer c.Close()
			speak(c)
		})
	}
}

// speak answers JSON-RPC on a channel, honestly but for the methods of the behaviour.
func (d *Device) speak(ctx context.Context, c io.ReadWriteCloser) {
	conn := rpc.New(c, func(ctx context.Context, conn *rpc.Conn, method string, params json.RawMessage) (any, error) {
		if method == link.MethodAdmitState {
			return d.Admission(""), nil
		}
		return d.answer(ctx, method, params, conn.Notify)
	})
	select {
	case <-conn.Done():
	case <-ctx.Done():
	}
}

// Admission says that everybody is admitted, unless the behaviour says otherwise.
func (d *Device) Admission(string) device.Admittance {
	if d.Admit != nil {
		return d.Admit()
	}
	return device.Admittance{State: device.Admitted, For: "until withdrawn"}
}

// Ask answers a question at once.
func (d *Device) Ask(_ context.Context, _ device.Visitor, report func(device.Admittance)) {
	report(d.Admission(""))
}

// Screen has no picture: devices with one of their own speak on its channel.
func (d *Device) Screen() rfb.Source { return nil }

// Files takes what is sent, and forgets it.
func (d *Device) Files() sftp.Handlers {
	if d.Behaviour.Files != nil {
		return d.Behaviour.Files(d.ctx)
	}
	return sftp.Handlers{FilePut: sink{}, FileCmd: sink{}}
}

type sink struct{}

func (sink) Filewrite(*sftp.Request) (io.WriterAt, error) { return sink{}, nil }
func (sink) WriteAt(p []byte, _ int64) (int, error)       { return len(p), nil }
func (sink) Filecmd(*sftp.Request) error                  { return nil }

// Control answers a control method.
func (d *Device) Control(ctx context.Context, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	return d.answer(ctx, method, params, notify)
}

// honestFacts are what an honest device tells of itself.
var honestFacts = map[string]string{"device.release": `"12"`, "device.battery": "80", "device.power": "true", "device.locked": "false", "device.asleep": "false", "device.mode": "true",
	"device.computers": `"debug and install"`, "apps": "[]"}

func (d *Device) answer(ctx context.Context, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	if own := d.Behaviour.Control[method]; own != nil {
		return own(Call{ctx, params, notify})
	}
	switch method {
	case link.MethodDescribe:
		return d.describe(), nil
	case link.MethodFactsFollow:
		return nil, d.facts(ctx, notify)
	case link.MethodLogFollow:
		return nil, d.log(ctx, notify)
	case link.MethodStatements:
		return []any{}, nil
	case link.MethodApps:
		d.mu.Lock()
		defer d.mu.Unlock()
		return []device.App{d.app}, nil
	case link.MethodAppOffer:
		return device.Lacks{Digest: "x", Dir: "/incoming", Files: []device.Lack{}}, d.offered(params)
	case link.MethodAppSwitch, link.MethodAppStop, link.MethodAppRemove, link.MethodFind, link.MethodAdmitWithdraw:
		return nil, nil
	case link.MethodAppStart:
		d.mu.Lock()
		defer d.mu.Unlock()
		select {
		case <-d.started:
		default:
			close(d.started)
		}
		return device.Started{}, nil
	}
	return nil, rpc.Errorf(rpc.CodeMethodNotFound, "this device knows no %q", method)
}

// offered notes the app that is offered.
func (d *Device) offered(params json.RawMessage) error {
	offer, err := rpc.Decode[link.Offer](params)
	if err != nil {
		return err
	}
	var m struct{ ID, Version, Name string }
	if err := json.Unmarshal(offer.Manifest, &m); err != nil {
		return err
	}
	sum := sha256.Sum256(offer.Manifest)
	d.mu.Lock()
	defer d.mu.Unlock()
	d.app = device.App{ID: m.ID, Version: m.Version, Name: m.Name, Digest: hex.EncodeToString(sum[:]), Running: true}
	return nil
}

// log tells the line that the app writes once it was started.
func (d *Device) log(ctx context.Context, notify func(string, any) error) error {
	select {
	case <-d.started:
	case <-ctx.Done():
		return ctx.Err()
	}
	if err := notify(link.MethodLog, device.Line{Seq: 1, App: "fellgate/callout", Text: "callout ready: 4 on the rota"}); err != nil {
		return err
	}
	<-ctx.Done()
	return ctx.Err()
}

func (d *Device) describe() link.Description {
	return link.Description{Family: "tarn", Maker: "Halden", Model: "Heron 3", Code: "H3", Serial: d.serial, Release: "12", Name: d.name}
}

// facts tells the honest facts, and then nothing more.
func (d *Device) facts(ctx context.Context, notify func(string, any) error) error {
	for key, value := range honestFacts {
		if err := notify(link.MethodFact, device.Fact{Key: key, Value: json.RawMessage(value)}); err != nil {
			return err
		}
	}
	if err := notify(link.MethodFactsAll, nil); err != nil {
		return err
	}
	<-ctx.Done()
	return ctx.Err()
}

// tells makes a follower of facts that tells more than the honest ones, and then nothing.
func tells(more func(notify func(key, value string) error) error) func(Call) (any, error) {
	return func(c Call) (any, error) {
		tell := func(key, value string) error {
			return c.Notify(link.MethodFact, device.Fact{Key: key, Value: json.RawMessage(value)})
		}
		for key, value := range honestFacts {
			if err := tell(key, value); err != nil {
				return nil, err
			}
		}
		if err := more(tell); err != nil {
			return nil, err
		}
		if err := c.Notify(link.MethodFactsAll, nil); err != nil {
			return nil, err
		}
		<-c.Context.Done()
		return nil, c.Context.Err()
	}
}

// silent never answers.
func silent(c Call) (any, error) {
	<-c.Context.Done()
	return nil, c.Context.Err()
}

// raw answers with a text as it stands.
func raw(text string) func(Call) (any, error) {
	return func(Call) (any, error) { return json.RawMessage(text), nil }
}

func quoted(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(fmt.Sprint("a text that is no text: ", err))
	}
	return string(b)
}

// Introduce refuses every introduction.
func (d *Device) Introduce(device.Visitor) (link.Introduced, error) {
	return nil, link.ErrNotIntroduced
}
