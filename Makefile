# The console is built into the binary, so it comes first.
CONSOLE := internal/web/console/index.html
CONSOLE_SOURCES := $(shell find console/src console/public -type f -not -name '*.gen.*') console/scripts/settable.js console/index.html console/vite.config.js console/tsconfig.json docs/openapi.json
NODE_MODULES := console/node_modules/.package-lock.json
ARGS ?=

help: ## list the targets
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | awk -F ':.*## ' '{printf "  make %-12s %s\n", $$1, $$2}'

build: $(CONSOLE) ## build bin/diathermon with the console in it
	go build -trimpath -ldflags="-s -w" -o bin/diathermon ./cmd/diathermon

demo: tools ## install what is missing, build, and run a host with a stand-in printer and sample files
	@./scripts/install postgresql
	@$(MAKE) --no-print-directory build
	@bin/diathermon demo $(ARGS)

test: tools $(CONSOLE) ## install what is missing and run all tests
	@./scripts/install postgresql chromium dbus curl litmus cadaver iproute2 avahi-daemon avahi-utils nginx-light
	go test -count=1 -timeout 75m -parallel 4 ./internal/e2e ./internal/host ./... # what takes longest first

short: ## the tests that need neither database nor browser, in seconds
	go test -short ./internal/core/... ./internal/host/... ./internal/port ./internal/web/... ./internal/shelf ./internal/simprinter

race: tools ## the rooms in which goroutines meet, under the race detector
	@./scripts/install postgresql
	go test -race -short -count=1 -timeout 20m ./internal/host/... ./internal/port ./internal/web/... ./internal/core/wire ./internal/core/run ./internal/heatlog ./internal/hindsight ./internal/journal ./internal/durable ./internal/records ./internal/shelf ./internal/survey ./internal/rehearsal ./internal/idle ./internal/gate ./internal/people ./internal/queue ./internal/notices ./internal/doors/...

soak: tools $(CONSOLE) ## a million conversations and lives of runs from seeds, two hundred kills of the host in the middle of a run, and a quarter of an hour of attacks beside one
	go test -count=1 -timeout 60m -run TestAnySeed ./internal/core/wire -seeds 1000000
	go test -count=1 -timeout 60m -run TestAnyLife ./internal/core/run -lives 1000000
	go test -count=1 -timeout 60m -run TestAnyRoutine ./internal/core/routine -seeds 200000
	@./scripts/install postgresql
	go test -count=1 -timeout 60m -run TestAKilledHostGoesOnWhereItWas ./internal/e2e -kills 200
	@$(MAKE) --no-print-directory attack

attack: tools $(CONSOLE) ## the worst that callers of each scope, and of none, can ask, beside a print, by the table in docs/security.md
	@./scripts/install postgresql
	go test -count=1 -timeout 60m -v -run TestThePrintGoesOn ./internal/e2e -attack 20s

plant: ## plant small mistakes and see whether the rooms' tests notice them; docs/testing.md
	go run ./tools/plant tools/plant/mistakes.txt

lint: tools $(CONSOLE) ## vet, staticcheck, govulncheck where its data can be had, the console's types and lint
	go vet ./...
	go tool staticcheck ./...
	@go tool govulncheck ./... >/tmp/govulncheck.$$$$ 2>&1; code=$$?; \
	  if [ $$code -eq 3 ]; then cat /tmp/govulncheck.$$$$; elif [ $$code -ne 0 ]; then echo "govulncheck skipped: its data cannot be had here"; else echo "govulncheck: nothing known"; fi; \
	  rm -f /tmp/govulncheck.$$$$; [ $$code -ne 3 ]
	@test -z "$$(gofmt -l cmd internal)" || { gofmt -l cmd internal; echo "run gofmt -w on these"; exit 1; }
	cd console && npm run --silent lint

bench: tools $(CONSOLE) ## measure; docs/benchmarks.md keeps the results
	@./scripts/install postgresql
	go test -run '^$$' -bench . -benchtime 1x -timeout 60m ./internal/e2e
	go test -run '^$$' -bench 'Forecast|Guards|FlowWatch' -benchtime 1x -timeout 60m ./internal/core/heat
	go test -run '^$$' -bench PortHangs -benchtime 5x ./internal/host
	go test -run TimeLeft -printers 16 -v ./internal/host
	go test -run '^$$' -bench Line ./internal/core/trim
	go test -run '^$$' -bench Discovery -benchtime 1x -v ./internal/doors/announce
	go test -run '^$$' -bench 'Parse|Scan|Survey|Picture|Pack|Unpack|Said|Note' ./internal/core/... ./internal/journal

fuzz: ## look for input that breaks the readers, half a minute each
	go test -run '^$$' -fuzz FuzzConversation -fuzztime 30s ./internal/core/wire
	go test -run '^$$' -fuzz FuzzSort -fuzztime 30s ./internal/core/wire
	go test -run '^$$' -fuzz FuzzParseEntry -fuzztime 30s ./internal/core/run
	go test -run '^$$' -fuzz FuzzLine -fuzztime 30s ./internal/core/gcode
	go test -run '^$$' -fuzz FuzzQuick -fuzztime 30s ./internal/core/gcode
	go test -run '^$$' -fuzz FuzzRead -fuzztime 30s ./internal/core/toolpath
	go test -run '^$$' -fuzz FuzzDecorated -fuzztime 30s ./internal/core/bounds
	go test -run '^$$' -fuzz FuzzUnpack -fuzztime 30s ./internal/core/heat
	go test -run '^$$' -fuzz FuzzParseReport -fuzztime 30s ./internal/core/heat

openapi: ## write docs/openapi.json anew from the service
	go run ./cmd/diathermon openapi > docs/openapi.json.new
	mv docs/openapi.json.new docs/openapi.json

screenshots: tools build ## make the pictures of docs/screenshots anew
	@./scripts/install postgresql chromium xvfb xterm imagemagick fonts-dejavu-core
	go test -count=1 -timeout 15m -run TestScreenshots ./internal/e2e -shots ../../docs/screenshots

clean: ## remove what was built
	rm -rf bin console/node_modules console/src/api/*.gen.* internal/web/console/assets internal/web/console/index.html internal/web/console/favicon.svg

# Go and Node are the two things that are not installed here.
tools:
	@command -v go >/dev/null || { echo "Go is missing: install it from your system's packages or its own site (go.mod names the version)"; exit 1; }
	@command -v npm >/dev/null || { echo "Node.js with npm is missing: version 20.19 or newer is needed"; exit 1; }

$(NODE_MODULES): console/package.json console/package-lock.json
	cd console && npm ci --no-fund --no-audit --loglevel=error
	@touch $@

$(CONSOLE): $(NODE_MODULES) $(CONSOLE_SOURCES)
	cd console && npm run --silent build
	@touch $@

.PHONY: help build demo test short soak attack lint bench fuzz openapi screenshots clean tools
