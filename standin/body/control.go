package body

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/fact"
	"earlybench.invalid/earlybench/core/link"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/rpc"
)

// incoming is the directory of the link's file channel into which files are put.
const incoming = "/incoming"

// Control answers the control methods.
func (b *Body) Control(ctx context.Context, method string, params json.RawMessage, notify func(string, any) error) (any, error) {
	switch method {
	case link.MethodDescribe:
		return link.Description{Family: b.cfg.Spec.Family, Maker: b.cfg.Spec.Maker, Model: b.model.Name, Code: b.cfg.Model,
			Serial: b.serial(), Release: b.currentRelease(), Name: b.cfg.Name}, nil
	case link.MethodAdmitWithdraw:
		who := link.Asker(ctx)
		if link.Lent(ctx) {
			who = lentKey(who)
		}
		b.mu.Lock()
		defer b.mu.Unlock()
		delete(b.st.Admissions, who)
		b.touchState()
		return nil, nil
	case link.MethodFind:
		f, err := rpc.Decode[link.Find](params)
		if err != nil {
			return nil, err
		}
		b.show(plain.Cut(plain.Line(f.Handle), 40))
		return nil, nil
	case link.MethodFactsFollow:
		return nil, b.followFacts(ctx, link.Asker(ctx), notify)
	case link.MethodApps:
		return b.apps(), nil
	case link.MethodLogFollow:
		from, err := rpc.Decode[device.LogFrom](params)
		if err != nil {
			return nil, err
		}
		return nil, b.followLog(ctx, from, notify)
	case link.MethodAppOffer:
		return b.offer(params)
	case link.MethodWireless:
		w, err := rpc.Decode[link.Wireless](params)
		if err != nil {
			return nil, err
		}
		return nil, b.setWireless(w.On)
	case link.MethodStatements, link.MethodPut, link.MethodDrop, link.MethodStatus:
		return b.statementCall(method, params)
	}
	ref, err := rpc.Decode[link.AppRef](params)
	if err != nil {
		return nil, err
	}
	switch method {
	case link.MethodAppSwitch:
		return nil, b.install(ref.Digest)
	case link.MethodAppStart:
		after, err := b.start(ref.ID)
		return device.Started{After: after}, err
	case link.MethodAppStop:
		return nil, b.stop(ref.ID)
	case link.MethodAppRemove:
		return nil, b.remove(ref.ID)
	}
	return nil, rpc.Errorf(rpc.CodeMethodNotFound, "this device knows no %q", method)
}

func (b *Body) currentRelease() string {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.release()
}

// show displays the device's handle, so that a person can find it.
func (b *Body) show(handle string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.rouse()
	b.used = b.cfg.Clock.Now()
	b.screen.dialog = &dialog{title: strings.ReplaceAll(b.cfg.Spec.word("here"), "{name}", handle), options: []option{{text: b.cfg.Spec.word("done")}}}
	b.redraw()
}

// tellAgain is how often a device reports all its facts again, so that facts which
// expire stay known.
const tellAgain = 3 * time.Minute

// followFacts reports all facts, then every change, until ctx ends or the bench with a key
// is no longer admitted.
func (b *Body) followFacts(ctx context.Context, key string, notify func(string, any) error) error {
	told := map[fact.Key]string{}
	for all := false; ; {
		b.mu.Lock()
		if b.admission(key).State != device.Admitted {
			b.mu.Unlock()
			return link.ErrNotAdmitted
		}
		current := append(b.settingFacts(),
			telling{fact.OSRelease, b.release()},
			telling{fact.Language, b.cfg.Spec.Language},
			telling{fact.Battery, b.charge()},
			telling{fact.Free, b.free()},
			telling{fact.Locked, b.locked},
			telling{fact.Asleep, b.asleep},
			telling{device.FactClock, time.Until(b.now()).Round(time.Second)},
			telling{device.FactApps, b.appList()})
		if b.cfg.Spec.Air != nil {
			current = append(current, telling{fact.AirAddress, b.address}, telling{fact.AirNetworks, append([]string{}, b.networks...)}, telling{fact.AirHotspot, b.st.Faults["on-hotspot"]})
		}
		current = append(current, b.developerFacts()...)
		if b.cfg.Spec.Covers != nil {
			current = append(current, telling{fact.Statements, append([]string{}, b.st.Statements...)})
		}
		clock := b.now()
		changed := b.changed
		b.mu.Unlock()
		for _, f := range current {
			raw, _ := json.Marshal(f.value)
			if told[f.key] == string(raw) {
				continue
			}
			told[f.key] = string(raw)
			if f.key == device.FactClock { // told again when it was set, not as it goes on
				raw, _ = json.Marshal(clock)
			}
			if err := notify(link.MethodFact, device.Fact{Key: string(f.key), Value: raw}); err != nil {
				return err
			}
		}
		if !all {
			all = true
			if err := notify(link.MethodFactsAll, nil); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(tellAgain):
			clear(told)
		case <-changed:
		}
	}
}

// telling is one fact that a body reports.
type telling struct {
	key   fact.Key
	value any
}

// settingFacts are those that the body's data makes of its settings. The lock
// is held.
func (b *Body) settingFacts() []telling {
	var out []telling
	for _, key := range slices.Sorted(maps.Keys(b.cfg.Spec.Facts)) {
		f := b.cfg.Spec.Facts[key]
		var v any = b.st.Settings[f.Of]
		if as, ok := f.As[b.st.Settings[f.Of]]; ok {
			v = as
		}
		out = append(out, telling{fact.Key(key), v})
	}
	return out
}

// free is the storage left, in bytes. The lock is held.
func (b *Body) free() int64 {
	total, _ := parseBytes(b.cfg.Spec.Capacity)
	if b.st.Faults["storage-full"] {
		total = 0
	}
	for _, a := range b.st.Apps {
		for _, f := range a.Files {
			total -= f.Size
		}
	}
	return max(total, 0)
}

func (b *Body) apps() []device.App {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.appList()
}

func (b *Body) appList() []device.App {
	out := []device.App{}
	for _, a := range b.st.Apps {
		out = append(out, device.App{ID: a.ID, Name: a.Name, Version: a.Version, Digest: a.Digest, Running: b.running[a.ID] != nil})
	}
	slices.SortFunc(out, func(a, b device.App) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// errResting is the answer to what a device refuses to do while it rests.
var errResting = rpc.Errorf(rpc.CodeAsleep, "it rests, and takes nothing until it is woken")

// offer checks, before any file is sent, whether an app can be installed here, and
// returns the files that are missing.
func (b *Body) offer(params json.RawMessage) (any, error) {
	o, err := rpc.Decode[link.Offer](params)
	if err != nil {
		return nil, err
	}
	m, err := appfile.ParseManifest(o.Manifest)
	if err != nil {
		return nil, fmt.Errorf("the manifest is wrong: %w", err)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.resting:
		return nil, errResting
	case !b.holds(b.cfg.Spec.Installs):
		return nil, rpc.Errorf(rpc.CodeRefused, "computers may not install on this device")
	case !slices.Contains(m.Families, b.cfg.Spec.Family):
		return nil, fmt.Errorf("%s is made for %s, this is %s", m.ID, strings.Join(m.Families, ", "), b.cfg.Spec.Family)
	case fact.Release(b.release()).Compare(m.Minimum) < 0:
		return nil, fmt.Errorf("%s needs release %s, this is %s", m.ID, m.Minimum, b.release())
	case m.Developer == nil && b.cfg.Spec.Accept != nil:
		return nil, rpc.Errorf(rpc.CodeUnsigned, "%s names no developer, and this device takes only apps that their developer has signed", m.ID)
	}
	if err := m.CheckSignature(o.Manifest, developer.Signature{Bare: o.Signature, CMS: o.CMS}); err != nil {
		return nil, rpc.Errorf(rpc.CodeUnsigned, "%s is refused: %s", m.ID, err)
	}
	l := device.Lacks{Digest: digest(o.Manifest), Dir: incoming, Files: []device.Lack{}}
	var need int64
	asked := map[string]bool{}
	for _, f := range m.Files {
		b.endUpload(b.filePath(f.SHA256)) // the bench that sends it has lost that link
		have := b.have(f.SHA256)
		if have == f.Size || asked[f.SHA256] {
			continue
		}
		asked[f.SHA256] = true
		if have > f.Size {
			os.Remove(b.filePath(f.SHA256)) //nolint:errcheck // a leftover that is written over
			have = 0
		}
		l.Files = append(l.Files, device.Lack{SHA256: f.SHA256, Size: f.Size, Have: have})
		need += f.Size - have
	}
	if free := b.free(); need > free {
		return nil, rpc.Errorf(rpc.CodeNoRoom, "%s needs %d bytes, %d are free", m.ID, need, free)
	}
	if err := os.MkdirAll(b.filesDir(), 0o700); err != nil {
		return nil, err
	}
	b.signed[l.Digest] = len(o.CMS) > 0
	return l, os.WriteFile(b.filePath(l.Digest+".json"), o.Manifest, 0o600)
}

func (b *Body) filePath(name string) string { return filepath.Join(b.filesDir(), name) }

func (b *Body) have(sum string) int64 {
	if i, err := os.Stat(b.filePath(sum)); err == nil && isDigest(sum) {
		return i.Size()
	}
	return 0
}

func digest(p []byte) string {
	sum := sha256.Sum256(p)
	return hex.EncodeToString(sum[:])
}

func isDigest(s string) bool {
	raw, err := hex.DecodeString(s)
	return err == nil && len(raw) == sha256.Size
}

// install switches to an offered app once all its files have arrived and match the
// manifest.
func (b *Body) install(sum string) error {
	if !isDigest(sum) {
		return fmt.Errorf("%.80q is no digest", sum)
	}
	raw, err := os.ReadFile(b.filePath(sum + ".json"))
	if err != nil {
		return fmt.Errorf("no app %s was offered", sum)
	}
	m, err := appfile.ParseManifest(raw)
	if err != nil {
		return err
	}
	for _, f := range m.Files {
		if b.isChecked(f.SHA256, f.Size) {
			continue
		}
		if err := checkFile(b.filePath(f.SHA256), f.SHA256, f.Size); err != nil {
			os.Remove(b.filePath(f.SHA256)) //nolint:errcheck // it is asked for again
			return fmt.Errorf("file %s did not arrive whole: %w", f.Path, err)
		}
	}
	if err := b.stop(m.ID); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.st.Apps[m.ID] = &app{ID: m.ID, Name: m.Name, Version: m.Version, Digest: sum, Entry: m.Entry, By: m.By(), Signed: b.signed[sum], Debug: m.Debug, Features: m.Features, Files: m.Files}
	b.line("", "info", "installed "+m.ID+" "+m.Version)
	b.sweep()
	b.touchState()
	return nil
}

// sweep removes the files that no installed app uses. The lock is held.
func (b *Body) sweep() {
	keep := map[string]bool{}
	for _, a := range b.st.Apps {
		for _, f := range a.Files {
			keep[f.SHA256] = true
		}
	}
	entries, _ := os.ReadDir(b.filesDir())
	for _, e := range entries {
		if !keep[e.Name()] {
			os.Remove(b.filePath(e.Name())) //nolint:errcheck // swept the next time
		}
	}
}

// checked returns the digest of a received file, computed while it was received.
func (b *Body) checked(name, sum string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.whole, name)
	if name == sum {
		b.whole[name] = true
	}
}

func (b *Body) isChecked(sum string, size int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.whole[sum] && b.have(sum) == size
}

func checkFile(path, sum string, size int64) error {
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf("it is not there")
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	switch {
	case err != nil:
		return err
	case n != size:
		return fmt.Errorf("%d of %d bytes", n, size)
	case hex.EncodeToString(h.Sum(nil)) != sum:
		return fmt.Errorf("its digest is another")
	}
	return nil
}

func (b *Body) remove(id string) error {
	if err := b.stop(id); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if a := b.st.Apps[id]; a != nil {
		delete(b.st.Apps, id)
		b.forgetStopped(a.By)
	}
	b.sweep()
	b.touchState()
	return nil
}
