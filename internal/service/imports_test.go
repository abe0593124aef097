package service_test

import (
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

const module = "earlybench.invalid/earlybench/"

// TestPackagesImportOnlyWhatTheirPlaceAllows holds the direction of the
// architecture: core knows nothing of the rest, stand-ins nothing of the
// bench's insides, use cases nothing of each other, web and cli nothing of the
// store's tables.
func TestPackagesImportOnlyWhatTheirPlaceAllows(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}}: {{join .Imports \" \"}}", module+"...").Output()
	require.NoError(t, err)
	useCases := []string{"internal/prep", "internal/supply", "internal/tryout"}
	seen := 0
	for line := range strings.Lines(string(out)) {
		pkg, imports, _ := strings.Cut(strings.TrimSpace(line), ":")
		pkg = strings.TrimPrefix(pkg, module)
		for imp := range strings.FieldsSeq(imports) {
			imp, ours := strings.CutPrefix(imp, module)
			if !ours {
				require.False(t, strings.HasPrefix(pkg, "core/") && (strings.Contains(imp, "fiber") || strings.Contains(imp, "database/sql") || strings.Contains(imp, "cobra")), "%s imports %s", pkg, imp)
				continue
			}
			seen++
			switch {
			case strings.HasPrefix(pkg, "core/"):
				require.True(t, strings.HasPrefix(imp, "core/"), "%s imports %s", pkg, imp)
			case strings.HasPrefix(pkg, "standin"):
				require.False(t, strings.HasPrefix(imp, "internal/") || imp == "client", "%s imports %s", pkg, imp)
			}
			for _, u := range useCases {
				if pkg == u {
					require.NotContains(t, useCases, imp, "%s imports %s", pkg, imp)
				}
			}
			if pkg == "internal/cli" {
				require.NotContains(t, append(useCases, "internal/store", "internal/keeper", "internal/web"), imp, "%s imports %s", pkg, imp)
			}
		}
	}
	require.Greater(t, seen, 100, "the imports were read")
}
