package test

import (
	"context"
	"fmt"
	"os/exec"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// typist is a command at a pseudo-terminal (made by script, of util-linux), at
// which one types.
type typist struct {
	*running
	in interface{ Write([]byte) (int, error) }
}

func (d *demo) atTerminal(ctx context.Context, command string) *typist {
	d.t.Helper()
	path := needs(d.t, "script")
	r := &running{cmd: exec.CommandContext(ctx, path, "-qefc", d.bin+" "+command, "/dev/null")}
	r.cmd.Dir = ".."
	r.cmd.Env = []string{"EARLYBENCH_STATE=" + d.state, "NO_COLOR=1", "TERM=xterm", "PATH=/usr/bin:/bin"}
	r.cmd.Stdout, r.cmd.Stderr = &r.out, &r.err
	in, err := r.cmd.StdinPipe()
	require.NoError(d.t, err)
	require.NoError(d.t, r.cmd.Start())
	return &typist{r, in}
}

func (y *typist) says(d *demo, text string) {
	d.t.Helper()
	defer func() {
		if d.t.Failed() {
			d.t.Log("the terminal says: " + y.text())
		}
	}()
	d.eventually("the terminal says "+text, func() bool { return strings.Contains(y.text(), text) })
}

var styles = regexp.MustCompile("\x1b\\[[0-9;]*[mK]")

// text is what the terminal shows, without its styles.
func (y *typist) text() string { return styles.ReplaceAllString(y.out.String(), "") }

func (y *typist) types(text string) { fmt.Fprint(y.in, text) }

func TestPrepAtATerminalTakesEnterAndAsksForConsent(t *testing.T) {
	d := startDemo(t, "--answer-within", "8s") // long enough for an answer on a busy machine
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	y := d.atTerminal(ctx, "prep heron-2 --plain")
	y.says(d, "Go to the page")
	y.types("\n")
	y.says(d, "Find the row  confirmed by you")
	y.says(d, "Tap Batch six times")
	d.openMode("heron-2")
	y.says(d, "Install it on host loft? [y/N]")
	y.types("y\n")
	y.says(d, "Say yes to moor-desk")
	y.says(d, "Nobody answered on heron-2 in time")
	y.says(d, "Ask again? [Y/n]")
	y.types("\n")
	d.touch("heron-2", "No")
	d.eventually("it asks once more", func() bool { return strings.Count(y.text(), "Ask again?") == 2 })
	require.Contains(t, y.text(), "Somebody answered No on heron-2")
	y.types("y\n")
	d.touch("heron-2", "Until withdrawn")
	r := y.wait()
	require.Zero(t, r.code, r.out)
	require.Contains(t, y.text(), "heron-2 is ready")
}

func TestPrepThatIsLeftGoesOnWhereItWas(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	y := d.atTerminal(ctx, "prep heron-2 --plain")
	y.says(d, "Go to the page")
	y.types("\n")
	y.says(d, "Tap Batch six times")
	y.types("\x03") // Ctrl-C
	r := y.wait()
	require.NotZero(t, r.code) // the shell between may say its own
	require.Contains(t, r.out, "Continue with: earlybench prep heron-2")

	y = d.atTerminal(ctx, "prep heron-2 --plain")
	y.says(d, "Find the row  confirmed by you")
	d.openMode("heron-2")
	y.says(d, "[y/N]")
	y.types("\n")
	r = y.wait()
	require.Equal(t, 6, r.code, r.out)
	require.Contains(t, r.out, "Not installed")
	require.Equal(t, "driver", d.device("heron-2").First)
}

func TestACablePulledInTheMiddleOfAPrepIsAStepAgain(t *testing.T) {
	d := startDemo(t)
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	prep := d.command(ctx, "prep", "heron-2")
	d.eventually("it leads", func() bool { return strings.Contains(prep.out.String(), "Inside label") })
	d.ok("standin", "pull", "heron-2")
	d.eventually("it says so", func() bool { return strings.Contains(prep.out.String(), "Plug heron-2 in") })
	d.ok("standin", "plug", "heron-2")
	d.openMode("heron-2")
	r := prep.wait()
	require.Equal(t, 6, r.code, "no consent was given")
	require.Contains(t, r.err, "--accept")
}

func TestWhereADeviceIsNotReadyATryoutOffersToLeadThereAndGoesOn(t *testing.T) {
	d := startDemoIn(t, t.TempDir())
	ctx, cancel := context.WithTimeout(context.Background(), 3*patience)
	defer cancel()
	d.waits("ivory-1", "driver", "shut")
	y := d.atTerminal(ctx, "try demo/apps/callout ivory-1")
	y.says(d, "Prepare ivory-1 now, and then continue? [Y/n]")
	y.types("n\n")
	r := y.wait()
	require.Equal(t, 3, r.code, r.out)
	require.Contains(t, r.out, "Continue with: earlybench prep ivory-1")
	d.touch("ivory-1", "Settings", "Back room", "Computers may", "debug and install", "So be it")

	y = d.atTerminal(ctx, "try demo/apps/callout ivory-1")
	y.says(d, "[Y/n]")
	y.types("\n")
	y.says(d, "install it")
	y.types("\r")
	y.says(d, "is not signed")
	y.types("y")
	y.says(d, "have it ask")
	y.types("\r")
	d.touch("ivory-1", "In until sent away")
	d.waits("ivory-1", "linked", "open") // the screen draws only what has changed, so its text is no sign
	y.says(d, "Open the app in the app list of ivory-1, type ")
	d.touch("ivory-1", "Callout")
	figures := regexp.MustCompile(`type ([0-9]{4}),`)
	d.eventually("the figures are told", func() bool { return figures.MatchString(y.text()) })
	d.ok("standin", "type", "ivory-1", figures.FindStringSubmatch(y.text())[1])
	d.touch("ivory-1", "Let run")
	r = y.wait()
	require.Zero(t, r.code, r.out)
	require.Contains(t, y.text(), "on ivory-1: passed")
}
