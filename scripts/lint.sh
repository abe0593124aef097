#!/bin/sh
# Style, types, imports. golangci-lint is used where it is installed; without it
# the same rules for imports are held by a test.
set -eu
export GOGC=400 # compiling and vetting take less time with a larger heap
unformatted=$(git ls-files -co --exclude-standard '*.go' | xargs gofmt -l)
if [ -n "$unformatted" ]; then
    echo "gofmt would change:"; echo "$unformatted"; exit 1
fi
go vet ./...
# The program is built for these too; its tests run on Linux only.
platforms=$(mktemp)
trap 'rm -f "$platforms"' EXIT
go build -o "$platforms" ./cmd/platforms
for target in linux/arm64 darwin/amd64 darwin/arm64 windows/amd64; do
    echo "vet for $target"
    "$platforms" "$target" $(GOOS="${target%/*}" GOARCH="${target#*/}" CGO_ENABLED=0 go list ./... | grep -v '/test')
done
for app in demo/apps/*/go.mod; do (cd "${app%/*}" && GOOS=wasip1 GOARCH=wasm go vet .); done
for adapter in demo/adapters/*/go.mod; do (cd "${adapter%/*}" && go vet .); done
(cd console && npm run --silent lint)
if command -v golangci-lint >/dev/null 2>&1; then
    golangci-lint run
else
    echo "golangci-lint is not installed; gofmt, go vet, eslint, prettier and tsc were run."
fi
