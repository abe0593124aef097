// Package service wires a bench together and runs it; it does nothing else.
package service

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"os/user"
	"path/filepath"
	"runtime"
	"runtime/debug"
	"strings"
	"syscall"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/defect"
	"earlybench.invalid/earlybench/core/rpc"
	"earlybench.invalid/earlybench/internal/backup"
	"earlybench.invalid/earlybench/internal/bus"
	"earlybench.invalid/earlybench/internal/library"
	"earlybench.invalid/earlybench/internal/state"
	"earlybench.invalid/earlybench/internal/store"
	"earlybench.invalid/earlybench/internal/web"
)

// Version is the version of the program.
const Version = web.Version

// Config is how a bench is run.
type Config struct {
	State   string // directory
	Port    int    // on loopback; 0 takes a free one
	Name    string // the bench's, as devices show it; "" keeps the one on record
	Home    string // the user's own directory, in which kits are looked for; "" is the one of the process
	Sheets  fs.FS
	Console fs.FS
	Log     *slog.Logger
	USB     *bus.Local // how the computer's own USB is watched; nil for not at all
	// Announcements is how devices are heard that announce themselves on the network.
	Announcements Announcements
	Development   bool   // with a socket that moves the clock
	SafeKey       string // file of the unlock key by which the safe is opened at the start; "" for none
	// Hold starts what holds the opened safe; nil stands for a process of this program.
	Hold func() (io.ReadWriteCloser, error)
	// Peers is HOST:PORT at which other benches connect to this one; "" for nowhere.
	Peers string
	// ClockBy is by how much the clock is moved from the start, with Development.
	ClockBy time.Duration
}

// Announcements is how devices are heard that announce themselves on the network. The zero value is
// the group of Multicast DNS.
type Announcements struct {
	Off   bool
	Group netip.AddrPort // where they announce themselves; zero for that of the standard
}

// Addresses are the addresses of a running bench.
type Addresses struct {
	Service     string `json:"service"`
	Socket      string `json:"socket"`
	SignIn      string `json:"sign_in"` // one-time
	Development string `json:"development,omitempty"`
	Peers       string `json:"peers,omitempty"` // where other benches connect
}

// PortTaken is the error for a port that is already in use.
type PortTaken struct {
	Port int
	By   string // what is known of who has it; may be ""
}

func (p *PortTaken) Error() string {
	by := ""
	if p.By != "" {
		by = " by " + p.By
	}
	return fmt.Sprintf("port %d is in use%s; stop that program, or choose another port with --port N (0 takes a free one)", p.Port, by)
}

// Run runs a bench until ctx ends. It calls started once everything answers.
func Run(ctx context.Context, cfg Config, started func(Addresses)) (err error) {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(50) // it runs beside other work all day: a little more time for less memory
	}
	release, err := state.Lock(cfg.State)
	if err != nil {
		return err
	}
	defer release()
	switch before, err := backup.Finish(cfg.State, time.Now()); {
	case err != nil:
		return fmt.Errorf("bring a restore of a backup to its end: %w", err)
	case before != "":
		cfg.Log.Info("brought a restore of a backup to its end", "before", before)
	}
	tcp, err := listen(cfg.Port)
	if err != nil {
		return err
	}
	defer tcp.Close()
	socket := state.Socket(cfg.State, "bench")
	unix, err := listenUnix(socket)
	if err != nil {
		return err
	}
	defer unix.Close()

	keys, err := state.ReadKeys(cfg.State)
	if err != nil {
		return err
	}
	st, err := store.Open(ctx, filepath.Join(cfg.State, "bench.db"))
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	moved := &clock.Moved{}
	if cfg.Development {
		moved.Move(cfg.ClockBy)
	}
	sheets, err := library.Open(ctx, library.Config{Shipped: cfg.Sheets, Dir: filepath.Join(cfg.State, "sheets"), Store: st, Clock: moved, Log: cfg.Log})
	if err != nil {
		return err
	}
	id, name, err := identity(ctx, st, cfg.Name)
	if err != nil {
		return err
	}
	host, err := consoleHost(ctx, st)
	if err != nil {
		return err
	}
	if err := st.TrimHistory(ctx, moved.Now()); err != nil {
		return fmt.Errorf("look through the records: %w", err)
	}
	defect.Tell(func(e *defect.Error) {
		cfg.Log.Error("an error in the program was contained", "in", e.In, "text", e.Text, "stack", e.Stack)
	})
	in, err := MakeInsides(ctx, cfg, st, sheets, moved, keys, name)
	if err != nil {
		return err
	}
	defer in.Close()
	server := in.Face(web.Config{Key: keys.Link.PublicKey(), ID: id, Owner: owner(), Host: host, Console: cfg.Console}, tcp.Addr().String())
	defer func() { err = errors.Join(err, server.Close()) }()
	server.Serve(tcp) // who asks for what is on record waits until that was read
	server.Serve(unix)
	at := Addresses{Service: server.Address(), Socket: socket, SignIn: server.Offer()}
	if cfg.Development {
		at.Development = state.Socket(cfg.State, "development")
		end, err := serveDevelopment(at.Development, moved)
		if err != nil {
			return err
		}
		defer end()
	}
	if err := in.Start(ctx); err != nil {
		return err
	}
	for _, text := range st.Damaged() {
		cfg.Log.Warn("left out what cannot be read", "file", filepath.Join(cfg.State, "bench.db"), "what", text)
	}
	at.Peers = in.Peers.Address()
	started(at)
	<-ctx.Done()
	return nil
}

// owner is the person who runs the bench. Whoever reaches its socket, or received a
// sign-in address, acts as that person.
func owner() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "the owner"
}

// identity returns the bench's id and name, made at the first start.
func identity(ctx context.Context, st *store.Store, given string) (id, name string, err error) {
	if id, err = st.Setting(ctx, "bench.id"); err != nil {
		return "", "", fmt.Errorf("read the bench's id: %w", err)
	}
	if id == "" {
		id = store.NewID()
		if err := st.SetSetting(ctx, "bench.id", id); err != nil {
			return "", "", err
		}
	}
	if name, err = st.Setting(ctx, "bench.name"); err != nil {
		return "", "", err
	}
	if given != "" && given != name {
		name = given
		err = st.SetSetting(ctx, "bench.name", name)
	}
	if name == "" {
		if name, _ = os.Hostname(); name == "" {
			name = "bench"
		}
	}
	return id, name, err
}

// consoleHost is the name under which browsers reach the console, made at the first start. Nobody guesses
// it, so that no page of another program has the same name. Browsers find names below localhost at this
// computer (RFC 6761, section 6.3).
func consoleHost(ctx context.Context, st *store.Store) (string, error) {
	name, err := st.Setting(ctx, "console.host")
	if err != nil || name != "" {
		return name, err
	}
	name = "bench-" + strings.ToLower(rand.Text()) + ".localhost"
	return name, st.SetSetting(ctx, "console.host", name)
}

func listen(port int) (net.Listener, error) {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, &PortTaken{Port: port, By: Holder(port)}
	}
	if err != nil {
		return nil, fmt.Errorf("listen: %w", err)
	}
	return l, nil
}

func listenUnix(path string) (net.Listener, error) {
	if err := state.SocketDir(path); err != nil {
		return nil, fmt.Errorf("make the directory of the socket: %w", err)
	}
	os.Remove(path) //nolint:errcheck // a leftover: the state directory is locked by us
	l, err := net.Listen("unix", path)
	if err != nil {
		return nil, fmt.Errorf("listen: %w", err)
	}
	return l, os.Chmod(path, 0o600)
}

// Counts is what a program holds.
type Counts struct {
	Goroutines int    `json:"goroutines"`
	Heap       uint64 `json:"heap"` // bytes that are in use, after a collection
}

func counts() Counts {
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return Counts{Goroutines: runtime.NumGoroutine(), Heap: m.HeapAlloc}
}

// serveDevelopment answers clock.move {by} and program.counts on a socket.
func serveDevelopment(path string, moved *clock.Moved) (end func(), err error) {
	l, err := listenUnix(path)
	if err != nil {
		return nil, err
	}
	return rpc.Serve(l, func(ctx context.Context, c *rpc.Conn, method string, params json.RawMessage) (any, error) {
		if method == "program.counts" {
			return counts(), nil
		}
		p, err := rpc.Decode[struct {
			By string `json:"by"`
		}](params)
		if err != nil || method != "clock.move" {
			return rpc.NoMethod(ctx, c, method, params)
		}
		d, err := time.ParseDuration(p.By)
		if err != nil {
			return nil, err
		}
		return moved.Move(d).UTC(), nil
	}), nil
}

// Holder returns the process that listens on a loopback port, as far as Linux shows it;
// "" otherwise.
func Holder(port int) string {
	inode := listeningInode(port)
	if inode == "" {
		return ""
	}
	links, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, l := range links {
		if to, err := os.Readlink(l); err == nil && to == "socket:["+inode+"]" {
			pid := strings.Split(l, "/")[2]
			name, _ := os.ReadFile("/proc/" + pid + "/comm")
			return fmt.Sprintf("%s (process %s)", strings.TrimSpace(string(name)), pid)
		}
	}
	return ""
}

func listeningInode(port int) string {
	const listening = "0A" // TCP_LISTEN
	for _, table := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		raw, err := os.ReadFile(table)
		if err != nil {
			continue
		}
		for line := range strings.Lines(string(raw)) {
			f := strings.Fields(line)
			if len(f) > 9 && f[3] == listening && strings.HasSuffix(f[1], fmt.Sprintf(":%04X", port)) {
				return f[9]
			}
		}
	}
	return ""
}
