package signing_test

import (
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/job"
	core "earlybench.invalid/earlybench/core/peer"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/signing"
	"earlybench.invalid/earlybench/internal/store"
)

var signsAndUses = store.PeerRights{All: "use", Signs: true}

// signedThere has a project on record at a bench, whose app is signed at harbour-desk.
func signedThere(t *testing.T, b *benchtest.Bench, dir string) {
	t.Helper()
	file := filepath.Join(dir, appfile.ProjectFile)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, append(raw, []byte("\nidentity: \"@harbour-desk\"\n")...), 0o600))
	_, err = b.Tryouts.AddProject(t.Context(), dir)
	require.NoError(t, err)
}

// delivers has an app delivered to the handset of harbour-desk, and waits for the end.
func delivers(p *benchtest.Pair) (job.Job, signing.Outcome) {
	p.T.Helper()
	j, err := p.Moor.Signing.Deliver(p.T.Context(), signing.Delivery{App: "fellgate/callout", Peer: "harbour-desk", Device: p.Heron.Device().Handle, Try: true}, "ada")
	require.NoError(p.T, err)
	return outcome(p.T, p.Moor.Ended(j))
}

func outcome(t testing.TB, j job.Job) (job.Job, signing.Outcome) {
	var out signing.Outcome
	raw, err := json.Marshal(j.Result)
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(raw, &out))
	return j, out
}

func TestAnAppIsPutOnADeviceByThePeerThatSignsIt(t *testing.T) {
	p := benchtest.NewPair(t, signsAndUses)
	dir := benchtest.BigApp(t, 1<<20)
	signedThere(t, p.Moor, dir)
	done, out := delivers(p)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.True(t, out.Passed)
	require.Equal(t, "harbour-desk", out.Peer)
	require.Greater(t, out.Sent, int64(1<<20))
	names := []string{}
	for _, p := range out.Points {
		require.True(t, p.OK, "%+v", p)
		names = append(names, p.Name)
	}
	require.Equal(t, []string{"copy", "install", "start", "log", "picture"}, names)
	require.Contains(t, strings.Join(out.Log, "\n"), "callout ready: 4 on the rota")

	// Over there it is a tryout like any other, by the key of that bench.
	kept, err := p.Harbour.Store.Tryout(t.Context(), out.There)
	require.NoError(t, err)
	require.Equal(t, out.Digest, kept.Digest)
	require.Equal(t, p.Heron.Device().Handle, kept.Device)
	file, err := p.Harbour.Store.AppFile(t.Context(), out.Digest)
	require.NoError(t, err)
	f, err := p.Harbour.Files.Open(file.File)
	require.NoError(t, err)
	defer f.Close()
	opened, err := appfile.Open(f, file.Size)
	require.NoError(t, err)
	require.Equal(t, p.Harbour.Safe.Thumbprint(), opened.App.By())
	uses, err := p.Harbour.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Equal(t, "fellgate/callout 2.3 of moor-desk, onto "+p.Heron.Device().Handle, uses[0].Document)
	lines, err := p.Harbour.Store.Audit(t.Context(), 0, 100)
	require.NoError(t, err)
	seen := map[string]int{}
	for _, l := range lines {
		if l.Actor == "peer/moor-desk" {
			seen[l.Operation] = l.Outcome
		}
	}
	require.Equal(t, map[string]int{"sign-app": 200, "deliver-app": 200}, seen)

	// Nothing is left here of what went there, and the next time only what has changed goes.
	left, err := filepath.Glob(filepath.Join(p.MoorDir, "deliveries", "*"))
	require.NoError(t, err)
	require.Empty(t, left)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "maps"), []byte("the lanes behind the church"), 0o600))
	done, out = delivers(p)
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.Equal(t, int64(len("the lanes behind the church")), out.Sent)
}

// sending begins to deliver an app of some size over a slow line; there waits until so much of it went there.
func sending(t *testing.T, size int64, rate int) (p *benchtest.Pair, j job.Job, there func(at int64)) {
	t.Helper()
	p = benchtest.NewPair(t, signsAndUses)
	p.Wire.Slow(rate, 0)
	p.Wire.Cut(false)
	signedThere(t, p.Moor, benchtest.BigApp(t, size))
	j, err := p.Moor.Signing.Deliver(t.Context(), signing.Delivery{App: "fellgate/callout", Peer: "harbour-desk", Device: p.Heron.Device().Handle}, "ada")
	require.NoError(t, err)
	return p, j, func(at int64) {
		t.Helper()
		p.Moor.Eventually("so much went there", func() bool {
			now, ok := p.Moor.Jobs.Job(j.ID)
			return ok && now.Phases[2].Done > at
		})
	}
}

func TestADeliveryGoesOnAcrossBreaksAndARestart(t *testing.T) {
	const size = 12 << 20
	p, j, there := sending(t, size, 3<<20)
	for _, at := range []int64{size / 6, size / 3} {
		there(at)
		p.Wire.Cut(true)
		time.Sleep(time.Second)
		p.Wire.Up()
	}
	there(size / 2)
	// The bench that delivers is started anew: what has come is there still.
	p.Harbour.End()
	p.StartHarbour()
	p.Plug()
	done, out := outcome(t, p.Moor.Ended(j))
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	require.GreaterOrEqual(t, out.Sent, int64(size))
	require.Less(t, out.Sent, int64(size+6<<20), "little of it is sent twice")
	file, err := p.Harbour.Store.AppFile(t.Context(), out.Digest)
	require.NoError(t, err)
	require.NoError(t, p.Harbour.Files.Whole(t.Context(), file.File))
}

func TestADeliveryGoesOnAfterTheBenchThatAskedForItWasStartedAnew(t *testing.T) {
	const size = 12 << 20
	p, j, there := sending(t, size, 3<<20)
	there(size / 3)
	p.Moor.End()
	p.Moor = benchtest.In(t, p.MoorDir)
	done, _ := outcome(t, p.Moor.Ended(j))
	require.Equal(t, job.Done, done.State, "%+v", done.Error)
	uses, err := p.Harbour.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Len(t, uses, 1, "nobody is asked twice")
}

func TestADeliveryIsRefusedBeforeAnybodyIsAsked(t *testing.T) {
	p := benchtest.NewPair(t, signsAndUses)
	signedThere(t, p.Moor, benchtest.SmallApp(t, true))
	handle := p.Heron.Device().Handle
	rights := func(r store.PeerRights) {
		_, err := p.Harbour.Peers.Set(t.Context(), "moor-desk", func(now *store.PeerRights) { *now = r })
		require.NoError(t, err)
	}
	says := map[string]string{}
	for name, r := range map[string]store.PeerRights{"no right to sign": {All: "use"}, "look": {All: "look", Signs: true}, "hidden": {Signs: true}} {
		rights(r)
		done, _ := delivers(p)
		require.Equal(t, job.Failed, done.State, name)
		says[name] = done.Error.Text
	}
	require.Contains(t, says["no right to sign"], "this bench does not sign for you")
	require.Contains(t, says["look"], "you may look at "+handle+", but not use it")
	require.Contains(t, says["hidden"], `there is no device "`+handle+`" that is shared with you`)
	rights(signsAndUses)
	release, err := p.Heron.Lease(t.Context(), "lent to somebody else", 0)
	require.NoError(t, err)
	done, _ := delivers(p)
	require.Contains(t, done.Error.Text, handle+" is in use just now")
	require.NotContains(t, done.Error.Text, "somebody else", "what others do is not told")
	release()
	uses, err := p.Harbour.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Empty(t, uses, "nobody was asked")

	_, err = p.Moor.Signing.Deliver(t.Context(), signing.Delivery{App: "fellgate/callout", Peer: "harbour-desk"}, "ada")
	require.ErrorContains(t, err, "name a device")
	signedHere := benchtest.SmallApp(t, true)
	_, err = p.Moor.Tryouts.AddProject(t.Context(), signedHere)
	require.NoError(t, err)
	_, err = p.Moor.Signing.Deliver(t.Context(), signing.Delivery{App: "fellgate/callout", Peer: "harbour-desk", Device: handle}, "ada")
	require.ErrorContains(t, err, "is not signed there")
}

func TestADeliveryThatIsStoppedEndsOverThere(t *testing.T) {
	p, j, there := sending(t, 30<<20, 1<<20)
	there(1 << 20)
	require.True(t, p.Moor.Jobs.Stop(j.ID))
	require.Equal(t, job.Stopped, p.Moor.Ended(j).State)
	p.Harbour.Eventually("it has ended over there", func() bool {
		lines, err := p.Harbour.Store.Audit(t.Context(), 0, 10)
		return err == nil && slices.ContainsFunc(lines, func(l store.AuditLine) bool { return l.Operation == "deliver-app" && l.Outcome == 500 })
	})
	files, err := p.Harbour.Store.AppFiles(t.Context())
	require.NoError(t, err)
	require.Empty(t, files)
}

func TestAPeerThatSendsOtherFilesThanItHasNamedDeliversNothing(t *testing.T) {
	p := benchtest.NewPair(t, signsAndUses)
	c := benchtest.NewFar(t, p.Harbour, signsAndUses)
	dir, project := built(t)
	public := p.Harbour.Safe.Developer()
	manifest, err := appfile.Describe(project.Manifest(), os.DirFS(dir), project.Files, &public)
	require.NoError(t, err)
	for name, f := range map[string]struct {
		file func(core.FileRef) (io.ReadCloser, error)
		says string
	}{
		"other bytes": {func(core.FileRef) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader("it is no app!")), nil
		}, "is not the file: its SHA-256 differs"},
		"bytes without end": {func(core.FileRef) (io.ReadCloser, error) {
			return io.NopCloser(iotest.DataErrReader(endless{})), nil
		}, "is not the file: its SHA-256 differs"},
		"nothing": {func(core.FileRef) (io.ReadCloser, error) { return nil, errors.New("no such file is shared with you") }, "elsewhere does not send it"},
	} {
		t.Run(name, func(t *testing.T) {
			c.Sends(f.file)
			in := core.Deliver{Sign: core.Sign{Manifest: manifest}, ID: "delivery-" + strings.ReplaceAll(name, " ", "-"), Device: p.Heron.Device().Handle}
			var out core.Delivered
			p.Harbour.Eventually("it has ended", func() bool {
				require.NoError(t, c.Ask(t.Context(), "harbour-desk", core.MethodDeliver, in, &out))
				return out.State == core.DeliveryFailed
			})
			require.Contains(t, out.Reason, f.says)
		})
	}
	for name, in := range map[string]core.Deliver{
		"no manifest":               {ID: "delivery-x"},
		"no id":                     {Sign: core.Sign{Manifest: manifest}},
		"a pattern that is none":    {Sign: core.Sign{Manifest: manifest}, ID: "delivery-x", Log: "("},
		"a time that has no end":    {Sign: core.Sign{Manifest: manifest}, ID: "delivery-x", Within: "9000h"},
		"a file that is no digest":  {Sign: core.Sign{Manifest: []byte(strings.Replace(string(manifest), `"sha256": "`, `"sha256": "../`, 1))}, ID: "delivery-x"},
		"a file that leads outside": {Sign: core.Sign{Manifest: []byte(strings.ReplaceAll(string(manifest), "app.wasm", "../app.wasm"))}, ID: "delivery-x"},
	} {
		in.Device = p.Heron.Device().Handle
		require.ErrorContains(t, c.Ask(t.Context(), "harbour-desk", core.MethodDeliver, in, nil), "refused", name)
	}
	apps, err := p.Harbour.Store.AppFiles(t.Context())
	require.NoError(t, err)
	require.Empty(t, apps)
}

// endless is bytes without end.
type endless struct{}

func (endless) Read(p []byte) (int, error) { return len(p), nil }

func TestAPeerGetsTheFilesOfItsDeliveryAndNoOthers(t *testing.T) {
	p := benchtest.NewPair(t, signsAndUses)
	require.NoError(t, os.WriteFile(filepath.Join(p.MoorDir, "secret"), []byte("x"), 0o600))
	l, _, err := p.Harbour.Peers.Link("moor-desk")
	require.NoError(t, err)
	for _, ref := range []core.FileRef{{Of: core.OfDelivery, Digest: strings.Repeat("0", 64)}, {Of: core.OfDelivery, Digest: "../../secret"}, {Of: "all", Digest: ""}, {Of: core.OfDelivery, From: -1}} {
		_, err := l.File(t.Context(), ref)
		require.ErrorContains(t, err, "no such file is shared with you")
	}
}

func TestWhoAsksAgainAfterARestartIsToldWhatWasDone(t *testing.T) {
	p := benchtest.NewPair(t, signsAndUses)
	c := benchtest.NewFar(t, p.Harbour, signsAndUses)
	dir, project := built(t)
	program, err := os.ReadFile(filepath.Join(dir, "source"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "app.wasm"), program, 0o600))
	c.Sends(func(ref core.FileRef) (io.ReadCloser, error) { return os.Open(filepath.Join(dir, "app.wasm")) })
	public := p.Harbour.Safe.Developer()
	manifest, err := appfile.Describe(project.Manifest(), os.DirFS(dir), project.Files, &public)
	require.NoError(t, err)
	in := core.Deliver{Sign: core.Sign{Manifest: manifest}, ID: "delivery-1", Device: p.Heron.Device().Handle}
	ends := func() (out core.Delivered) {
		p.Harbour.Eventually("it has ended", func() bool {
			err := c.Ask(t.Context(), "harbour-desk", core.MethodDeliver, in, &out)
			return err == nil && out.State == core.DeliveryDone
		})
		return out
	}
	first := ends()
	p.Harbour.End()
	p.StartHarbour()
	p.Plug()
	again := ends()
	require.Equal(t, first.Points, again.Points)
	uses, err := p.Harbour.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Len(t, uses, 1, "nobody is asked twice")
	jobs, err := p.Harbour.Store.Jobs(t.Context(), "", 10)
	require.NoError(t, err)
	require.Len(t, jobs, 1, "it is put on once")
	in.ID = "delivery-2"
	ends()
	uses, err = p.Harbour.Store.SafeUses(t.Context())
	require.NoError(t, err)
	require.Len(t, uses, 2, "another delivery is asked about again")
}
