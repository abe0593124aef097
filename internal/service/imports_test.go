package service_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"earlybench.invalid/earlybench/internal/benchtest/leaks"
)

func TestMain(m *testing.M) { leaks.None(m) }

const module = "earlybench.invalid/earlybench/"

// forbidden says of packages, by how their path begins, what they must not import;
// .golangci.yml holds the same, with the reasons.
var forbidden = []struct{ of, imports []string }{
	{[]string{"core/"}, []string{"internal/", "standin", "client", "cmd/", "github.com/gofiber/", "github.com/spf13/cobra", "database/sql", "modernc.org/sqlite"}},
	{[]string{"standin"}, []string{"internal/", "client"}},
	{[]string{"client"}, []string{"internal/", "core/", "standin"}},
	{[]string{"internal/facts", "internal/keeper", "internal/rack", "internal/outlook"}, append([]string{"core/link", "core/usbip", "core/hostlink", "core/rpc",
		"golang.org/x/crypto/ssh", "internal/ways/cable", "internal/bus", "internal/web", "internal/cli", "internal/service"}, useCases...)},
	{[]string{"internal/ways"}, append([]string{"internal/outlook", "internal/web", "internal/cli", "internal/service"}, useCases...)},
	{useCases, append([]string{"core/link", "core/usbip", "core/rpc", "golang.org/x/crypto/ssh", "internal/ways", "internal/web", "internal/cli", "internal/service"}, useCases...)},
	{[]string{"internal/web"}, []string{"core/link", "core/usbip", "core/rpc", "internal/ways", "internal/cli", "internal/service", "database/sql"}},
	{[]string{"internal/cli"}, append([]string{"internal/store", "internal/keeper", "internal/rack", "internal/outlook", "internal/facts", "internal/web", "internal/ways"}, useCases...)},
	{[]string{"internal/bus", "internal/computer", "internal/outside", "internal/fetch", "internal/depot", "internal/authority", "internal/safe", "internal/tidy", "internal/backup", "internal/network", "internal/introduce", "internal/peer", "internal/rawusb"}, append([]string{"internal/web", "internal/cli", "internal/service", "internal/ways"}, useCases...)},
	{[]string{"internal/store"}, append([]string{"internal/web", "internal/cli", "internal/service", "internal/ways", "internal/bus", "internal/facts", "internal/keeper", "internal/rack", "internal/outlook", "internal/library",
		"internal/safe", "internal/state", "internal/depot", "internal/authority", "internal/access", "internal/kits", "internal/computer"}, useCases...)},
}

var useCases = []string{"internal/lend", "internal/signing", "internal/kitfetch", "internal/reserve", "internal/prep", "internal/supply", "internal/tryout", "internal/retire", "internal/belong", "internal/statements", "internal/endings"}

// itself reports whether an import is of the package, or of one below or above it that
// belongs to it.
func itself(pkg, imp string) bool {
	return pkg == imp || strings.HasPrefix(imp, pkg+"/") || strings.HasPrefix(pkg, imp+"/")
}

// TestPackagesImportOnlyWhatTheirPlaceAllows holds the directions of the
// architecture, for every package of the module.
func TestPackagesImportOnlyWhatTheirPlaceAllows(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}}", module+"...").Output()
	require.NoError(t, err)
	seen := 0
	for line := range strings.Lines(string(out)) {
		pkg, imports, _ := strings.Cut(strings.TrimSpace(line), ":")
		pkg = strings.TrimPrefix(pkg, module)
		for imp := range strings.FieldsSeq(imports) {
			imp = strings.TrimPrefix(imp, module)
			seen++
			for _, rule := range forbidden {
				if !begins(pkg, rule.of) || itself(pkg, imp) {
					continue
				}
				require.False(t, begins(imp, rule.imports), "%s imports %s", pkg, imp)
			}
		}
	}
	require.Greater(t, seen, 500, "the imports were read")
}

// Tests inside of a package change it, so that all that stands between it and a whole bench is compiled once more
// for them: half a minute for each such package.
func TestPackagesWhoseTestsMakeWholeBenchesAreTestedFromOutside(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{if .TestGoFiles}}{{.ImportPath}}: {{join .TestImports " "}} {{join .XTestImports " "}}{{end}}`, module+"internal/...", module+"core/...", module+"client/...").Output()
	require.NoError(t, err)
	require.Contains(t, string(out), module+"internal/safe:")
	for line := range strings.Lines(string(out)) {
		pkg, imports, _ := strings.Cut(line, ":")
		require.NotContains(t, strings.Fields(imports), module+"internal/benchtest", "%s has tests inside of it", pkg)
	}
}

func begins(path string, with []string) bool {
	for _, w := range with {
		if path == strings.TrimSuffix(w, "/") || strings.HasPrefix(path, strings.TrimSuffix(w, "/")+"/") {
			return true
		}
	}
	return false
}
