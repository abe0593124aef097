package hostile

import (
	"bytes"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/pkg/sftp"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/usb"
)

// Attack is something that a device does to a bench, and what the bench must say of it.
type Attack struct {
	Name string
	// Asks are commands of a person, in which @ stands for the device's handle, and what each must print
	// (regular expressions). Each ends within a minute.
	Asks []Ask
	Behaviour
}

// Ask is a command, and what it must say.
type Ask struct{ Command, Says string }

// Escapes control a terminal, or turn the direction of a text round.
const Escapes = "\x1b]0;owned\a\x1b[2J\x1b[31m\u202egnp.exe\u2066\x9b5n\r\n\x00"

const (
	run  = "run fellgate/callout @ --follow=false"
	show = "rack show @"
	why  = "why @"
)

func method(name string, f func(Call) (any, error)) Behaviour {
	return Behaviour{Control: map[string]func(Call) (any, error){name: f}}
}

func screen(f func(io.ReadWriteCloser)) Behaviour {
	return Behaviour{Channel: map[string]func(io.ReadWriteCloser){"screen@earlybench.invalid": f}}
}

func control(f func(io.ReadWriteCloser)) Behaviour {
	return Behaviour{Channel: map[string]func(io.ReadWriteCloser){"control@earlybench.invalid": f}}
}

// Attacks are all attacks.
func Attacks() []Attack {
	return slicesOf(onTheCable(), ofItsFacts(), ofItsApps(), ofItsLog(), ofItsScreen())
}

func slicesOf(all ...[]Attack) (out []Attack) {
	for _, a := range all {
		out = append(out, a...)
	}
	return out
}

// onTheCable are attacks below the methods of the link.
func onTheCable() []Attack {
	flood := func(what []byte) func(io.ReadWriteCloser) {
		return func(c io.ReadWriteCloser) {
			for {
				if _, err := c.Write(what); err != nil {
					return
				}
			}
		}
	}
	silence := func(c io.ReadWriteCloser) { io.Copy(io.Discard, c) } //nolint:errcheck // until its end
	return []Attack{
		{"names on the bus that control a terminal", []Ask{{show, `ready`}, {"host tree", `heron-1 `}}, Behaviour{USB: func(d *usb.Descriptor) { d.Maker, d.Product = Escapes, Escapes+"Heron" }}},
		{"a serial of another make", []Ask{{"rack", `heron-1 +Halden Heron 3 12 .* ready`}}, Behaviour{USB: func(d *usb.Descriptor) { d.Serial = d.Serial + "\x1b[2J" }}},
		{"no byte on the cable", []Ask{{why, `has not let moor-desk in|could not be made`}}, Behaviour{Pipe: silence}},
		{"bytes without end on the cable", []Ask{{why, `has not let moor-desk in|could not be made`}}, Behaviour{Pipe: flood(bytes.Repeat([]byte{0xff}, 4096))}},
		{"a stream that never begins SSH", []Ask{{why, `has not let moor-desk in|could not be made`}}, Behaviour{Stream: silence}},
		{"a greeting without end instead of SSH", []Ask{{why, `handshake failed: ssh: overflow reading version string`}}, Behaviour{Stream: flood([]byte("hello, bench\r\n"))}},
		{"another device key each time", []Ask{{"link restart @", `(?s)pinned device key is SHA256:`}, {why, `Pinned is SHA256:.*, it shows`}}, Behaviour{Keys: true}},
		{"an admission that does not exist", []Ask{{why, `has not let moor-desk in`}}, Behaviour{Admit: func() device.Admittance { return device.Admittance{State: "root", For: Escapes, Wants: Escapes} }}},
		{"a control channel that ends at once", []Ask{{why, `could not be made: facts.follow: the connection has ended`}}, control(func(c io.ReadWriteCloser) {})},
		{"a control channel that says nothing", []Ask{{why, `ready`}}, control(silence)},
		{"a line without end in JSON-RPC", []Ask{{why, `ready|the connection has ended`}}, control(flood([]byte(strings.Repeat("[", 4096))))},
		{"requests without end in JSON-RPC", []Ask{{why, `ready|the connection has ended`}}, control(flood([]byte(`{"jsonrpc":"2.0","id":1,"method":"describe"}` + "\n")))},
		{"JSON with names twice", []Ask{{why, `ready|the connection has ended`}}, control(func(c io.ReadWriteCloser) {
			answers(c, `{"family":"tarn","Family":"wick","maker":"Halden","model":"Heron 3","code":"H3","serial":"x","release":"12","name":"n","family":"kestle"}`)
		})},
	}
}

// answers answers every JSON-RPC request with the same result.
func answers(c io.ReadWriteCloser, result string) {
	in := json.NewDecoder(c)
	for {
		var q struct {
			ID json.RawMessage `json:"id"`
		}
		if in.Decode(&q) != nil {
			return
		}
		if _, err := fmt.Fprintf(c, `{"jsonrpc":"2.0","id":%s,"result":%s}`+"\n", q.ID, result); err != nil {
			return
		}
	}
}

func ofItsFacts() []Attack {
	facts := func(more func(tell func(key, value string) error) error) Behaviour {
		return method(link.MethodFactsFollow, tells(more))
	}
	return []Attack{
		{"a family that nobody knows", []Ask{{why, `ready`}}, method(link.MethodDescribe, raw(`{"family":"zzz","maker":"Halden","model":"Heron 3","code":"H3","serial":"s","release":"12","name":"n"}`))},
		{"a description that is a list", []Ask{{why, `ready`}}, method(link.MethodDescribe, raw(`[1,2,3]`))},
		{"a description of half a megabyte", []Ask{{why, `ready`}}, method(link.MethodDescribe, raw(`{"family":"tarn","maker":`+quoted(strings.Repeat("H", 500_000))+`,"model":"Heron 3","code":"H3","serial":"s","release":"12","name":"n"}`))},
		{"a description beyond the largest message", []Ask{{why, `ready|the connection has ended`}}, method(link.MethodDescribe, raw(`{"family":`+quoted(strings.Repeat("H", 1_200_000))+`}`))},
		{"a description that controls a terminal", []Ask{{show, `Halden Heron 3`}, {"rack", `Halden Heron 3`}}, method(link.MethodDescribe, raw(`{"family":"tarn","maker":`+quoted(Escapes)+`,"model":`+quoted(Escapes)+`,"code":"H3","serial":`+quoted(Escapes)+`,"release":`+quoted(Escapes)+`,"name":`+quoted(Escapes)+`}`))},
		{"a description that never comes", []Ask{{why, `ready`}}, method(link.MethodDescribe, silent)},
		{"facts that never come", []Ask{{why, `ready`}}, method(link.MethodFactsFollow, silent)},
		{"facts that end at once, again and again", []Ask{{why, `could not be made: the device has ended facts.follow`}}, method(link.MethodFactsFollow, raw("null"))},
		{"facts of an authority", []Ask{{show + " --facts", `usb.present +yes +bus`}}, facts(func(tell func(string, string) error) error {
			return errors.Join(tell("register.state", `"in"`), tell("token.state", `"good"`), tell("host.clock", "0"), tell("usb.present", "false"))
		})},
		{"facts of another type", []Ask{{show + " --facts", `device.release +12 +bus`}}, facts(func(tell func(string, string) error) error {
			return errors.Join(tell("device.battery", `"full"`), tell("device.locked", "7"), tell("device.release", "[]"), tell("apps", `{"a":1}`))
		})},
		{"a fact of 300 kB", []Ask{{show + " --facts", `device.release +12`}}, facts(func(tell func(string, string) error) error {
			return tell("device.owner", quoted(strings.Repeat("x", 300_000)))
		})},
		{"a fact that changes 20,000 times", []Ask{{show + " --history", `device.release`}}, facts(func(tell func(string, string) error) error {
			for i := range 20_000 {
				if err := tell("device.release", quoted(fmt.Sprint("12.", i, strings.Repeat("y", 4000)))); err != nil {
					return err
				}
			}
			return nil
		})},
		{"5,000 facts that nobody declared", []Ask{{show + " --facts", `device.release +12`}}, facts(func(tell func(string, string) error) error {
			for i := range 5_000 {
				if err := tell(fmt.Sprint("x.y", i), "1"); err != nil {
					return err
				}
			}
			return nil
		})},
		{"facts that control a terminal", []Ask{{show + " --facts", `device.release`}, {why, `ready`}}, facts(func(tell func(string, string) error) error {
			return errors.Join(tell("device.release", quoted(Escapes)), tell("device.computers", quoted(Escapes)), tell("air.network", quoted(Escapes)))
		})},
		{"a clock of the year 9999", []Ask{{why, `ready|clock`}}, facts(func(tell func(string, string) error) error { return tell(device.FactClock, `"9999-12-31T23:59:59Z"`) })},
		{"a clock that is no time", []Ask{{why, `ready`}}, facts(func(tell func(string, string) error) error { return tell(device.FactClock, quoted(Escapes)) })},
	}
}

func ofItsApps() []Attack {
	many := func(n int, name string) string {
		var b strings.Builder
		b.WriteByte('[')
		for i := range n {
			if i > 0 {
				b.WriteByte(',')
			}
			fmt.Fprintf(&b, `{"id":"fellgate/a%d","version":"1","digest":"%064d","name":%s}`, i, i, quoted(name))
		}
		return b.String() + "]"
	}
	lacks := func(files string) Behaviour {
		return method(link.MethodAppOffer, raw(`{"digest":"x","dir":"/incoming","files":`+files+`}`))
	}
	return []Attack{
		{"1,500 apps", []Ask{{show, `1000 more`}}, method(link.MethodFactsFollow, tells(func(tell func(string, string) error) error { return tell(device.FactApps, many(1500, "a")) }))},
		{"apps whose names control a terminal", []Ask{{show, `app +fellgate/a0 1, installed`}}, method(link.MethodFactsFollow, tells(func(tell func(string, string) error) error { return tell(device.FactApps, many(3, Escapes)) }))},
		{"an app list that never comes", []Ask{{run, `has not answered apps within 30s`}}, method(link.MethodApps, silent)},
		{"an offer that is never answered", []Ask{{run, `has not answered app.offer within 30s`}}, method(link.MethodAppOffer, silent)},
		{"a wish for a file that the app does not have", []Ask{{run, `requests data that the app does not have`}}, lacks(`[{"sha256":"` + strings.Repeat("0", 64) + `","size":5,"have":0}]`)},
		{"a wish for a file behind its end", []Ask{{run, `requests data that the app does not have`}}, method(link.MethodAppOffer, func(c Call) (any, error) { return wish(c, func(l *device.Lack) { l.Have = l.Size + 1 }) })},
		{"a wish for a file of another size", []Ask{{run, `requests data that the app does not have`}}, method(link.MethodAppOffer, func(c Call) (any, error) { return wish(c, func(l *device.Lack) { l.Size = 1 << 50 }) })},
		{"a wish for the same file 5,000 times", []Ask{{run, `requests data that the app does not have`}}, method(link.MethodAppOffer, func(c Call) (any, error) {
			l, err := wish(c, func(*device.Lack) {})
			for range 12 {
				l.Files = append(l.Files, l.Files...)
			}
			return l, err
		})},
		{"a directory for the files that leads elsewhere", []Ask{{run, `not in the device's app list`}}, method(link.MethodAppOffer, func(c Call) (any, error) {
			l, err := wish(c, func(*device.Lack) {})
			l.Dir = "/../../etc/\x1b[2J"
			return l, err
		})},
		{"a refusal that controls a terminal", []Ask{{run, `\([0-9]+ bytes more\)`}}, method(link.MethodAppOffer, func(Call) (any, error) { return nil, errors.New(Escapes + strings.Repeat("no ", 100_000)) })},
		{"files that are taken and never acknowledged", []Ask{{run, `has not acknowledged what it is sent within 30s`}}, Behaviour{Control: map[string]func(Call) (any, error){link.MethodAppOffer: func(c Call) (any, error) { return wish(c, func(*device.Lack) {}) }},
			Files: func(ctx context.Context) sftp.Handlers { return sftp.Handlers{FilePut: hole{ctx}, FileCmd: sink{}} }}},
		{"an app that is installed and not there", []Ask{{run, `not in the device's app list`}}, method(link.MethodApps, raw("[]"))},
		{"200 statements, and none of them one", []Ask{{show, `ready`}}, method(link.MethodStatements, raw("["+strings.Repeat(quoted(Escapes)+",", 199)+`"x"]`))},
	}
}

// wish answers an offer with one of the app's files, changed.
func wish(c Call, change func(*device.Lack)) (device.Lacks, error) {
	var offer struct {
		Manifest []byte `json:"manifest"`
	}
	var app struct {
		Files []struct {
			SHA256 string `json:"sha256"`
			Size   int64  `json:"size"`
		} `json:"files"`
	}
	if err := errors.Join(json.Unmarshal(c.Params, &offer), json.Unmarshal(offer.Manifest, &app)); err != nil || len(app.Files) == 0 {
		return device.Lacks{}, errors.Join(errors.New("the offer has no files"), err)
	}
	l := device.Lack{SHA256: app.Files[0].SHA256, Size: app.Files[0].Size}
	change(&l)
	return device.Lacks{Digest: "x", Dir: "/incoming", Files: []device.Lack{l}}, nil
}

// hole takes writes and never acknowledges them.
type hole struct{ ctx context.Context }

func (h hole) Filewrite(*sftp.Request) (io.WriterAt, error) { return h, nil }

func (h hole) WriteAt([]byte, int64) (int, error) {
	<-h.ctx.Done()
	return 0, io.ErrClosedPipe
}

func ofItsLog() []Attack {
	lines := func(n int, text string, again bool) Behaviour {
		return method(link.MethodLogFollow, func(c Call) (any, error) {
			for i := 0; again || i < n; i++ {
				if err := c.Notify(link.MethodLog, device.Line{Seq: uint64(i + 1), App: "fellgate/callout", Text: text}); err != nil {
					return nil, err
				}
			}
			<-c.Context.Done()
			return nil, c.Context.Err()
		})
	}
	const log = "log @ --for 2s"
	return []Attack{
		{"a log without end", []Ask{{log, `a line of the log`}}, lines(0, "a line of the log", true)},
		{"lines of 100 kB", []Ask{{log, `zzz… \(95[0-9]+ bytes more\)`}}, lines(300, strings.Repeat("z", 100_000), false)},
		{"lines that control a terminal", []Ask{{log, `gnp.exe`}}, lines(20, Escapes, false)},
		{"line numbers that go back", []Ask{{log, `device +back`}}, method(link.MethodLogFollow, func(c Call) (any, error) {
			for i := range 500 {
				if err := c.Notify(link.MethodLog, device.Line{Seq: uint64(500 - i), Text: "back"}); err != nil {
					return nil, err
				}
			}
			<-c.Context.Done()
			return nil, c.Context.Err()
		})},
		{"a log that ends at once", []Ask{{log, `ended`}}, method(link.MethodLogFollow, raw("null"))},
		{"a log that is never begun", []Ask{{log, `^$`}}, method(link.MethodLogFollow, silent)},
	}
}

// rfbUpTo speaks RFB 3.8 as a server until it has told a size.
func rfbUpTo(c io.ReadWriteCloser, width, height uint16, name string) error {
	if _, err := io.WriteString(c, "RFB 003.008\n"); err != nil {
		return err
	}
	if _, err := io.ReadFull(c, make([]byte, 12)); err != nil {
		return err
	}
	if _, err := c.Write([]byte{1, 1}); err != nil {
		return err
	}
	if _, err := io.ReadFull(c, make([]byte, 1)); err != nil {
		return err
	}
	if _, err := c.Write([]byte{0, 0, 0, 0}); err != nil {
		return err
	}
	if _, err := io.ReadFull(c, make([]byte, 1)); err != nil {
		return err
	}
	b := binary.BigEndian.AppendUint16(nil, width)
	b = binary.BigEndian.AppendUint16(b, height)
	b = append(b, 32, 24, 0, 1, 0, 255, 0, 255, 0, 255, 16, 8, 0, 0, 0, 0)
	b = binary.BigEndian.AppendUint32(b, uint32(len(name)))
	_, err := c.Write(append(b, name...))
	return err
}

// update is a FramebufferUpdate of one rectangle (RFC 6143, 7.6.1).
func update(x, y, w, h uint16, encoding int32, pixels []byte) []byte {
	b := []byte{0, 0, 0, 1}
	for _, n := range []uint16{x, y, w, h} {
		b = binary.BigEndian.AppendUint16(b, n)
	}
	return append(binary.BigEndian.AppendUint32(b, uint32(encoding)), pixels...)
}

func ofItsScreen() []Attack {
	after := func(width, height uint16, name string, what []byte) Behaviour {
		return screen(func(c io.ReadWriteCloser) {
			if rfbUpTo(c, width, height, name) != nil {
				return
			}
			c.Write(what)          //nolint:errcheck // the bench sees it, or its end
			io.Copy(io.Discard, c) //nolint:errcheck // as above
		})
	}
	const try = "try fellgate/callout @"
	return []Attack{
		{"a screen that is not RFB", []Ask{{try, `take a picture: not RFB: version`}}, screen(func(c io.ReadWriteCloser) { io.WriteString(c, strings.Repeat("not RFB ", 100)) })}, //nolint:errcheck // as above
		{"a screen that never begins", []Ask{{try, `no picture within 15s`}}, screen(func(c io.ReadWriteCloser) { io.Copy(io.Discard, c) })},                                      //nolint:errcheck // as above
		{"a screen of 65535 by 65535", []Ask{{try, `a screen of 65535 x 65535`}}, after(65535, 65535, "n", nil)},
		{"a screen's name of 4 GB", []Ask{{try, `no picture within|not RFB|EOF`}}, screen(func(c io.ReadWriteCloser) {
			if rfbUpTo(c, 10, 10, "") == nil {
				c.Write(bytes.Repeat([]byte{255}, 1<<16)) //nolint:errcheck // as above
			}
		})},
		{"an empty rectangle", []Ask{{try, `picture`}}, after(320, 480, "n", update(0, 0, 0, 0, 0, nil))},
		{"a rectangle outside the screen", []Ask{{try, `not RFB: a rectangle`}}, after(320, 480, "n", update(300, 0, 100, 10, 0, make([]byte, 4000)))},
		{"an encoding that nobody asked for", []Ask{{try, `in encoding 16`}}, after(320, 480, "n", update(0, 0, 10, 10, 16, make([]byte, 400)))},
		{"a picture that stops in the middle", []Ask{{try, `no picture within 15s`}}, after(320, 480, "n", update(0, 0, 320, 480, 0, make([]byte, 1000)))},
	}
}
