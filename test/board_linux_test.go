package test

import (
	"context"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"earlybench.invalid/earlybench/core/rfb"
	"earlybench.invalid/earlybench/internal/benchtest"
	"earlybench.invalid/earlybench/internal/state"
)

// gauge is an app for boards, which also serves a page.
func gauge(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	for name, text := range map[string]string{
		".earlybench.yaml": "id: fellgate/rain\nname: Rain gauge\nversion: \"1.0\"\nfamilies: [linux]\nbuild: {command: [sh, -n, rain.sh]}\nfiles: [rain.sh]\nentry: rain.sh\nstart: [sh, rain.sh, hut]\ntry: {log: ^ready at the hut$}\n",
		"rain.sh":          "echo \"ready at the $1\"\nwhile sleep 1; do echo dry; done\n",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	return dir
}

// TestABoardIsTakenFromUnknownToTriedByCommands lets the bench in by a password, brings an app onto the board, and
// takes all back.
func TestABoardIsTakenFromUnknownToTriedByCommands(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	d.permit("fellgate/rain")
	app := gauge(t)
	for name, start := range map[string]func() *benchtest.Board{
		"OpenSSH with SFTP": func() *benchtest.Board {
			return benchtest.StartBoard(t, benchtest.OpenSSH, "Subsystem sftp internal-sftp")
		},
		"OpenSSH without SFTP":  func() *benchtest.Board { return benchtest.StartBoard(t, benchtest.OpenSSH) },
		"dropbear with busybox": func() *benchtest.Board { return benchtest.StartBoard(t, benchtest.Dropbear) },
	} {
		t.Run(name, func(t *testing.T) {
			b := start()
			keys := "# somebody else's\n" + string(ssh.MarshalAuthorizedKey(benchtest.NewSigner(t).PublicKey()))
			require.NoError(t, os.Mkdir(filepath.Join(b.Home, ".ssh"), 0o700))
			authorized := filepath.Join(b.Home, ".ssh", "authorized_keys")
			require.NoError(t, os.WriteFile(authorized, []byte(keys), 0o640)) //nolint:gosec // its mode stays
			at, shown := "ssh://board@"+b.Address, ssh.FingerprintSHA256(b.Key)

			require.Contains(t, d.ok("network", "add", at), "a device that is not on the rack: earlybench network login server-")
			unseen := d.run("network", "login", at)
			require.Equal(t, 6, unseen.code)
			require.Contains(t, unseen.err, "To log in, accept the key")
			require.Contains(t, unseen.out+unseen.err, shown)
			unknown := d.run("network", "login", at, "--accept", shown)
			require.Equal(t, 6, unknown.code)
			require.Contains(t, unknown.err, "does not know the key of this bench")
			password := filepath.Join(t.TempDir(), "password")
			require.NoError(t, os.WriteFile(password, []byte("fog and foul\n"), 0o600))
			wrong := d.run("network", "login", at, "--accept", shown, "--password-file", password)
			require.Equal(t, 5, wrong.code)
			require.Contains(t, wrong.err, "did not accept that password")
			after, err := os.ReadFile(authorized)
			require.NoError(t, err)
			require.Equal(t, keys, string(after), "nothing was done")

			require.NoError(t, os.WriteFile(password, []byte(benchtest.Password+"\n"), 0o600))
			handle := regexp.MustCompile(`board-\d+`).FindString(d.ok("network", "login", at, "--accept", shown, "--password-file", password))
			require.NotEmpty(t, handle)
			d.waits(handle, "linked", "open")
			out, err := exec.Command("grep", "-rlaF", benchtest.Password, d.state).CombinedOutput()
			require.Error(t, err, "the password is nowhere: %s", out)

			require.Contains(t, d.ok("try", app, handle), "ready at the hut")
			d.ok("run", app, handle, "--follow=false")
			require.Contains(t, d.ok("log", handle, "--for", "3s"), "dry")

			d.ok("retire", handle, "--yes")
			d.eventually("it is retired", func() bool { return strings.Contains(d.ok("retire", handle), handle+" is retired.") })
			after, err = os.ReadFile(authorized)
			require.NoError(t, err)
			require.Equal(t, keys, string(after), "our line alone is taken out")
			info, err := os.Stat(authorized)
			require.NoError(t, err)
			require.Equal(t, os.FileMode(0o640), info.Mode().Perm())
			require.NoDirExists(t, filepath.Join(b.Home, ".local", "share", "early-bench"))
		})
	}
}

// wall is a screen of one picture.
type wall struct{ picture *image.RGBA }

func (w wall) Frame(ctx context.Context, after uint64) (*image.RGBA, uint64, error) {
	if after > 0 {
		<-ctx.Done()
		return nil, 0, ctx.Err()
	}
	return w.picture, 1, nil
}
func (wall) Pointer(int, int, uint8) {}
func (wall) Key(uint32, bool)        {}

// TestPortsOfABoardAreOpenedHere reaches a page and a VNC server of a board through ports on this computer; the
// picture is taken by a viewer of somebody else's.
func TestPortsOfABoardAreOpenedHere(t *testing.T) {
	d := startDemoIn(t, t.TempDir(), "--few")
	b := benchtest.StartBoard(t, benchtest.OpenSSH)
	keys, err := state.ReadKeys(d.state)
	require.NoError(t, err)
	b.LetIn(t, keys.Link.PublicKey())
	d.ok("network", "login", "ssh://board@"+b.Address, "--accept", ssh.FingerprintSHA256(b.Key))
	d.waits("board-1", "linked", "open")

	refused := d.run("port", "board-1", "screen")
	require.Equal(t, 1, refused.code)
	require.Contains(t, refused.err, "no VNC server listens")

	picture := image.NewRGBA(image.Rect(0, 0, 320, 200))
	for i := range picture.Pix {
		picture.Pix[i] = 255
	}
	picture.Set(10, 20, color.RGBA{200, 30, 40, 255})
	l, err := net.Listen("tcp", "127.0.0.1:5907") // the board shares the network of this computer
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go rfb.Serve(t.Context(), c, wall{picture})
		}
	}()
	opened := d.opens("board-1", "screen")
	file := filepath.Join(t.TempDir(), "picture.png")
	_, port, err := net.SplitHostPort(opened)
	require.NoError(t, err)
	number, err := strconv.Atoi(port)
	require.NoError(t, err)
	out, err := exec.Command("gvnccapture", fmt.Sprintf("127.0.0.1:%d", number-5900), file).CombinedOutput() // it counts from there on
	require.NoError(t, err, "%s", out)
	f, err := os.Open(file)
	require.NoError(t, err)
	defer f.Close()
	taken, err := png.Decode(f)
	require.NoError(t, err)
	require.Equal(t, picture.Bounds(), taken.Bounds())
	red, green, blue, _ := taken.At(10, 20).RGBA()
	require.Equal(t, []uint32{200, 30, 40}, []uint32{red >> 8, green >> 8, blue >> 8})

	page := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.Write([]byte("dry")) }), ReadHeaderTimeout: time.Second}
	pages, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go page.Serve(pages)
	defer page.Close()
	_, port, err = net.SplitHostPort(pages.Addr().String())
	require.NoError(t, err)
	answer, err := http.Get("http://" + d.opens("board-1", port))
	require.NoError(t, err)
	defer answer.Body.Close()
	require.Equal(t, 200, answer.StatusCode)
}

// opens opens a port of a device on this computer until the test ends, and returns where.
func (d *demo) opens(device, port string) string {
	d.t.Helper()
	c := d.command(d.t.Context(), "port", device, port)
	d.t.Cleanup(func() { c.cmd.Process.Signal(os.Interrupt); c.wait() })
	var at string
	d.eventually("the port is open", func() bool {
		at = regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(c.out.String())
		return at != ""
	})
	return at
}
