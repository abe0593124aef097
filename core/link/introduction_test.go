package link_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/introduction"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/problem"
)

// meetings is the part of a fake that may be introduced.
type meetings struct {
	turns introduction.Turns
	shown chan introduction.Words
	waits time.Duration
	stop  chan struct{}
}

func (f *fake) Introduce(v device.Visitor) (link.Introduced, error) {
	if f.meetings == nil {
		return nil, link.ErrNotIntroduced
	}
	end, err := f.turns.Begin(time.Now())
	if err != nil {
		return nil, err
	}
	return &meeting{f, v, end}, nil
}

type meeting struct {
	*fake
	visitor device.Visitor
	end     func(time.Time, bool)
}

func (m *meeting) Device() introduction.Description {
	return introduction.Description{Name: "kittiwake-1", Family: "wick", Model: "W2", Serial: "W 2 0007", Release: "2"}
}
func (m *meeting) Waits() time.Duration          { return m.waits }
func (m *meeting) Show(words introduction.Words) { m.shown <- words }
func (m *meeting) Over() <-chan struct{}         { return m.stop }
func (m *meeting) End(failed bool)               { m.end(time.Now(), failed) }
func (m *meeting) Offer(ctx context.Context, report func(device.Admittance)) {
	m.Ask(ctx, m.visitor, report)
}

// meet serves a device that may be introduced, whose owner consents to every question.
func meet(t *testing.T) (f *fake, address string, key ssh.Signer) {
	t.Helper()
	key = signer(t)
	f, address = serve(t, key)
	f.meetings = &meetings{shown: make(chan introduction.Words, 1), waits: 20 * time.Second, stop: make(chan struct{})}
	return f, address, key
}

func (f *fake) consents(t *testing.T) {
	go func() {
		select {
		case f.answer <- true:
		case <-t.Context().Done():
		}
	}()
}

func TestAnIntroductionEndsWithTheOwnersConsent(t *testing.T) {
	f, address, key := meet(t)
	own := signer(t)
	s, err := dial(t, address, own, "")
	require.NoError(t, err)
	m, err := s.Introduce(t.Context(), "moor-desk")
	require.NoError(t, err)
	require.Equal(t, "W 2 0007", m.Device.Serial)
	require.Equal(t, 20*time.Second, m.Waits)
	shown := <-f.shown
	_, err = m.Typed(t.Context(), "tiger mos", nil)
	require.Equal(t, problem.Invalid, problem.KindOf(err))
	require.NotContains(t, f.admitted, ssh.FingerprintSHA256(own.PublicKey()))
	f.consents(t)
	var states []device.AdmitState
	a, err := m.Typed(t.Context(), " "+strings.ToUpper(shown.String()), func(a device.Admittance) { states = append(states, a.State) })
	require.NoError(t, err)
	require.Equal(t, device.Admitted, a.State)
	require.Contains(t, states, device.AdmitAsking)
	require.Equal(t, ssh.FingerprintSHA256(key.PublicKey()), s.Key())
	require.True(t, f.admitted[ssh.FingerprintSHA256(own.PublicKey())])
	_, err = s.Introduce(t.Context(), "moor-desk")
	require.ErrorContains(t, err, "a session allows one introduction")
	require.Zero(t, f.turns.Failures())
}

func TestAnIntroductionThatIsGivenUpFailsAndThreeOfThemPause(t *testing.T) {
	f, address, _ := meet(t)
	own := signer(t)
	for _, way := range []struct {
		name string
		give func(*link.Session, *link.Meeting)
	}{
		{"the session ends", func(s *link.Session, _ *link.Meeting) { s.Close() }},
		{"other words", func(_ *link.Session, m *link.Meeting) {
			_, err := m.Typed(t.Context(), "acorn acorn acorn", nil)
			require.ErrorIs(t, err, link.ErrWords)
			<-m.Done()
		}},
		{"the owner stops it", func(_ *link.Session, m *link.Meeting) { close(f.stop); <-m.Done() }}, // and all later ones
	} {
		s, err := dial(t, address, own, "")
		require.NoError(t, err)
		m, err := s.Introduce(t.Context(), "moor-desk")
		require.NoError(t, err, way.name)
		<-f.shown
		other, err := dial(t, address, signer(t), "")
		require.NoError(t, err)
		_, err = other.Introduce(t.Context(), "harbour-desk")
		require.ErrorContains(t, err, "another bench's question or introduction")
		before := f.turns.Failures()
		way.give(s, m)
		require.Eventually(t, func() bool { return f.turns.Failures() != before }, 5*time.Second, time.Millisecond, way.name)
		s.Close()
		other.Close()
	}
	s, err := dial(t, address, own, "")
	require.NoError(t, err)
	_, err = s.Introduce(t.Context(), "moor-desk")
	require.ErrorContains(t, err, "Three introductions in a row failed")
	require.Contains(t, problem.Of(err).Remedy, "Start again in 10m0s.")
}

func TestAnIntroductionEndsWhenNobodyTypes(t *testing.T) {
	f, address, _ := meet(t)
	f.waits = 300 * time.Millisecond
	s, err := dial(t, address, signer(t), "")
	require.NoError(t, err)
	m, err := s.Introduce(t.Context(), "moor-desk")
	require.NoError(t, err)
	words := <-f.shown
	select {
	case <-m.Done():
	case <-time.After(5 * time.Second):
		require.Fail(t, "it goes on")
	}
	_, err = m.Typed(t.Context(), words.String(), nil)
	require.ErrorIs(t, err, device.ErrEnded)
	require.Equal(t, 1, f.turns.Failures().InARow)
}

func TestADeviceThatIsNotToBeIntroducedSaysSo(t *testing.T) {
	_, address := serve(t, signer(t))
	s, err := dial(t, address, signer(t), "")
	require.NoError(t, err)
	_, err = s.Introduce(t.Context(), "moor-desk")
	require.ErrorContains(t, err, "does not accept visitors without a cable")
}

// between is somebody between bench and device, with a key of his own on either side. change is
// given each message, and returns what is passed on: nothing, or several.
type between struct {
	t      *testing.T
	key    ssh.Signer
	to     string
	change func(fromBench bool, line string) []string
}

func (b *between) serve() string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b.t, err)
	var work sync.WaitGroup
	work.Go(func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		defer c.Close()
		config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
		config.AddHostKey(b.key)
		conn, channels, requests, err := ssh.NewServerConn(c, config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		for n := range channels {
			b.relay(n)
			conn.Close()
		}
	})
	b.t.Cleanup(func() { l.Close(); work.Wait() })
	return l.Addr().String()
}

// relay passes the lines of a channel on, as change says, until either side ends.
func (b *between) relay(n ssh.NewChannel) {
	bench, requests, err := n.Accept()
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	client, err := ssh.Dial("tcp", b.to, &ssh.ClientConfig{User: "bench", Auth: []ssh.AuthMethod{ssh.PublicKeys(b.key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return
	}
	device, requests, err := client.OpenChannel(n.ChannelType(), nil)
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	var both sync.WaitGroup
	pass := func(from io.Reader, to io.Writer, fromBench bool) {
		lines := bufio.NewScanner(from)
		for lines.Scan() {
			for _, out := range b.change(fromBench, lines.Text()) {
				fmt.Fprintln(to, out)
			}
		}
		client.Close()
		bench.Close()
	}
	both.Go(func() { pass(bench, device, true) })
	both.Go(func() { pass(device, bench, false) })
	both.Wait()
}

// field changes the value of a field in the parameters or the result of a message that has it.
func field(path ...string) func(bool, string) []string {
	return func(_ bool, line string) []string {
		var m map[string]any
		if json.Unmarshal([]byte(line), &m) != nil {
			return []string{line}
		}
		var at map[string]any
		for _, where := range []string{"params", "result"} {
			if v, ok := m[where].(map[string]any); ok {
				at = v
			}
		}
		for _, step := range path[:len(path)-1] {
			at, _ = at[step].(map[string]any)
		}
		last := path[len(path)-1]
		switch v := at[last].(type) {
		case string:
			flipped := "A"
			if strings.HasPrefix(v, "A") {
				flipped = "B"
			}
			at[last] = flipped + v[min(1, len(v)):]
		case float64:
			at[last] = v + 1
		default:
			return []string{line}
		}
		out, _ := json.Marshal(m)
		return []string{string(out)}
	}
}

// replay passes each message of a method twice.
func replay(method string) func(bool, string) []string {
	return func(fromBench bool, line string) []string {
		if fromBench && strings.Contains(line, method) {
			return []string{line, line}
		}
		return []string{line}
	}
}

// reordered keeps a message of a method until after the next.
func reordered(method string) func(bool, string) []string {
	kept := ""
	return func(fromBench bool, line string) []string {
		switch {
		case fromBench && strings.Contains(line, method):
			kept = line
			return []string{strings.Replace(line, method, link.MethodTyped, 1)}
		case fromBench && kept != "":
			line, kept = kept, line
			return []string{line, kept}
		}
		return []string{line}
	}
}

func TestSomebodyInBetweenIsCaughtWhateverHeDoes(t *testing.T) {
	relay := func(_ bool, line string) []string { return []string{line} }
	for name, change := range map[string]func(bool, string) []string{
		"relays all": relay, "another version": field("version"), "another name of the bench": field("name"), "another commitment": field("commitment"),
		"another nonce": field("nonce"), "another name": field("device", "name"), "another family": field("device", "family"), "another model": field("device", "model"),
		"another serial": field("device", "serial"), "another release": field("device", "release"), "another time to wait": field("waits"),
		"replays the first message": replay(link.MethodBegin), "replays the second message": replay(link.MethodReveal), "replays the third message": replay(link.MethodTyped),
		"the third before the first": reordered(link.MethodBegin), "the third before the second": reordered(link.MethodReveal),
		"says himself that the words were typed": func(fromBench bool, line string) []string {
			if fromBench && strings.Contains(line, link.MethodReveal) {
				return []string{line, `{"jsonrpc":"2.0","id":"late","method":"` + link.MethodTyped + `"}`}
			}
			return []string{line}
		},
	} {
		t.Run(name, func(t *testing.T) {
			f, address, _ := meet(t)
			attacker := &between{t: t, key: signer(t), to: address, change: change}
			own := signer(t)
			s, err := dial(t, attacker.serve(), own, "")
			if err != nil {
				return
			}
			m, err := s.Introduce(t.Context(), "moor-desk")
			if err != nil {
				return // caught at once
			}
			var shown introduction.Words
			select {
			case shown = <-f.shown:
			case <-time.After(200 * time.Millisecond):
				shown = introduction.Words{"acorn", "acorn", "acorn"} // the device shows nothing
			}
			_, err = m.Typed(t.Context(), shown.String(), nil)
			require.ErrorIs(t, err, link.ErrWords)
			require.Eventually(t, func() bool { _, err := f.turns.Begin(time.Now()); return err == nil }, 5*time.Second, 10*time.Millisecond, "the device has ended it")
			require.Empty(t, f.admitted, "nobody was let in")
		})
	}
}

// Both sides are raced: the attacker begins with the device before the bench begins with him,
// and would need the words of both to agree.
func TestTwoIntroductionsThatAreRacedAgainstEachOtherHaveOtherWords(t *testing.T) {
	f, address, _ := meet(t)
	g, other, _ := meet(t) // the attacker's own device, shown to the bench
	for range 20 {
		a, err := dial(t, address, signer(t), "")
		require.NoError(t, err)
		_, err = a.Introduce(t.Context(), "moor-desk")
		require.NoError(t, err)
		b, err := dial(t, other, signer(t), "")
		require.NoError(t, err)
		m, err := b.Introduce(t.Context(), "moor-desk")
		require.NoError(t, err)
		<-g.shown
		shown := <-f.shown
		_, err = m.Typed(t.Context(), shown.String(), nil)
		require.ErrorIs(t, err, link.ErrWords)
		a.Close()
		b.Close()
		for _, x := range []*fake{f, g} {
			require.Eventually(t, func() bool {
				x.turns.Restore(introduction.Failures{})
				end, err := x.turns.Begin(time.Now())
				if err == nil {
					end(time.Now(), false)
				}
				return err == nil
			}, 5*time.Second, time.Millisecond)
		}
	}
	require.Empty(t, f.admitted)
}

func FuzzIntroductionMessages(f *testing.F) {
	f.Add([]byte(`{"version":1,"name":"moor-desk","commitment":"AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="}`), []byte(`{"nonce":"AAAA"}`))
	f.Add([]byte(`{}`), []byte(`null`))
	key := signer(f)
	fk, address := serve(f, key)
	fk.meetings = &meetings{shown: make(chan introduction.Words, 1000), waits: time.Minute, stop: make(chan struct{})}
	client, err := ssh.Dial("tcp", address, &ssh.ClientConfig{User: "bench", Auth: []ssh.AuthMethod{ssh.PublicKeys(key)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	require.NoError(f, err)
	f.Fuzz(func(t *testing.T, begin, reveal []byte) {
		if !json.Valid(begin) || !json.Valid(reveal) {
			return
		}
		ch, requests, err := client.OpenChannel("admit@earlybench.invalid", nil)
		require.NoError(t, err)
		go ssh.DiscardRequests(requests)
		lines := bufio.NewScanner(ch)
		for i, message := range []string{link.MethodBegin, link.MethodReveal} {
			var line strings.Builder
			json.NewEncoder(&line).Encode(map[string]any{"jsonrpc": "2.0", "id": i, "method": message, "params": json.RawMessage([][]byte{begin, reveal}[i])})
			_, err := io.WriteString(ch, line.String())
			require.NoError(t, err)
			require.True(t, lines.Scan(), "it answers")
		}
		ch.Close()
		require.Empty(t, fk.admitted)
	})
}
