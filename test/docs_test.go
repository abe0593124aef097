package test

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/cli"
)

// shown is a command that a document shows in a block of its own.
type shown struct {
	doc, line string
}

// expectation is how a command ends that is run as it is shown: its exit code, or goesOn,
// and the shape of the first line that it prints.
type expectation struct {
	code  int
	first string
}

const goesOn = -1

// documented are all commands in blocks, in the order in which they are run.
var documented = map[shown]expectation{
	{"README.md", "earlybench rack"}:                                                                  {0, `^ +awake +driver`},
	{"README.md", "earlybench why heron-2"}:                                                           {0, `^heron-2  gate  mode  is shut$`},
	{"README.md", "earlybench prep heron-2"}:                                                          {goesOn, `^heron-2  Halden Heron 4, tarn 12, by cable`},
	{"README.md", "earlybench run demo/apps/callout heron-2"}:                                         {goesOn, `^Run fellgate/callout on heron-2$`},
	{"README.md", "earlybench try demo/apps/callout heron-2"}:                                         {0, `^Try fellgate/callout on heron-2$`},
	{"README.md", "earlybench rack --app fellgate/callout"}:                                           {0, `^ +awake .*tried$`},
	{"README.md", "earlybench why heron-2 --ask"}:                                                     {0, `^heron-2`},
	{"README.md", "earlybench why --unseen --ask"}:                                                    {6, `^This needs a person at a terminal`},
	{"README.md", "earlybench why heron-2 --report"}:                                                  {0, `^heron-2: Halden Heron 4`},
	{"README.md", "earlybench why --learned"}:                                                         {0, `^(family|Nothing was learned)`},
	{"README.md", "earlybench network"}:                                                               {0, `^(name|Nothing is heard)`},
	{"README.md", "earlybench network join heron-1"}:                                                  {0, `^heron-1 is now also linked without a cable`},
	{"README.md", "earlybench standin pull heron-1"}:                                                  {0, `^$`},
	{"README.md", "earlybench standin plug heron-1"}:                                                  {0, `^$`},
	{"README.md", "earlybench rack --peers"}:                                                          {0, `^device +of +may`},
	{"README.md", "earlybench peer set harbour-desk --sign"}:                                          {0, `^harbour-desk may here: .*have apps signed`},
	{"README.md", "earlybench try demo/apps/callout heron-9 --at harbour-desk"}:                       {3, `^harbour-desk only installs apps that it signs itself`},
	{"README.md", "earlybench kit fetch fell-kit --from harbour-desk"}:                                {0, `^Fetch fell-kit from harbour-desk$`},
	{"README.md", "earlybench peer set harbour-desk --kit go"}:                                        {0, `^harbour-desk may here: .*have go`},
	{"README.md", "earlybench loan start heron-9 --from harbour-desk --for 2h"}:                       {0, `^heron-9 of harbour-desk is yours until`},
	{"README.md", "earlybench try demo/apps/callout heron-9"}:                                         {0, `^Try fellgate/callout on heron-9$`},
	{"README.md", "earlybench loan"}:                                                                  {0, `^device +right`},
	{"README.md", `earlybench hands ask heron-9 --title "Lay it on its back"`}:                        {0, `^harbour-desk was asked: Lay it on its back`},
	{"README.md", "earlybench hands"}:                                                                 {0, `^device`},
	{"README.md", "earlybench loan end heron-9"}:                                                      {0, `^heron-9, borrowed from harbour-desk: (ended|is being returned)`},
	{"README.md", `earlybench with --where 'device.family == "tarn"' -- printenv EARLYBENCH_DEVICES`}: {0, `^(Waits|Reserved)`},
	{"README.md", "earlybench reservation"}:                                                           {0, `^device +by`},
	{"docs/guides/pipelines.md", `earlybench with --where 'device.family == "tarn"' --count 2 --within 20m --out night -- ./test.sh`}: {2, `^The command cannot be run`},
	{"README.md", "earlybench peer check harbour-desk"}:                                               {0, `^. route +127\.0\.0\.1:\d+ answers`},
	{"README.md", "earlybench peer invite --out FILE --may look"}:                                     {3, `^This bench does not accept connections from other benches`},
	{"README.md", "earlybench peer set harbour-desk heron-1=use"}:                                     {0, `^harbour-desk may here: heron-1=use`},
	{"README.md", "earlybench network introduce heard-2 --as kittiwake-1"}:                            {1, `^Nothing called "heard-2" is heard`},
	{"README.md", "earlybench network introduce near-1 --as kittiwake-2"}:                             {0, `^kittiwake-2 \(wick, model W2, release 2, serial W 2 0019\) shows three words`},
	{"README.md", "earlybench try demo/apps/pulse kittiwake-2"}:                                       {3, `^kittiwake-2`},
	{"README.md", "earlybench network add 192.0.2.21:4022"}:                                           {0, `^heard-[0-9]+ at 192\.0\.2\.21:4022: nobody`},
	{"README.md", "earlybench network add ssh://board@192.0.2.40"}:                                    {0, `^server-[0-9]+ at ssh://board@192\.0\.2\.40: nobody`},
	{"README.md", "earlybench try demo/apps/rain board-1"}:                                            {0, `^Try fellgate/rain on board-1$`},
	{"README.md", "earlybench port heron-1 screen --at 5950"}:                                         {goesOn, `^Port screen of heron-1 is at 127\.0\.0\.1:5950`},
	{"README.md", "earlybench round"}:                                                                 {0, `\S`},
	{"README.md", "earlybench prep"}:                                                                  {goesOn, `\S`},
	{"README.md", "earlybench wait ready heron-2 --within 5m"}:                                        {0, `^ +device$`},
	{"README.md", "earlybench prep heron-2 kestle-1"}:                                                 {goesOn, `^heron-2  Halden Heron 4`},
	{"README.md", "earlybench rack find heron-1"}:                                                     {0, `^It is shown on its screen: heron-1$`},
	{"README.md", "earlybench console --phone heron-2 --address 192.0.2.7"}:                           {1, `192\.0\.2\.7`},
	{"README.md", "earlybench retire heron-1 --yes"}:                                                  {0, `Take the apps off`},
	{"README.md", "earlybench host set shared loft"}:                                                  {0, `^$`},
	{"README.md", "earlybench serve"}:                                                                 {1, `(?i)^a bench is already running with the state `},
	{"README.md", "earlybench host tree"}:                                                             {0, `^loft$`},
	{"README.md", "earlybench host give ivory-2"}:                                                     {0, `^This bench now has ivory-2\.$`},
	{"README.md", "earlybench driver show ivory-1"}:                                                   {0, `^set +version +it is`},
	{"README.md", "earlybench standin depot cut"}:                                                     {0, `^The stand-in depot is cut\.$`},
	{"README.md", "earlybench link restart ivory-3"}:                                                  {0, `^ivory-3 by cable: not admitted$`},
	{"README.md", "earlybench project add demo/apps/muster"}:                                          {0, `^fellgate/muster$`},
	{"README.md", "earlybench kit"}:                                                                   {0, `^kit +version +it is`},
	{"README.md", "earlybench authority"}:                                                             {0, `^authority +address`},
	{"README.md", "earlybench account sign-in --wait=false"}:                                          {0, `^Open +https://`},
	{"README.md", "earlybench account"}:                                                               {0, `^account +authority +crew`},
	{"README.md", "earlybench register add"}:                                                          {0, `register|^Crew fellgate at fell-authority`},
	{"README.md", "earlybench register"}:                                                              {0, `^Crew fellgate at fell-authority: \d+ of 60 places`},
	{"README.md", `earlybench identity new "moor-desk 2026"`}:                                         {0, `^identity +authority`},
	{"README.md", "earlybench app set demo/apps/callout --id fellgate/callout"}:                       {0, `already says so`},
	{"README.md", "earlybench safe"}:                                                                  {0, `^The safe is open`},
	{"README.md", "earlybench standin authority down"}:                                                {0, `^The stand-in authority is down\.$`},
	{"README.md", "earlybench explain"}:                                                               {0, `^[╱━┄] account `},
	{"README.md", "earlybench console --sign-out"}:                                                    {0, `^(No browser was signed in|.* signed out)\. Addresses`},
	{"README.md", "earlybench explain fellgate/callout kestle-6"}:                                     {3, `^No\. `},
	{"README.md", "earlybench token new kestle-1 kestle-2"}:                                           {0, `^debug token +of +app`},
	{"README.md", "earlybench token"}:                                                                 {0, `^debug token +of +app`},
	{"README.md", "earlybench token put ID kestle-1 kestle-2"}:                                        {2, `(?i)^no debug token of the bench begins with "ID"`},
	{"README.md", "earlybench handover request fellgate/callout callout.ebrequest"}:                   {0, `^Send callout\.ebrequest`},
	{"README.md", "earlybench endings"}:                                                               {0, `^ends +what`},
	{"README.md", "earlybench endings --date 2027-06-01"}:                                             {0, `^On 1 June 2027`},
	{"README.md", "earlybench endings calendar"}:                                                      {0, `^http://127\.0\.0\.1:\d+/calendar/\w+\.ics$`},
	{"README.md", "earlybench host check"}:                                                            {0, `^. USB of this computer`},
	{"README.md", "earlybench host add NAME --usbip HOST:PORT --control HOST:PORT"}:                   {1, `^Host name "NAME" is invalid: start with a lower-case letter`},
	{"README.md", "earlybench driver add FILE"}:                                                       {2, `(?i)^open the driver set: open FILE`},
	{"README.md", "earlybench depot add URL"}:                                                         {1, `^Address "URL" is invalid: write it as https://NAME:PORT/`},
	{"README.md", "earlybench host needs"}:                                                            {0, `^needed +version`},
	{"README.md", "earlybench console --person wren heron-1 --for 2h --may look --address 127.0.0.1"}: {0, `^ +$`},
	{"README.md", "earlybench console"}:                                                               {0, `^http://bench-[a-z2-7]{26}\.localhost:\d+/#sign-in=`},
	{"README.md", "earlybench console --confirm 123456"}:                                              {1, `^No browser is waiting with the code "123456"`},
	{"README.md", "earlybench access add nightly --may use --for 720h"}:                               {0, `^eb[a-z]*_|^\S{20,}$`},
	{"README.md", "earlybench run demo/apps/callout heron-1 heron-2"}:                                 {1, `^Run fellgate/callout on 2 devices$`},
	{"README.md", "earlybench audit"}:                                                                 {0, `^line +when +who +what +of`},
	{"README.md", "earlybench tidy"}:                                                                  {0, `^There is nothing to remove`},
	{"README.md", "earlybench backup make moor-desk.ebbackup"}:                                        {0, `^  ✓ write `},

	{"docs/where.md", `earlybench rack --where 'device.family == "tarn" && device.release < version("12")'`}:            {0, `^ +awake`},
	{"docs/where.md", `earlybench rack --where 'gate.mode == "shut" && !known.device.met'`}:                             {0, `^ +awake`},
	{"docs/where.md", `earlybench job --where 'job.state == "failed" && job.device == "heron-2"'`}:                      {0, `^Nothing matches`},
	{"docs/where.md", `earlybench audit --where 'line.operation == "install-driver"' --limit 20`}:                       {0, `^line`},
	{"docs/where.md", `earlybench try fellgate/callout --where 'device.family == "tarn" && device.summary == "ready"'`}: {0, `^Chosen: heron-2$`},
	{"docs/where.md", `earlybench rack --where 'device.famliy == "tarn"'`}:                                              {2, `^--where: there is no device\.famliy \(did you mean device\.family\?\)$`},

	{"docs/guides/writing-an-adapter.md", "earlybench standin reed /tmp/reed-line"}:                             {goesOn, `^A board with the serial RD-0007 is at /tmp/reed-line\.`},
	{"docs/guides/writing-an-adapter.md", "earlybench standin reed --network"}:                                  {goesOn, `^A board with the serial RD-0007 is announced as _reed\._tcp`},
	{"docs/guides/writing-an-adapter.md", "earlybench adapter check demo/adapters/reed-py"}:                     {0, `^✓ adapter\.yaml says`},
	{"docs/guides/writing-an-adapter.md", "earlybench adapter check demo/adapters/reed-py --at /tmp/reed-line"}: {1, `^✓ adapter\.yaml says`},
	{"docs/guides/writing-an-adapter.md", "earlybench adapter add demo/adapters/reed-py"}:                       {6, `^reed-py: Boards of Saltmarsh`},
	{"docs/guides/writing-an-adapter.md", "earlybench adapter"}:                                                 {0, `^There is no adapter`},
	{"docs/guides/writing-an-adapter.md", "earlybench adapter actions reed-1"}:                                  {1, `reed-1`},
	{"docs/guides/writing-an-adapter.md", "earlybench adapter act reed-1 board.label text=hut"}:                 {1, `reed-1`},
	{"docs/guides/writing-an-adapter.md", "earlybench try demo/apps/words reed-1"}:                              {1, `reed-1`},

	{"docs/guides/writing-a-sheet.md", "earlybench rack"}:                                                     {0, `^ +awake`},
	{"docs/guides/writing-a-sheet.md", "earlybench sheet new --from unknown-1 --name slate --out slate.yaml"}: {0, `slate\.yaml`},
	{"docs/guides/writing-a-sheet.md", "earlybench sheet check slate.yaml"}:                                   {0, `^slate\.yaml: no errors; 10 models in all$`},
	{"docs/guides/writing-a-sheet.md", "earlybench sheet add slate.yaml"}:                                     {0, `slate\.yaml`},
	{"docs/guides/writing-a-sheet.md", "earlybench why slate-1"}:                                              {0, `^slate-1  gate  `},
}

// docs are the documents, in the order of their commands.
func docs(t *testing.T) []string {
	t.Helper()
	names := []string{"README.md", "docs/where.md"}
	require.NoError(t, filepath.WalkDir("../docs", func(path string, _ os.DirEntry, err error) error {
		if name := strings.TrimPrefix(path, "../"); err == nil && strings.HasSuffix(name, ".md") && !slices.Contains(names, name) {
			names = append(names, name)
		}
		return err
	}))
	return names
}

var comment = regexp.MustCompile(` {2,}#.*$| +# .*$`)

// blocks are the commands that a document shows in blocks.
func blocks(t *testing.T, name string) (out []shown) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("..", name))
	require.NoError(t, err)
	inside := false
	for line := range strings.Lines(string(text)) {
		if line = strings.TrimRight(line, "\n"); strings.HasPrefix(line, "```") {
			inside = !inside
			continue
		}
		line = strings.TrimPrefix(strings.TrimPrefix(line, "$ "), "bin/")
		if inside && strings.HasPrefix(line, "earlybench ") {
			out = append(out, shown{name, strings.TrimSpace(comment.ReplaceAllString(line, ""))})
		}
	}
	return out
}

func TestEveryCommandThatTheDocumentsShowDoesWhatTheySay(t *testing.T) {
	d := startWith(t, t.TempDir(), "--answer-within", "2s")
	at, _ := unrecognisedHost(t, "slate-sync")
	before := map[string]func(){
		"earlybench run demo/apps/callout heron-2": d.prepared,
		"earlybench try demo/apps/callout heron-9": func() { d.waits("heron-9", "linked", "open") },
		"earlybench account": func() {
			d.signsIn(userCode.FindString(d.ok("account", "sign-in", "--wait=false")), "rowan")
			d.eventually("rowan is signed in", func() bool { return strings.Contains(d.ok("account"), "rowan") })
		},
		"earlybench token new kestle-1 kestle-2": func() {
			d.ok("standin", "authority", "well") // a command before has shown how it is taken down
			d.eventually("the kestles are registered", func() bool {
				r := d.run("register", "add")
				return r.code == 0 || strings.Contains(r.err, "othing to register")
			})
		},
		"earlybench backup make moor-desk.ebbackup":                      func() { t.Cleanup(func() { os.Remove("../moor-desk.ebbackup") }) },
		"earlybench handover request fellgate/callout callout.ebrequest": func() { t.Cleanup(func() { os.Remove("../callout.ebrequest") }) },
		"earlybench rack find heron-1":                                   func() { d.waits("heron-1", "linked", "open") },
		"earlybench sheet new --from unknown-1 --name slate --out slate.yaml": func() {
			d.ok("host", "add", "attic", "--usbip", d.at.Hub, "--control", at)
			d.eventually("it is seen", func() bool { return strings.Contains(d.ok("rack"), "unknown-1") })
		},
		"earlybench why slate-1": func() { d.eventually("it is known", func() bool { return d.run("why", "slate-1").code == 0 }) },
	}
	elsewhere := t.TempDir()
	examples, err := filepath.Abs("../demo")
	require.NoError(t, err)
	require.NoError(t, os.Symlink(examples, filepath.Join(elsewhere, "demo")))
	bin := t.TempDir()
	program, err := filepath.Abs(d.bin)
	require.NoError(t, err)
	require.NoError(t, os.Symlink(program, filepath.Join(bin, "earlybench")))
	seen := map[shown]bool{}
	for _, name := range docs(t) {
		for _, s := range blocks(t, name) {
			want, ok := documented[s]
			require.True(t, ok, "%s shows a command that this test does not know: %s", s.doc, s.line)
			seen[s] = true
			if prepare := before[s.line]; prepare != nil {
				prepare()
			}
			dir := ".."
			if strings.HasPrefix(name, "docs/guides/") {
				dir = elsewhere
			}
			first, code := d.asShown(dir, bin, s.line, want.code == goesOn)
			assert.Equal(t, want.code, code, "%s: %s: %s", s.doc, s.line, first)
			assert.Regexp(t, want.first, first, "%s: %s", s.doc, s.line)
		}
	}
	for s := range documented {
		require.True(t, seen[s], "no document shows this any more: %s: %s", s.doc, s.line)
	}
}

// asShown runs a line in a shell, and tells the first line that it prints and how it ends.
// One that goes on is ended once it has printed something.
func (d *demo) asShown(dir, bin, line string, goes bool) (first string, code int) {
	d.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*patience)
	defer cancel()
	var out shared
	cmd := exec.CommandContext(ctx, "sh", "-c", "exec "+line)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "EARLYBENCH_STATE="+d.state, "NO_COLOR=1", "PATH="+bin+":"+os.Getenv("PATH"))
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(d.t, cmd.Start())
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	firstLine := func() string { line, _, _ := strings.Cut(strings.TrimLeft(out.String(), "\n"), "\n"); return line }
	if goes {
		d.eventually(line+" prints something", func() bool { return strings.Contains(out.String(), "\n") })
		select {
		case <-ended:
			return firstLine(), cmd.ProcessState.ExitCode()
		case <-time.After(2 * time.Second):
		}
		require.NoError(d.t, cmd.Process.Signal(syscall.SIGINT))
		<-ended
		return firstLine(), goesOn
	}
	<-ended
	return firstLine(), cmd.ProcessState.ExitCode()
}

var inline = regexp.MustCompile("`(?:bin/)?(earlybench [^`]+)`")

// What stands within sentences has placeholders; that there is such a command, with such
// options, is looked at all the same.
func TestEveryCommandThatTheDocumentsNameIsThere(t *testing.T) {
	checked := 0
	for _, name := range docs(t) {
		text, err := os.ReadFile(filepath.Join("..", name))
		require.NoError(t, err)
		var lines []string
		for _, m := range inline.FindAllStringSubmatch(strings.ReplaceAll(string(text), "\n", " "), -1) {
			lines = append(lines, m[1])
		}
		for _, s := range blocks(t, name) {
			lines = append(lines, s.line)
		}
		for _, line := range lines {
			if regexp.MustCompile(`^earlybench (number|figures|announcement) 1`).MatchString(line) {
				continue // texts of formats, that are digested
			}
			words := strings.Fields(line)[1:]
			c, rest, err := cli.Command().Find(words)
			require.NoError(t, err, "%s: %s", name, line)
			if c.HasSubCommands() && len(rest) > 0 && !strings.HasPrefix(rest[0], "-") {
				require.Fail(t, "no such command", "%s: %s", name, line)
			}
			c.InheritedFlags() // so that those are there
			for _, word := range words {
				flag, isFlag := strings.CutPrefix(word, "--")
				if flag, _, _ = strings.Cut(flag, "="); !isFlag || flag == "" {
					continue
				}
				var f *pflag.Flag
				if f = c.Flags().Lookup(flag); f == nil {
					f = c.InheritedFlags().Lookup(flag)
				}
				require.NotNil(t, f, fmt.Sprintf("%s: %s: --%s", name, line, flag))
			}
			checked++
		}
	}
	require.Greater(t, checked, 40)
}
