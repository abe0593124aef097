# Early Bench. `make` alone prints what there is.
# Everything sets up what it needs, on a machine that has Go and Node.

GO      ?= go
CONSOLE := console
export GOTOOLCHAIN = local

.DEFAULT_GOAL := help
.PHONY: help build demo check test race soak lint measure screenshots docs types setup-test

help: ## print this help
	@awk -F ':.*## ' '/^[a-z-]+:.*## / { printf "  make %-12s %s\n", $$1, $$2 }' $(MAKEFILE_LIST)

build: $(CONSOLE)/dist/index.html ## build bin/earlybench, with the console in it
	$(GO) build -buildvcs=auto -o bin/earlybench ./cmd/earlybench

demo: build ## run a bench with stand-in devices, to learn and try things with
	@exec bin/earlybench demo

check: $(CONSOLE)/dist/index.html ## vet and run the core's and the use cases' tests, in under a minute
	$(GO) vet ./...
	$(GO) test -short ./core/... ./client/... ./internal/facts ./internal/rack ./internal/outlook ./internal/keeper ./internal/ways/cable ./internal/store ./internal/web ./internal/state

test: ## run all tests
	sh scripts/test.sh

race: $(CONSOLE)/dist/index.html setup-test ## run the packages' tests under the race detector
	sh scripts/race.sh

soak: build setup-test ## do often what make test does a few times, for an hour or as SOAK=5m says, and print one table
	sh scripts/soak.sh

lint: $(CONSOLE)/dist/index.html ## check style, types, imports
	sh scripts/lint.sh

measure: build ## measure speed and memory, and print the figures of docs/benchmarks.md
	$(GO) run ./test/measure

screenshots: build setup-test ## take the pictures of docs/screenshots anew
	sh scripts/screenshots.sh

types: $(CONSOLE)/node_modules/.ready ## make the console's types from the HTTP interface
	$(GO) run ./cmd/openapi > $(CONSOLE)/openapi.json.new && mv $(CONSOLE)/openapi.json.new $(CONSOLE)/openapi.json
	@$(MAKE) --no-print-directory $(CONSOLE)/src/api/schema.d.ts

# The console's types are made from the description of the interface, and not kept.
$(CONSOLE)/src/api/schema.d.ts: $(CONSOLE)/openapi.json $(CONSOLE)/node_modules/.ready
	cd $(CONSOLE) && npm run --silent types

docs: ## write man pages and shell completions to bin/man and bin/completions
	$(GO) run ./cmd/docs bin

setup-test:
	@sh scripts/setup.sh

$(CONSOLE)/node_modules/.ready: $(CONSOLE)/package-lock.json
	cd $(CONSOLE) && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

$(CONSOLE)/dist/index.html: $(CONSOLE)/node_modules/.ready $(CONSOLE)/src/api/schema.d.ts $(shell find $(CONSOLE)/src $(CONSOLE)/public $(CONSOLE)/index.html $(CONSOLE)/vite.config.ts -type f 2>/dev/null)
	cd $(CONSOLE) && npm run --silent build
