package kit_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"earlybench.invalid/earlybench/core/kit"
)

// awkward are directories that a shell might read as something else.
var awkward = kit.Environment{
	Search:    []string{"/opt/it's a kit/bin", `/opt/$HOME "and" back\slash/bin`, "/opt/*;rm -rf `x`/bin"},
	Variables: []kit.Variable{{Name: "FELL_KIT", Value: `/opt/it's $HOME\n "x"`}, {Name: "FELL_PARTS", Value: "/opt/ü ‘x’ #!%/parts"}},
}

func TestEveryShellUsesTheEnvironmentAsItStands(t *testing.T) {
	for _, c := range []struct {
		shell kit.Shell
		run   func(script string) []string
	}{
		{kit.Bash, func(s string) []string { return []string{"bash", "--norc", "-c", s} }},
		{kit.Bash, func(s string) []string { return []string{"sh", "-c", s} }},
		{kit.Zsh, func(s string) []string { return []string{"zsh", "-f", "-c", s} }},
		{kit.Fish, func(s string) []string { return []string{"fish", "--no-config", "-c", s} }},
	} {
		show := "\nprintf '%s\\n' \"$PATH\" \"$FELL_KIT\" \"$FELL_PARTS\"\n"
		if c.shell == kit.Fish {
			show = "\nprintf '%s\\n' (string join : $PATH) \"$FELL_KIT\" \"$FELL_PARTS\"\n"
		}
		script, err := c.shell.Script(awkward)
		require.NoError(t, err)
		for name, s := range map[string]string{"once": script, "twice": script + script} {
			args := c.run(s + show)
			t.Run(args[0]+" "+name, func(t *testing.T) {
				if _, err := exec.LookPath(args[0]); err != nil {
					t.Skipf("%s is not installed", args[0])
				}
				cmd := exec.Command(args[0], args[1:]...)
				cmd.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + t.TempDir()}
				out, err := cmd.CombinedOutput()
				require.NoError(t, err, "%s", out)
				require.Equal(t, strings.Join(awkward.Search, ":")+":/usr/bin:/bin\n"+awkward.Variables[0].Value+"\n"+awkward.Variables[1].Value+"\n", string(out))
			})
		}
	}
}

// PowerShell is written by its language specification (2.3.5.2): within single quotes only
// a quote counts, and typographic quotes are quotes.
func TestWhatPowerShellIsGiven(t *testing.T) {
	script, err := kit.PowerShell.Script(kit.Environment{Search: []string{`C:\it's`}, Variables: []kit.Variable{{Name: "A", Value: "$x `n ’"}}})
	require.NoError(t, err)
	require.Equal(t, `if (-not ($env:PATH + [IO.Path]::PathSeparator).StartsWith((('C:\it''s') -join [IO.Path]::PathSeparator) + [IO.Path]::PathSeparator)) { $env:PATH = (('C:\it''s') -join [IO.Path]::PathSeparator) + [IO.Path]::PathSeparator + $env:PATH }
$env:A = '$x `+"`n"+` ’’'
`, script)
}

func TestWhatNoSearchPathCanHoldIsSaid(t *testing.T) {
	_, err := kit.Bash.Script(kit.Environment{Search: []string{"/opt/a:b"}})
	require.ErrorContains(t, err, "separates")
	_, err = kit.Fish.Script(kit.Environment{Variables: []kit.Variable{{Name: "A", Value: "a\nb"}}})
	require.ErrorContains(t, err, "line break")
}

func TestTheShellsByTheNamesOfTheirPrograms(t *testing.T) {
	for program, want := range map[string]kit.Shell{"/bin/bash": kit.Bash, "/usr/bin/zsh": kit.Zsh, "fish": kit.Fish, `C:\Program Files\PowerShell\7\pwsh.exe`: kit.PowerShell, "/bin/dash": kit.Bash} {
		got, err := kit.ShellOf(program)
		require.NoError(t, err)
		require.Equal(t, want, got)
	}
	_, err := kit.ShellOf("/bin/tcsh")
	require.ErrorContains(t, err, "tcsh")
}

func TestTheFileThatNewShellsRead(t *testing.T) {
	none := func(string) string { return "" }
	set := func(name, value string) func(string) string {
		return func(n string) string {
			if n == name {
				return value
			}
			return ""
		}
	}
	require.Equal(t, "/home/ines/.bashrc", kit.Bash.Startup("linux", "/home/ines", none))
	require.Equal(t, "/home/ines/.bash_profile", kit.Bash.Startup("darwin", "/home/ines", none))
	require.Equal(t, "/z/.zshrc", kit.Zsh.Startup("linux", "/home/ines", set("ZDOTDIR", "/z")))
	require.Equal(t, "/home/ines/.config/fish/config.fish", kit.Fish.Startup("linux", "/home/ines", none))
	require.Equal(t, "/c/fish/config.fish", kit.Fish.Startup("linux", "/home/ines", set("XDG_CONFIG_HOME", "/c")))
	require.Equal(t, "/home/ines/Documents/PowerShell/profile.ps1", kit.PowerShell.Startup("windows", "/home/ines", none))
}

func TestAStartupFileKeepsEveryOtherLine(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		file := rapid.StringMatching(`([a-z# ]{0,8}\r?\n){0,6}[a-z]{0,4}`).Draw(t, "file")
		with, err := kit.Install(file, "fell-kit", "one\n")
		require.NoError(t, err)
		again, err := kit.Install(with, "fell-kit", "one\n")
		require.NoError(t, err)
		require.Equal(t, with, again, "a second time changes nothing")
		other, err := kit.Install(with, "go", "two\n")
		require.NoError(t, err)
		newer, err := kit.Install(other, "fell-kit", "three\n")
		require.NoError(t, err)
		require.Equal(t, strings.Replace(other, "one\n", "three\n", 1), newer, "in its place")
		for _, name := range []string{"fell-kit", "go"} {
			newer, err = kit.Uninstall(newer, name)
			require.NoError(t, err)
		}
		require.Equal(t, strings.TrimSuffix(file, "\n"), strings.TrimSuffix(newer, "\n"))
	})
}

func TestLinesThatLostTheirEndAreLeftAlone(t *testing.T) {
	with, err := kit.Install("", "fell-kit", "one\n")
	require.NoError(t, err)
	begun := with[:strings.LastIndex(strings.TrimSuffix(with, "\n"), "\n")+1]
	_, err = kit.Install(begun, "fell-kit", "two\n")
	require.ErrorContains(t, err, "by hand")
	_, err = kit.Uninstall(begun, "fell-kit")
	require.ErrorContains(t, err, "by hand")
	same, err := kit.Uninstall("mine\n", "fell-kit")
	require.NoError(t, err)
	require.Equal(t, "mine\n", same)
}

func TestAnArgumentHasQuotesWhereAShellNeedsThem(t *testing.T) {
	require.Equal(t, "/opt/fell-kit-3.2", kit.Argument("/opt/fell-kit-3.2"))
	require.Equal(t, `'/opt/my kit'`, kit.Argument("/opt/my kit"))
	require.Equal(t, `'/opt/it'\''s'`, kit.Argument("/opt/it's"))
	require.Equal(t, `''`, kit.Argument(""))
}
