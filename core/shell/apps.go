package shell

import (
	"context"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"

	"earlybench.invalid/earlybench/core/appfile"
	"earlybench.invalid/earlybench/core/bundle"
	"earlybench.invalid/earlybench/core/developer"
	"earlybench.invalid/earlybench/core/device"
	"earlybench.invalid/earlybench/core/plain"
	"earlybench.invalid/earlybench/core/problem"
)

// Family is the family of apps that run on such devices.
const Family = "linux"

// installWithin is how long a device may take to check the files of an app; startWithin to start or stop one.
const (
	installWithin = 10 * time.Minute
	startWithin   = time.Minute
)

// Apps returns the apps that this bench, or another one, has put on the device.
func (s *Session) Apps() (device.Apps, error) { return apps{s}, nil }

type apps struct{ *Session }

// nameOf is the name of an app's directory.
func nameOf(id string) string { return strings.Replace(id, "/", ".", 1) }

// idOf is the app that has a directory; "" for none.
func idOf(name string) string {
	id := strings.Replace(name, ".", "/", 1)
	if appfile.CheckID(id) != nil {
		return ""
	}
	return id
}

func (a apps) List(ctx context.Context) ([]device.App, error) {
	about, err := a.About(ctx)
	return about.Apps, err
}

// segment is in what pieces a file is sent, in bytes: of one whose sending was cut, the last is sent again.
const segment = 4 << 20

func (a apps) Offer(ctx context.Context, manifest []byte, signature developer.Signature) (device.Lacks, error) {
	m, err := appfile.ParseManifest(manifest)
	if err == nil {
		err = m.CheckSignature(manifest, signature)
	}
	if err == nil {
		err = fits(m)
	}
	if err != nil {
		return device.Lacks{}, &device.Refusal{Kind: device.Unfit, Text: err.Error()}
	}
	digest := bundle.Digest(manifest)
	sizes := map[string]int64{}
	var list strings.Builder
	for _, f := range m.Files {
		sizes[f.SHA256] = f.Size
		fmt.Fprintf(&list, "%s %d %s\n", f.SHA256, f.Size, f.Path)
	}
	about := m.Version + "\n" + plain.Line(m.Name) + "\n"
	out, err := a.callFor(ctx, installWithin, "offer", strings.NewReader(list.String()), nameOf(m.ID), digest, string(manifest), about)
	if err != nil {
		return device.Lacks{}, fmt.Errorf("offer it: %w", err)
	}
	return readOffer(out, digest, sizes)
}

// fits reports why an app cannot be put on such a device.
func fits(m *appfile.Manifest) error {
	found := false
	for _, f := range m.Families {
		found = found || f == Family
	}
	if !found {
		return fmt.Errorf("%s is made for %s, and this is a device of the family %s", m.ID, strings.Join(m.Families, ", "), Family)
	}
	for _, f := range m.Files {
		if strings.ContainsAny(f.Path, "\n\r") {
			return fmt.Errorf("the name of its file %q has a line break", f.Path)
		}
	}
	return nil
}

// room is what is left free, in bytes: a file system that is full to the last byte harms other programs.
const room = 1 << 20

// readOffer reads what the script offer prints.
func readOffer(out, digest string, sizes map[string]int64) (device.Lacks, error) {
	lacks := device.Lacks{Digest: digest}
	free, needed := int64(-1), int64(0)
	for line := range strings.Lines(out) {
		kind, rest, _ := strings.Cut(strings.TrimRight(line, "\n"), " ")
		switch kind {
		case "dir":
			lacks.Dir = rest
		case "free":
			if n, err := strconv.ParseInt(rest, 10, 64); err == nil && 0 <= n && n < 1<<43 {
				free = n << 10
			}
		case "lacks":
			f := strings.Fields(rest)
			size, ok := int64(0), false
			if len(f) == 2 {
				size, ok = sizes[f[0]]
			}
			if !ok {
				continue
			}
			delete(sizes, f[0]) // once each
			have := min(number(f[1], 1<<43), size)
			if have > 0 {
				have = (have - 1) / segment * segment
			}
			lacks.Files = append(lacks.Files, device.Lack{SHA256: f[0], Size: size, Have: have})
			needed += size - have
		}
	}
	switch {
	case !strings.HasPrefix(lacks.Dir, "/"):
		return lacks, problem.New(problem.Failed, "the device has not said where files are to be sent")
	case free >= 0 && needed > free-room:
		return lacks, &device.Refusal{Kind: device.NoRoom, Text: fmt.Sprintf("it has %d MB free, and what is to be sent needs %d MB", max(0, free-room)>>20, needed>>20+1)}
	}
	return lacks, nil
}

var digestShape = regexp.MustCompile(`^[0-9a-f]{64}$`)

func (a apps) Install(ctx context.Context, digest string) error {
	if !digestShape.MatchString(digest) {
		return problem.Errorf(problem.Invalid, "%.70q is not the digest of an app", digest)
	}
	_, err := a.callFor(ctx, installWithin, "install", nil, digest)
	return err
}

func (a apps) Start(ctx context.Context, id string) (device.Started, error) {
	if err := appfile.CheckID(id); err != nil {
		return device.Started{}, err
	}
	words, err := a.startOf(ctx, id)
	if err != nil {
		return device.Started{}, err
	}
	out, err := a.callFor(ctx, startWithin, "start", strings.NewReader(text("run.sh")), nameOf(id), id, strings.Join(words, "\n")+"\n", text("early-bench@.service"))
	if err != nil {
		return device.Started{}, err
	}
	after, err := strconv.ParseUint(strings.TrimSpace(out), 10, 63)
	if err != nil {
		return device.Started{}, fmt.Errorf("the device has started it, and said %.40q of its log", out)
	}
	return device.Started{After: after}, nil
}

// startOf is the command that starts an app that is on the device: what its manifest says, or its entry.
func (a apps) startOf(ctx context.Context, id string) ([]string, error) {
	raw, err := a.call(ctx, "manifest", nil, nameOf(id))
	if err != nil {
		return nil, err
	}
	m, err := appfile.ParseManifest([]byte(raw))
	if err != nil {
		return nil, fmt.Errorf("the app on the device is damaged: %w", err)
	}
	if len(m.Start) > 0 {
		return m.Start, nil
	}
	return []string{"./" + m.Entry}, nil
}

func (a apps) Stop(ctx context.Context, id string) error {
	if err := appfile.CheckID(id); err != nil {
		return err
	}
	_, err := a.callFor(ctx, startWithin, "stop", nil, nameOf(id))
	return err
}

func (a apps) Remove(ctx context.Context, id string) error {
	if err := appfile.CheckID(id); err != nil {
		return err
	}
	_, err := a.callFor(ctx, startWithin, "remove", nil, nameOf(id))
	return err
}
