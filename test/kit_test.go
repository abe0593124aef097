package test

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/client"
)

// goDirectory is the copy of Go with which the tests run.
func goDirectory(t testing.TB) string {
	t.Helper()
	out, err := exec.Command("go", "env", "GOROOT").Output()
	require.NoError(t, err)
	return strings.TrimSpace(string(out))
}

const description = `
kit: fell-kit
about: Tools of Fellgate
places: ["~/fell-kit-*"]
holds:
  - {program: bin/fell-make, asked: version, prints: '^fell-make (?P<version>[0-9.]+)$'}
  - {program: bin/fell-pack, asked: --version, prints: '^fell-pack'}
  - {file: parts/heading.txt}
search: [bin]
variables: {FELL_KIT: .}
`

// writeKit writes a copy of the kit whose one program copies the app, if it finds its kit.
func writeKit(t *testing.T, dir, version string) {
	t.Helper()
	for name, text := range map[string]string{
		"bin/fell-make":     "#!/bin/sh\n[ \"$1\" = version ] && echo fell-make " + version + " && exit\nfell-pack && cp source app.wasm\n",
		"bin/fell-pack":     "#!/bin/sh\n[ \"$1\" = --version ] && echo fell-pack && exit\ncat \"$FELL_KIT/parts/heading.txt\"\n",
		"parts/heading.txt": "Fellgate\n",
	} {
		at := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o755))
	}
}

// kitProject writes an app that is built with the kit.
func kitProject(t *testing.T, dir, from string) {
	t.Helper()
	text := "id: fellgate/muster\nname: Muster\nversion: \"1\"\nfamilies: [tarn]\nminimum: \"9\"\nkit: {name: fell-kit, from: \"" + from + "\"}\nbuild: {command: [fell-make, build]}\nfiles: [app.wasm]\nentry: app.wasm\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".earlybench.yaml"), []byte(text), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "source"), []byte("\x00asm\x01\x00\x00\x00"), 0o600))
}

// Every fault of a kit is what why names first, and the remedy as it is told opens the gate.
func TestEveryFaultOfAKitIsNamedAndItsRemedyOpensTheGate(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	tools := t.TempDir() // one with a space, which a command line must quote
	first, app := filepath.Join(tools, "my tools", "fell-kit-3.1"), t.TempDir()
	second := filepath.Join(d.state, "kits", "fell-kit-3.2")
	writeKit(t, first, "3.1")
	kitProject(t, app, "3")
	d.ok("project", "add", app)
	sheet := filepath.Join(tools, "fell-kit.yaml")
	require.NoError(t, os.WriteFile(sheet, []byte(description), 0o600))
	in := func(name string) string { return filepath.Join(first, name) }

	told := regexp.MustCompile(`earlybench (kit add .*)`)
	command := func(remedy string, more ...string) { // as a shell reads it
		m := told.FindStringSubmatch(remedy)
		require.NotNil(t, m, remedy)
		words, err := exec.Command("sh", "-c", "printf '%s\\n' "+m[1]).Output()
		require.NoError(t, err)
		args := strings.Split(strings.TrimSpace(string(words)), "\n")
		for i, a := range args {
			args[i] = strings.NewReplacer("NAME", "fell-kit", "PATH", first, "FILE", sheet).Replace(a)
		}
		d.ok(append(args, more...)...)
	}
	for _, c := range []struct {
		name   string
		put    func()
		cause  string
		why    string // in what is told
		remedy func(told string)
	}{
		{"it is not described", func() {}, "kit-unknown", "nothing describes the kit fell-kit", func(told string) { command(told) }},
		{"a program of it is missing", func() { require.NoError(t, os.Rename(in("bin/fell-pack"), in("away"))) },
			"kit-broken", "bin/fell-pack in " + first + " is missing", func(string) { require.NoError(t, os.Rename(in("away"), in("bin/fell-pack"))) }},
		{"a program of it may not be started", func() { require.NoError(t, os.Chmod(in("bin/fell-make"), 0o644)) },
			"kit-broken", "bin/fell-make in " + first + " is not executable", func(string) { require.NoError(t, os.Chmod(in("bin/fell-make"), 0o755)) }},
		{"a program of it is another's", func() {
			require.NoError(t, os.WriteFile(in("bin/fell-pack"), []byte("#!/bin/sh\necho slate-pack 9\n"), 0o755))
		},
			"kit-broken", `prints "slate-pack 9"`, func(string) { writeKit(t, first, "3.1") }},
		{"a program of it fails", func() {
			require.NoError(t, os.WriteFile(in("bin/fell-make"), []byte("#!/bin/sh\necho no such library >&2; exit 4\n"), 0o755))
		}, "kit-broken", "exits with code 4 when it is asked for its version: no such library", func(string) { writeKit(t, first, "3.1") }},
		{"its version is too low", func() { kitProject(t, app, "3.2") },
			"kit-version", "fell-kit from 3.2 is needed, but this is version 3.1", func(string) {
				writeKit(t, first, "3.2")
			}},
		{"it was moved, and another copy is here", func() {
			writeKit(t, second, "3.2")
			require.NoError(t, os.Rename(first, first+"-old"))
		}, "kit-moved", first + " does not exist", func(told string) { command(told) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			c.put()
			d.eventually("the gate is shut by "+c.cause, func() bool {
				w := whyOf(t, d, "heron-1", "--app", "fellgate/muster")
				return w.Gate == "kit" && len(w.Causes) > 0 && w.Causes[0].ID == c.cause
			})
			w := whyOf(t, d, "heron-1", "--app", "fellgate/muster")
			require.Contains(t, w.Text, c.why)
			require.NotNil(t, w.Next)
			require.Equal(t, "remedy", w.Next.Kind, "no question is asked")
			r := d.run("run", "fellgate/muster", "heron-1")
			require.Equal(t, 3, r.code, r.err)
			require.Contains(t, r.err, c.why[1:])
			c.remedy(w.Next.Text)
			d.eventually("the gate is open", func() bool { return whyOf(t, d, "heron-1", "--app", "fellgate/muster").Gate != "kit" })
		})
	}
	require.Contains(t, d.ok("kit"), "named by you")
	require.Contains(t, d.ok("host", "check"), "✓ Kit fell-kit, for fellgate/muster")
	built := d.run("run", "fellgate/muster", "heron-1", "--follow=false")
	require.Contains(t, built.err, "✓ build", "the kit's program finds the kit: %s", built.err)
}

// The page of a device leads past a kit whose path is wrong, and the page Computer marks the
// entry that is.
func TestThePageBuildsWithTheOtherCopyOfAKit(t *testing.T) {
	d := startDemo(t)
	d.waits("heron-1", "linked", "open")
	named, app := filepath.Join(t.TempDir(), "fell-kit-3.1"), t.TempDir()
	writeKit(t, named, "3.1")
	_, err := d.api.AddKit(context.Background(), client.NewKit{Name: "fell-kit", Path: named, Description: description})
	require.NoError(t, err)
	kitProject(t, app, "3")
	d.ok("project", "add", app)
	require.NoError(t, os.Remove(filepath.Join(named, "bin", "fell-pack")))
	other := filepath.Join(d.state, "kits", "fell-kit-3.2")
	writeKit(t, other, "3.2")

	b := openBrowser(t, 1280, 800)
	b.goes(strings.TrimSpace(d.ok("console")))
	b.sees("heron-1")
	b.presses("Computer")
	b.sees("fellgate/muster cannot be built.")
	b.sees("bin/fell-pack is missing")
	b.presses("Rack")
	b.sees("heron-1")
	b.chooses("fellgate/muster")
	b.presses("heron-1")
	b.sees("Use the other copy: earlybench kit add fell-kit " + other)
	b.presses("Use the other copy of fell-kit")
	b.confirms(d)
	b.presses("Build with the one in")
	d.eventually("the gate is open", func() bool { return whyOf(t, d, "heron-1", "--app", "fellgate/muster").Gate != "kit" })
	b.presses("Computer")
	b.sees("named by you, builds fellgate/muster")
}

// Bash reads what it is given, in this shell and in every new one.
func TestAKitIsUsedInAShellAndInEveryNewOne(t *testing.T) {
	d := startDemo(t)
	dir := filepath.Join(t.TempDir(), "it's here")
	writeKit(t, dir, "3.2")
	_, err := d.api.AddKit(context.Background(), client.NewKit{Name: "fell-kit", Path: dir, Description: description})
	require.NoError(t, err)

	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("SHELL", "/bin/bash")
	rc := filepath.Join(home, "dotfiles", "bashrc") // as people keep it: a link into a repository
	require.NoError(t, os.Mkdir(filepath.Dir(rc), 0o755))
	require.NoError(t, os.WriteFile(rc, []byte("alias ll='ls -l'\nexport MINE=kept"), 0o640))
	require.NoError(t, os.Symlink(rc, filepath.Join(home, ".bashrc")))
	bash := func(args ...string) string {
		cmd := exec.Command("bash", args...)
		cmd.Env = []string{"HOME=" + home, "PATH=/usr/bin:/bin", "EARLYBENCH_STATE=" + d.state, "SHELL=/bin/bash"}
		out, err := cmd.Output()
		require.NoError(t, err, "%s", out)
		return strings.TrimSpace(string(out))
	}
	script := `eval "$(` + d.bin + ` kit env fell-kit)"; command -v fell-make; fell-pack`
	require.Equal(t, filepath.Join(dir, "bin", "fell-make")+"\nFellgate", bash("-c", script))

	asked := d.run("kit", "env", "fell-kit", "--install")
	require.Equal(t, 6, asked.code, "without a terminal it is accepted by its digest")
	require.Contains(t, asked.out, "+export FELL_KIT=")
	require.NotContains(t, asked.out, "-alias")
	accept := asked.err[strings.LastIndex(strings.TrimSpace(asked.err), " ")+1:]
	require.Equal(t, 1, d.run("kit", "env", "fell-kit", "--install", "--accept", strings.Repeat("0", 64)).code)
	before, err := os.ReadFile(rc)
	require.NoError(t, err)
	require.NotContains(t, string(before), "FELL_KIT", "another digest writes nothing")
	done := d.run("kit", "env", "fell-kit", "--install", "--accept", strings.TrimSpace(accept))
	require.Zero(t, done.code, done.err)
	require.Contains(t, done.err, "Restart shells that are open")

	require.Equal(t, filepath.Join(dir, "bin", "fell-make")+"\nFellgate\nkept", bash("-i", "-c", "command -v fell-make; fell-pack; echo $MINE"))
	info, err := os.Lstat(filepath.Join(home, ".bashrc"))
	require.NoError(t, err)
	require.NotZero(t, info.Mode()&os.ModeSymlink, "the link is a link still")
	info, err = os.Stat(rc)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o640), info.Mode().Perm())
	require.Contains(t, d.run("kit", "env", "fell-kit", "--install").err, "needs no change")

	gone := d.run("kit", "env", "fell-kit", "--remove")
	accept = gone.err[strings.LastIndex(strings.TrimSpace(gone.err), " ")+1:]
	require.Zero(t, d.run("kit", "env", "fell-kit", "--remove", "--accept", strings.TrimSpace(accept)).code)
	after, err := os.ReadFile(rc)
	require.NoError(t, err)
	require.Equal(t, strings.TrimSpace(string(before)), strings.TrimSpace(string(after)))

	require.NoError(t, os.Remove(filepath.Join(dir, "bin", "fell-pack")))
	d.eventually("it is seen", func() bool { return strings.Contains(d.ok("kit"), "bin/fell-pack is missing") })
	broken := d.run("kit", "env", "fell-kit")
	require.Equal(t, 3, broken.code)
	require.Empty(t, broken.out, "a shell gets nothing that does not work")
}
