package shell

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/clock"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/plain"
)

// Keys of facts that only such devices have; the prep sheet of the family declares them.
const (
	FactSystem  = "board.system"  // name and version of the system, as os-release(5) has it
	FactModel   = "board.model"   // as the firmware names it
	FactMachine = "board.machine" // architecture, as uname(1) prints it
	FactMemory  = "board.memory"  // bytes
	FactScreen  = "board.screen"  // loopback port of a VNC server
)

// About is what a device's system says of itself.
type About struct {
	Name     string       // of the host
	System   string       // name and version of the system
	Release  fact.Release // VERSION_ID of os-release(5); "" where there is none
	Model    string
	Machine  string
	Memory   int64 // bytes; 0 where it is not known
	Battery  int   // per cent; -1 for none
	Free     int64 // bytes, where apps are put; -1 where it is not known
	Clock    time.Time
	Networks []netip.Prefix
	Screen   int // loopback port of a VNC server; 0 for none
	Apps     []device.App
}

// followEvery is how often a device is asked again, since nothing of ours is there that would tell.
const followEvery = 10 * time.Second

// clockEvery is how often its clock is reported again.
const clockEvery = 5 * time.Minute

// About asks the device what it is.
func (s *Session) About(ctx context.Context) (About, error) {
	mark := rand.Text()
	out, err := s.call(ctx, "facts", nil, mark)
	if err != nil {
		return About{}, fmt.Errorf("read what the device is: %w", err)
	}
	return parseAbout(out, mark), nil
}

// Facts returns what the device tells of itself, which is read every ten seconds.
func (s *Session) Facts() (device.Facts, error) { return following{s}, nil }

type following struct{ *Session }

func (f following) Follow(ctx context.Context, take func([]device.Fact)) error {
	before := map[string]string{}
	var told time.Time
	for {
		about, err := f.About(ctx)
		if err != nil {
			return err
		}
		facts := about.facts()
		if time.Since(told) > clockEvery {
			told = time.Now()
			delete(before, device.FactClock)
		} else {
			facts = slices.DeleteFunc(facts, func(f device.Fact) bool { return f.Key == device.FactClock })
		}
		var news []device.Fact
		for _, f := range facts {
			if before[f.Key] != string(f.Value) {
				before[f.Key] = string(f.Value)
				news = append(news, f)
			}
		}
		if len(news) > 0 {
			take(news)
		}
		select {
		case <-f.done:
			return device.ErrEnded
		default:
		}
		if err := clock.Sleep(ctx, clock.System{}, followEvery); err != nil {
			return context.Cause(ctx)
		}
	}
}

// facts are what is known, as facts.
func (a About) facts() []device.Fact {
	var out []device.Fact
	add := func(key string, v any) {
		if raw, err := json.Marshal(v); err == nil {
			out = append(out, device.Fact{Key: key, Value: raw})
		}
	}
	text := func(key, v string) {
		if v != "" {
			add(key, v)
		}
	}
	text(FactSystem, a.System)
	text(FactModel, a.Model)
	text(FactMachine, a.Machine)
	text(string(fact.OSRelease), string(a.Release))
	if a.Memory > 0 {
		add(FactMemory, a.Memory)
	}
	if a.Battery >= 0 {
		add(string(fact.Battery), a.Battery)
	}
	if a.Free >= 0 {
		add(string(fact.Free), a.Free/freeStep*freeStep)
	}
	add(FactScreen, a.Screen)
	if len(a.Networks) > 0 {
		var networks []string
		for _, n := range a.Networks {
			networks = append(networks, n.String())
		}
		add(string(fact.AirNetworks), networks)
	}
	if !a.Clock.IsZero() {
		add(device.FactClock, a.Clock)
	}
	add(device.FactApps, append([]device.App{}, a.Apps...))
	return out
}

// freeStep is how exactly it is told how much storage is free, so that not every byte is news.
const freeStep = 16 << 20

// parseAbout reads what the script facts prints. What cannot be read is left out: a device may print
// anything.
func parseAbout(out, mark string) About {
	parts := map[string][]string{}
	part := ""
	for line := range strings.Lines(out) {
		line = strings.TrimRight(line, "\r\n")
		if name, ok := strings.CutPrefix(line, mark+" "); ok {
			part = name
		} else if line != "" || part == "apps" {
			parts[part] = append(parts[part], line)
		}
	}
	first := func(name string) string {
		if len(parts[name]) == 0 {
			return ""
		}
		return short(parts[name][0])
	}
	release := parseRelease(parts["os"])
	a := About{Name: first("name"), Model: first("model"), Machine: first("machine"), Battery: -1, Free: -1, Networks: parseNetworks(parts["networks"]), Screen: parseScreen(parts["listens"]), Apps: parseApps(parts["apps"])}
	if a.System = release["PRETTY_NAME"]; a.System == "" {
		a.System = strings.TrimSpace(release["NAME"] + " " + release["VERSION"])
	}
	if v, err := fact.ParseRelease(release["VERSION_ID"]); err == nil {
		a.Release = v
	}
	if f := strings.Fields(first("memory")); len(f) == 3 && f[0] == "MemTotal:" {
		a.Memory = number(f[1], 1<<40) * 1024
	}
	if n, err := strconv.Atoi(first("battery")); err == nil && 0 <= n && n <= 100 {
		a.Battery = n
	}
	if f := strings.Fields(first("free")); len(f) >= 6 {
		a.Free = number(f[3], 1<<43) * 1024
	}
	if n := number(first("clock"), 1<<40); n > 0 {
		a.Clock = time.Unix(n, 0).UTC()
	}
	return a
}

// number reads a number from 0 to most; 0 for anything else.
func number(s string, most int64) int64 {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 0 || n > most {
		return 0
	}
	return n
}

func short(s string) string { return plain.Cut(plain.Line(strings.TrimSpace(s)), 100) }

// parseRelease reads os-release(5): assignments as of a shell, of which no other part is understood.
func parseRelease(lines []string) map[string]string {
	out := map[string]string{}
	for _, line := range lines {
		name, value, ok := strings.Cut(strings.TrimSpace(line), "=")
		if !ok || strings.HasPrefix(name, "#") {
			continue
		}
		out[name] = short(unquoted(value))
	}
	return out
}

// unquoted takes the quotes of a shell off a word.
func unquoted(s string) string {
	if len(s) >= 2 && s[0] == '\'' && s[len(s)-1] == '\'' {
		return s[1 : len(s)-1]
	}
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		s = s[1 : len(s)-1]
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '\\' && i+1 < len(s) && strings.IndexByte("\"$`\\", s[i+1]) >= 0 {
			i++
		}
		b.WriteByte(s[i])
	}
	return b.String()
}

// mostNetworks is how many networks of a device are kept.
const mostNetworks = 20

// parseNetworks reads what ip(8) prints of addresses, one a line.
func parseNetworks(lines []string) []netip.Prefix {
	var out []netip.Prefix
	for _, line := range lines {
		f := strings.Fields(line)
		if len(f) < 4 || f[2] != "inet" && f[2] != "inet6" {
			continue
		}
		p, err := netip.ParsePrefix(f[3])
		if err == nil && !p.Addr().IsLoopback() && !p.Addr().IsLinkLocalUnicast() && len(out) < mostNetworks {
			out = append(out, p)
		}
	}
	return out
}

// VNC servers listen at ports from 5900 on (RFC 6143, section 4).
const (
	firstScreen = 5900
	lastScreen  = 5919
)

// parseScreen finds the least port of a VNC server in /proc/net/tcp and tcp6, that accepts connections of the
// device itself; 0 for none.
func parseScreen(lines []string) int {
	found := 0
	for _, line := range lines {
		f := strings.Fields(line)
		const listening = "0A"
		if len(f) < 4 || f[3] != listening {
			continue
		}
		address, port, ok := strings.Cut(f[1], ":")
		n, err := strconv.ParseUint(port, 16, 16)
		if !ok || err != nil || n < firstScreen || n > lastScreen {
			continue
		}
		switch address {
		case "0100007F", "00000000", strings.Repeat("0", 32): // 127.0.0.1, and any
			if found == 0 || int(n) < found {
				found = int(n)
			}
		}
	}
	return found
}

// mostApps is how many apps of a device are read.
const mostApps = 500

// parseApps reads three lines of each app: what it is and how it stands, its version, its name.
func parseApps(lines []string) []device.App {
	var out []device.App
	r := bufio.NewScanner(strings.NewReader(strings.Join(lines, "\n")))
	next := func() string { r.Scan(); return short(r.Text()) }
	for r.Scan() && len(out) < mostApps {
		f := strings.Fields(r.Text())
		if len(f) != 3 {
			continue
		}
		id := idOf(f[0])
		a := device.App{ID: id, Digest: short(f[1]), Running: f[2] == "running", Version: next(), Name: next()}
		if id != "" {
			out = append(out, a)
		}
	}
	return out
}
