package test

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"earlybench.invalid/earlybench/client"
)

// startBench starts a bench without stand-ins in a state directory.
func startBench(t *testing.T, state string) *demo {
	t.Helper()
	d := &demo{t: t, state: state, out: &shared{}}
	d.serve()
	return d
}

// serve starts the bench, as the next one in its directory.
func (d *demo) serve() {
	d.t.Helper()
	d.begins()
	d.eventually("the bench answers", func() bool { _, err := d.api.Bench(context.Background()); return err == nil })
}

// begins starts the bench's process, whether it comes to answer or not.
func (d *demo) begins() {
	d.t.Helper()
	var err error
	d.bin, err = program()
	require.NoError(d.t, err)
	d.cmd = exec.Command(d.bin, "serve", "--state", d.state, "--port", "0", "--own-usb=false", "--name", "moor-desk")
	d.out = &shared{}
	d.cmd.Stdout, d.cmd.Stderr = d.out, d.out
	require.NoError(d.t, d.cmd.Start())
	d.t.Cleanup(d.kill)
	d.at.Socket = filepath.Join(d.state, "run", "bench.sock")
	d.api = client.New(d.at.Socket)
	d.t.Cleanup(d.api.Close)
}

// kill ends the bench at once, as SIGKILL or a loss of power does.
func (d *demo) kill() {
	if d.cmd.ProcessState == nil {
		d.cmd.Process.Kill()
		d.cmd.Wait()
	}
}

// refuses starts the bench, which must end with an error, and returns what it says.
func (d *demo) refuses() string {
	d.t.Helper()
	d.begins()
	d.cmd.Wait()
	require.NotZero(d.t, d.cmd.ProcessState.ExitCode(), d.out.String())
	return d.out.String()
}

// mounted mounts a file system for the test; the test is skipped where that is not allowed.
func mounted(t *testing.T, args ...string) (dir string) {
	t.Helper()
	dir, err := os.MkdirTemp("", "eb") // short, for the socket
	require.NoError(t, err)
	out, err := exec.Command("mount", append(args, dir)...).CombinedOutput()
	if err != nil {
		os.Remove(dir)
		t.Skipf("mounting %v: %s", args, out)
	}
	t.Cleanup(func() {
		exec.Command("umount", "-l", dir).Run()
		os.Remove(dir)
	})
	return dir
}

// fill writes to a disk until it is full.
func fill(t *testing.T, dir string) (empty func()) {
	t.Helper()
	name := filepath.Join(dir, "filler")
	f, err := os.Create(name)
	require.NoError(t, err)
	defer f.Close()
	for _, size := range []int{1 << 20, 4096, 1} {
		for err = nil; err == nil; {
			_, err = f.Write(make([]byte, size))
		}
		require.ErrorIs(t, err, unix.ENOSPC)
	}
	return func() { require.NoError(t, os.Remove(name)) }
}

// keeps has the bench keep devices until it says that it cannot, and returns those that it has acknowledged.
func (d *demo) keeps(from, to int) (kept []string, refusal error) {
	for i := from; i < to; i++ {
		handle := fmt.Sprintf("kittiwake-%d", i)
		if _, err := d.api.AddDevice(context.Background(), client.NewDevice{Model: "Kittiwake", Handle: handle}); err != nil {
			return kept, err
		}
		kept = append(kept, handle)
	}
	return kept, nil
}

func (d *demo) handles() (all []string) {
	d.t.Helper()
	devices, err := d.api.Devices(context.Background(), "")
	require.NoError(d.t, err)
	for _, k := range devices {
		all = append(all, k.Handle)
	}
	return all
}

func TestAFullDiskIsNamedAndWhatWasAcknowledgedIsKept(t *testing.T) {
	dir := mounted(t, "-t", "tmpfs", "-o", "size=24m", "tmpfs")
	d := startBench(t, filepath.Join(dir, "state"))
	before, err := d.keeps(1, 20)
	require.NoError(t, err)
	require.NoError(t, os.MkdirAll(filepath.Join(d.state, "files"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "spare"), make([]byte, 100_000), 0o600))
	require.NoError(t, os.Chtimes(filepath.Join(dir, "spare"), time.Time{}, time.Now().Add(-5*time.Hour)))
	var empty func()
	storms := soaked(t, 2, 20)
	for n := range storms {
		if empty != nil {
			empty()
		}
		empty = fill(t, dir)
		kept, refusal := d.keeps(20+5000*n, 20+5000*(n+1))
		require.ErrorContains(t, refusal, "The disk of "+d.state+" is full. Nothing was saved.")
		require.ErrorContains(t, refusal, "earlybench tidy")
		before = append(before, kept...)
		require.ElementsMatch(t, before, d.handles(), "reading goes on, and shows what is kept")
	}
	row(t, "full disks", storms, "%d devices acknowledged, none lost", len(before))
	require.Contains(t, d.run("host", "check").out, "✗ Disk space")
	left := filepath.Join(d.state, "files", strings.Repeat("0", 64)) // of work that was killed long ago
	require.NoError(t, os.Rename(filepath.Join(dir, "spare"), left))
	require.Contains(t, d.ok("tidy"), "file without a record")
	require.Contains(t, d.ok("tidy", "--yes"), "Removed: 1 file without a record, 100.0 kB")
	_, err = d.keeps(800_000, 800_001)
	require.NoError(t, err, "there is room again")
	before = append(before, "kittiwake-800000")
	fill(t, dir)
	r := d.run("backup", "make", filepath.Join(t.TempDir(), "x.ebbackup"))
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "is full", "a copy of the records needs room beside them")

	d.kill()
	said := d.begun()
	if said != "" {
		require.Contains(t, said, d.state, "a start on a full disk names what it cannot write")
	} else {
		require.ElementsMatch(t, before, d.handles())
		d.kill()
	}
	empty()
	d.serve()
	require.ElementsMatch(t, before, d.handles())
	_, err = d.keeps(900_000, 900_001)
	require.NoError(t, err)
}

// begun starts the bench, and returns what it says if it ends at once; "" if it answers.
func (d *demo) begun() string {
	d.t.Helper()
	d.begins()
	ended := make(chan struct{})
	go func() { defer close(ended); d.cmd.Wait() }()
	answered := false
	d.eventually("it answers, or ends", func() bool {
		select {
		case <-ended:
			return true
		default:
		}
		_, err := d.api.Bench(context.Background())
		answered = err == nil
		return answered
	})
	if answered {
		return ""
	}
	return d.out.String()
}

// disk is a file system in a file, from which the power can be taken.
type disk struct {
	t     *testing.T
	image string
	dir   string
}

func newDisk(t *testing.T) *disk {
	t.Helper()
	k := &disk{t: t, image: filepath.Join(t.TempDir(), "disk.img")}
	f, err := os.Create(k.image)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(96<<20))
	require.NoError(t, f.Close())
	out, err := exec.Command("mkfs.ext4", "-q", "-F", k.image).CombinedOutput()
	require.NoError(t, err, string(out))
	k.dir = mounted(t, "-o", "loop", k.image)
	return k
}

// shutdown is EXT4_IOC_SHUTDOWN: from now on nothing reaches the disk, not even what was written and not synced
// (EXT4_GOING_FLAGS_NOLOGFLUSH).
const shutdown, withoutFlush = 0x8004587d, 2

// loses takes the power from the disk.
func (k *disk) loses() {
	k.t.Helper()
	f, err := os.Open(k.dir)
	require.NoError(k.t, err)
	defer f.Close()
	require.NoError(k.t, unix.IoctlSetPointerInt(int(f.Fd()), shutdown, withoutFlush))
}

// comesBack mounts the disk again, with what had reached it.
func (k *disk) comesBack() {
	k.t.Helper()
	require.Eventually(k.t, func() bool { return unix.Unmount(k.dir, 0) == nil }, patience, 20*time.Millisecond, "what holds the safe ends, too")
	out, err := exec.Command("mount", "-o", "loop", k.image, k.dir).CombinedOutput()
	require.NoError(k.t, err, string(out))
}

func TestWhatIsAcknowledgedSurvivesALossOfPower(t *testing.T) {
	k := newDisk(t)
	d := startBench(t, filepath.Join(k.dir, "state"))
	var all []string
	key := filepath.Join(t.TempDir(), "unlock.key")
	for round := range 4 {
		var lock sync.Mutex
		var group sync.WaitGroup
		for part := range 4 { // several at once share a transaction
			group.Go(func() {
				kept, err := d.keeps(round*1000+part*100, round*1000+part*100+15)
				require.NoError(t, err)
				lock.Lock()
				defer lock.Unlock()
				all = append(all, kept...)
			})
		}
		group.Wait()
		if round == 1 {
			d.ok("safe", "make", "--key-file", key)
			require.NoError(t, d.api.PermitSafe(t.Context(), client.SafePermit{Item: "development", App: "fellgate/callout", Purpose: "sign an app", For: 3600, Proof: client.SafeOpening{KeyFile: key}}))
		}
		k.loses()
		_, err := d.keeps(round*1000+900, round*1000+901)
		require.Error(t, err, "nothing is acknowledged without a disk")
		d.kill()
		k.comesBack()
		d.serve()
		require.Subset(t, d.handles(), all, "after loss %d", round)
		if round > 1 {
			require.Contains(t, d.run("safe", "unlock", "--key-file", key).err+d.ok("safe"), "development key")
		}
	}
}

func TestADiskThatBecomesReadOnlyIsNamed(t *testing.T) {
	k := newDisk(t)
	d := startBench(t, filepath.Join(k.dir, "state"))
	kept, err := d.keeps(1, 10)
	require.NoError(t, err)
	out, err := exec.Command("mount", "-o", "remount,abort", k.dir).CombinedOutput() // what ext4 does by itself after an error
	require.NoError(t, err, string(out))
	_, refusal := d.keeps(10, 11)
	require.ErrorContains(t, refusal, d.state+" cannot be written: read-only file system. Nothing was saved.")
	require.ElementsMatch(t, kept, d.handles(), "reading goes on")
	d.kill()
	said := d.refuses()
	require.Contains(t, said, "read-only")
	require.Contains(t, said, "--state")
	require.Contains(t, said, d.state)
	k.comesBack()
	d.serve()
	require.ElementsMatch(t, kept, d.handles())
}

// changed changes the records of a bench that does not run.
func (d *demo) changed(queries ...string) {
	d.t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(d.state, "bench.db"))
	require.NoError(d.t, err)
	defer db.Close()
	for _, q := range queries {
		_, err = db.Exec(q)
		require.NoError(d.t, err, q)
	}
}

func TestABadRecordStopsNothingAndIsTold(t *testing.T) {
	d := startBench(t, t.TempDir())
	kept, err := d.keeps(1, 3)
	require.NoError(t, err)
	d.kill()
	junk := `INSERT INTO job (id, created, state, device, parent, record) VALUES ('j', '2026', 'running', '', '', '{');
		INSERT INTO driver_set (digest, name, version, record, publisher, signer) VALUES ('x', 'n', '1', 'null,', '', '');
		INSERT INTO tryout (id, device, app, passed, created, record) SELECT 't', id, 'a', 0, '2026', '[]' FROM device LIMIT 1;
		INSERT INTO support (digest, name, version, record, depot, added) VALUES ('y', 'n', '1', '', '', '');
		INSERT INTO fact (subject, key, source, type, value, at, told_by, scope, seq) VALUES ('device/x', 'usb.present', 'bus', 'bool', '{{', 'never', '', '', 1);
		INSERT INTO setting (key, value) VALUES ('tidy.rules', '{'), ('endings.notify', '{'), ('safe.idle', 'soon')`
	d.changed(junk)
	d.serve()
	require.ElementsMatch(t, kept, d.handles())
	d.eventually("the log tells of it", func() bool { return strings.Contains(d.out.String(), "left out what cannot be read") })
	check := strings.Join(strings.Fields(d.run("host", "check").out), " ")
	require.Contains(t, check, "✗ Records and files")
	for _, table := range []string{"a record of job", "a record of driver_set", "a record of support"} {
		require.Contains(t, check, table)
	}
	for _, command := range []string{"job", "tryout", "driver", "support", "tidy", "endings", "safe", "rack"} {
		d.ok(command)
	}
	r := d.run("job", "show", "j")
	require.Equal(t, 1, r.code)
	require.Contains(t, r.err, "a record of job cannot be read")
}

func TestRecordsThatAreDamagedOrTooNewAreNamedWithWhatToDo(t *testing.T) {
	state := t.TempDir()
	file := filepath.Join(state, "bench.db")
	d := startBench(t, state)
	kept, err := d.keeps(1, 200)
	require.NoError(t, err)
	backup := filepath.Join(t.TempDir(), "moor-desk.ebbackup")
	d.ok("backup", "make", backup)
	d.kill()

	d.changed(`INSERT INTO goose_db_version (version_id, is_applied) VALUES (999, 1)`)
	said := d.refuses()
	require.Contains(t, said, file+" was written by a newer Early Bench")
	require.Contains(t, said, "Nothing was changed")
	d.changed(`DELETE FROM goose_db_version WHERE version_id = 999`, `PRAGMA wal_checkpoint(TRUNCATE)`)

	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, harm := range map[string]func(b []byte) []byte{
		"no database":      func(b []byte) []byte { return []byte(strings.Repeat("not a database ", 5000)) },
		"half of it":       func(b []byte) []byte { return b[:len(b)/2] },
		"a page of zeroes": func(b []byte) []byte { clear(b[3*4096 : 4*4096]); return b },
	} {
		require.NoError(t, os.WriteFile(file, harm(append([]byte{}, whole...)), 0o600))
		os.Remove(file + "-wal")
		os.Remove(file + "-shm")
		said := d.refuses()
		require.Contains(t, said, file+" is damaged", name)
		require.Contains(t, said, "earlybench backup restore FILE", name)
	}
	require.Contains(t, d.ok("backup", "restore", backup, "--yes"), "Restored in "+state)
	d.serve()
	require.ElementsMatch(t, kept, d.handles())
}

func TestARecordsFileThatCannotBeWrittenIsNamed(t *testing.T) {
	state := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(state, "bench.db"), 0o700))
	said := (&demo{t: t, state: state}).refuses()
	require.Contains(t, said, filepath.Join(state, "bench.db"))
}

func TestABackupOfARunningBenchIsOfOneMoment(t *testing.T) {
	d := startBench(t, t.TempDir())
	ctx, stop := context.WithCancel(t.Context())
	acknowledged := make(chan string, 100_000)
	var group sync.WaitGroup
	group.Go(func() {
		for i := 0; ctx.Err() == nil; i++ {
			handle := fmt.Sprintf("kittiwake-%d", i)
			if _, err := d.api.AddDevice(ctx, client.NewDevice{Model: "Kittiwake", Handle: handle}); err == nil {
				acknowledged <- handle
			}
		}
	})
	var before []string
	for len(before) < 50 {
		before = append(before, <-acknowledged)
	}
	file := filepath.Join(t.TempDir(), "moor-desk.ebbackup")
	require.Contains(t, d.ok("backup", "make", file), "is complete")
	stop()
	group.Wait()
	d.kill()
	d.ok("backup", "restore", file, "--yes")
	d.serve()
	got := d.handles()
	require.Subset(t, got, before)
	for i := range got { // they were added one behind the other
		require.Contains(t, got, fmt.Sprintf("kittiwake-%d", i))
	}
}
