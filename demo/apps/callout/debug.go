//go:build wasip1

package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"
	"unsafe"
)

//go:wasmimport port open
func portOpen(name unsafe.Pointer, length uint32) int32

//go:wasmimport port accept
func portAccept(name unsafe.Pointer, length uint32) int32

//go:wasmimport port read
func portRead(conn int32, at unsafe.Pointer, length uint32) int32

//go:wasmimport port write
func portWrite(conn int32, at unsafe.Pointer, length uint32) int32

//go:wasmimport port close
func portClose(conn int32)

const debugPort = "debug"

func named(call func(unsafe.Pointer, uint32) int32) int32 {
	name := debugPort
	return call(unsafe.Pointer(unsafe.StringData(name)), uint32(len(name)))
}

// serveDebug answers debuggers at the port "debug", one after the other, by the Debug Adapter Protocol: what
// threads there are, where the app is, and the parties on the rota. It sets no breakpoints.
func serveDebug(parties []string) {
	if named(portOpen) != 0 {
		return
	}
	for {
		conn := named(portAccept)
		if conn == 0 {
			time.Sleep(200 * time.Millisecond)
			continue
		}
		(&debugger{conn: conn, parties: parties}).serve()
		portClose(conn)
	}
}

// debugger is a connection of a debugger.
type debugger struct {
	conn    int32
	parties []string
	have    []byte
	seq     int
}

type request struct {
	Seq       int             `json:"seq"`
	Type      string          `json:"type"`
	Command   string          `json:"command"`
	Arguments json.RawMessage `json:"arguments"`
}

func (d *debugger) serve() {
	for {
		r, ok := d.next()
		if !ok {
			return
		}
		body, err := d.answer(r)
		reply := map[string]any{"type": "response", "request_seq": r.Seq, "command": r.Command, "success": err == nil}
		if err != nil {
			reply["message"] = err.Error()
		} else if body != nil {
			reply["body"] = body
		}
		if !d.say(reply) {
			return
		}
		if r.Command == "initialize" && !d.say(map[string]any{"type": "event", "event": "initialized"}) || r.Command == "disconnect" {
			return
		}
	}
}

// next reads a request: headers, an empty line, and so many bytes of JSON.
func (d *debugger) next() (r request, ok bool) {
	buf := make([]byte, 4096)
	for {
		if i := bytes.Index(d.have, []byte("\r\n\r\n")); i >= 0 {
			length := -1
			for _, line := range strings.Split(string(d.have[:i]), "\r\n") {
				if name, value, _ := strings.Cut(line, ":"); strings.EqualFold(name, "Content-Length") {
					length, _ = strconv.Atoi(strings.TrimSpace(value))
				}
			}
			if length < 0 || length > 1<<20 {
				return r, false
			}
			if rest := d.have[i+4:]; len(rest) >= length {
				err := json.Unmarshal(rest[:length], &r)
				d.have = rest[length:]
				return r, err == nil && r.Type == "request"
			}
		} else if len(d.have) > 4096 {
			return r, false
		}
		switch n := portRead(d.conn, unsafe.Pointer(&buf[0]), uint32(len(buf))); {
		case n < 0:
			return r, false
		case n == 0:
			time.Sleep(20 * time.Millisecond)
		default:
			d.have = append(d.have, buf[:n]...)
		}
	}
}

func (d *debugger) say(message map[string]any) bool {
	d.seq++
	message["seq"] = d.seq
	raw, err := json.Marshal(message)
	if err != nil {
		return false
	}
	raw = append([]byte(fmt.Sprintf("Content-Length: %d\r\n\r\n", len(raw))), raw...)
	for len(raw) > 0 {
		n := portWrite(d.conn, unsafe.Pointer(&raw[0]), uint32(len(raw)))
		if n < 0 {
			return false
		}
		if raw = raw[n:]; n == 0 {
			time.Sleep(20 * time.Millisecond)
		}
	}
	return true
}

func (d *debugger) answer(r request) (any, error) {
	type m = map[string]any
	switch r.Command {
	case "initialize":
		return m{"supportsConfigurationDoneRequest": true}, nil
	case "attach", "configurationDone", "disconnect":
		return nil, nil
	case "threads":
		return m{"threads": []m{{"id": 1, "name": "callout"}}}, nil
	case "stackTrace":
		return m{"totalFrames": 1, "stackFrames": []m{{"id": 1, "name": "main.main", "line": 1, "column": 1}}}, nil
	case "scopes":
		return m{"scopes": []m{{"name": "Rota", "variablesReference": 1, "expensive": false}}}, nil
	case "variables":
		all := []m{}
		for i, p := range d.parties {
			all = append(all, m{"name": fmt.Sprintf("party %d", i+1), "value": p, "variablesReference": 0})
		}
		return m{"variables": all}, nil
	}
	return nil, fmt.Errorf("callout does not know %q", r.Command)
}
