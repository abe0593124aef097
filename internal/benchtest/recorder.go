package benchtest

import (
	"encoding/binary"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Recorder passes on what an exporter and its importer say, and keeps it as packets in the
// format of libpcap (draft-ietf-opsawg-pcap), with addresses of its own. Each message is a
// packet: the analyser takes the data of an answer for another message where it comes
// second in a packet.
type Recorder struct {
	net.Listener
	to string

	mu    sync.Mutex
	file  []byte
	ports uint16
}

// Record starts to pass on what is said to an exporter at to.
func Record(t testing.TB, to string) *Recorder {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &Recorder{Listener: l, to: to, ports: 40000}
	le := binary.LittleEndian
	const rawIP = 101
	for _, v := range []uint32{0xa1b2c3d4, 2 | 4<<16, 0, 0, 1 << 16, rawIP} {
		r.file = le.AppendUint32(r.file, v)
	}
	var running sync.WaitGroup
	running.Go(func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			running.Go(func() { r.carry(c) })
		}
	})
	t.Cleanup(func() { l.Close(); running.Wait() })
	return r
}

// carry passes one connection on.
func (r *Recorder) carry(in net.Conn) {
	out, err := net.Dial("tcp", r.to)
	if err != nil {
		in.Close()
		return
	}
	r.mu.Lock()
	r.ports++
	s := &conversation{port: r.ports, sent: [2]uint32{1, 1}, in: map[uint32]bool{}}
	r.mu.Unlock()
	var both sync.WaitGroup
	for side, way := range [][2]net.Conn{{in, out}, {out, in}} {
		both.Go(func() {
			defer way[1].Close()
			b := make([]byte, 1400)
			for {
				n, err := way[0].Read(b)
				if n > 0 {
					r.keep(s, side, b[:n])
					if _, err := way[1].Write(b[:n]); err != nil {
						return
					}
				}
				if err != nil {
					return
				}
			}
		})
	}
	both.Wait()
}

// conversation is a TCP connection as it is recorded.
type conversation struct {
	port uint16
	sent [2]uint32       // next sequence numbers: the importer's, the exporter's
	rest [2][]byte       // of a message that is not whole yet
	in   map[uint32]bool // transfers from the device, by their numbers
}

// message returns the length of the message at the beginning of what was said, by the
// kernel's description of USB/IP (usbip_protocol.rst); 0 if it is not whole.
func (s *conversation) message(said []byte) (n int) {
	const importRequest, imported, submit, submitted = 0x01118003, 0x01110003, 1, 3
	if len(said) < 8 {
		return 0
	}
	be := binary.BigEndian
	switch command := be.Uint32(said); {
	case command == importRequest:
		n = 40
	case command == imported:
		n = 320
	case len(said) < 48:
		return 0
	case command == submit:
		n = 48
		if s.in[be.Uint32(said[4:])] = be.Uint32(said[12:]) == 1; !s.in[be.Uint32(said[4:])] {
			n += int(be.Uint32(said[24:]))
		}
	case command == submitted && s.in[be.Uint32(said[4:])]:
		n = 48 + int(be.Uint32(said[24:]))
	default:
		n = 48
	}
	if len(said) < n {
		return 0
	}
	return n
}

func (r *Recorder) keep(s *conversation, side int, data []byte) {
	r.mu.Lock()
	defer r.mu.Unlock()
	s.rest[side] = append(s.rest[side], data...)
	for n := s.message(s.rest[side]); n > 0; n = s.message(s.rest[side]) {
		r.packet(s, side, s.rest[side][:n])
		s.rest[side] = s.rest[side][n:]
	}
}

// packet records a segment (RFC 791, RFC 9293; checksums are left empty).
func (r *Recorder) packet(s *conversation, side int, data []byte) {
	const usbip, ack, push = 3240, 0x10, 0x08
	be := binary.BigEndian
	length := 40 + len(data)
	p := []byte{0x45, 0, byte(length >> 8), byte(length), 0, 0, 0x40, 0, 64, 6, 0, 0, 192, 0, 2, byte(1 + side), 192, 0, 2, byte(2 - side)}
	from, to := s.port, uint16(usbip)
	if side == 1 {
		from, to = to, from
	}
	p = be.AppendUint16(be.AppendUint16(p, from), to)
	p = be.AppendUint32(be.AppendUint32(p, s.sent[side]), s.sent[1-side])
	p = append(p, 0x50, ack|push, 0xff, 0xff, 0, 0, 0, 0)
	p = append(p, data...)
	s.sent[side] += uint32(len(data))
	le, now := binary.LittleEndian, time.Now()
	for _, v := range []uint32{uint32(now.Unix()), uint32(now.Nanosecond() / 1000), uint32(len(p)), uint32(len(p))} {
		r.file = le.AppendUint32(r.file, v)
	}
	r.file = append(r.file, p...)
}

// Analysed is what tshark reads of all that was recorded, with a display filter: nothing where nothing fits it.
func (r *Recorder) Analysed(t testing.TB) func(filter string, more ...string) string {
	t.Helper()
	tshark, err := exec.LookPath("tshark")
	if err != nil {
		t.Skip("tshark is not installed")
	}
	file := filepath.Join(t.TempDir(), "session.pcap")
	r.mu.Lock()
	require.NoError(t, os.WriteFile(file, r.file, 0o600))
	r.mu.Unlock()
	return func(filter string, more ...string) string {
		args := append([]string{"-n", "-r", file, "-d", "tcp.port==3240,usbip", "-Y", filter}, more...)
		out, err := exec.Command(tshark, args...).Output() // #nosec G204 -- of the system, with a test's arguments
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
}
