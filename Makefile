# Two commands do all: `make demo` and `make test`.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
DIST := internal/desk/console/dist
WEB := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/package-lock.json
GO := $(shell find cmd internal -name '*.go' -o -name '*.sql' -o -name '*.s') go.mod go.sum

# Tests work in memory where there is plenty: what they find does not depend on a disk, and its speed would be theirs.
MEMORY := $(shell [ "$$(stat -f -c %T /dev/shm 2>/dev/null)" = tmpfs ] && \
	[ "$$(awk '/MemAvailable/ {print $$2}' /proc/meminfo)" -gt 12000000 ] && \
	[ "$$(df -k --output=avail /dev/shm | tail -1)" -gt 8000000 ] && echo /dev/shm)

.PHONY: demo test test-race models build bench screenshots reference crash setup clean

demo: build
	bin/spindle demo

build: bin/spindle

bin/spindle: $(GO) $(DIST)/index.html
	go build -o $@ ./cmd/spindle

# What is missing is installed; quick when nothing is.
setup:
	@tools/setup

web/node_modules/.package-lock.json: web/package-lock.json | setup
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# The console's types come from the desk's own description.
web/openapi.yaml: $(shell find internal/desk internal/api tools/openapi -name "*.go") | setup
	go run ./tools/openapi > $@.new
	@if cmp -s $@.new $@; then rm $@.new; touch $@; else mv $@.new $@; fi

web/src/api/schema.d.ts: web/openapi.yaml web/node_modules/.package-lock.json
	cd web && npm run --silent types
	@touch $@

$(DIST)/index.html: $(WEB) web/src/api/schema.d.ts web/node_modules/.package-lock.json
	rm -rf $(DIST)/assets
	cd web && npm run --silent build
	@touch $@

# The longest packages begin first: what is left at the end then is short.
LONGEST := $(addprefix ./internal/,service desk backup cli attack)

test: build
	@test -z "$$(gofmt -l cmd internal tools)" || { echo "gofmt would change:"; gofmt -l cmd internal tools; exit 1; }
	cd web && npm run --silent format:check
	cd web && npm run --silent lint
	go vet ./...
	@status=0; $(if $(MEMORY),TMPDIR=$(MEMORY) GOTMPDIR=/tmp) SPINDLE_BIN=$(CURDIR)/bin/spindle \
		go test -timeout 25m $(LONGEST) ./... | tee .tests.log || status=$$?; \
		echo "The ten slowest packages, in seconds:"; \
		sed -nE 's/^(ok|FAIL)[[:space:]]+([^[:space:]]+)[[:space:]]+([0-9.]+)s.*/\3 \2/p' .tests.log | sort -rn | head; exit $$status

# Models against other seeds: make models SEEDS=100-200.
models: build
	SPINDLE_SEEDS=$(SEEDS) go test -timeout 10h -run 'AgainstAModel|ReplicationModel|ComeTrue|AnyTree' ./internal/...

# The race detector over all tests but those in a browser.
test-race: build
	SPINDLE_NO_BROWSER=1 $(if $(MEMORY),TMPDIR=$(MEMORY) GOTMPDIR=/tmp) SPINDLE_BIN=$(CURDIR)/bin/spindle \
		go test -race -timeout 60m ./internal/...

crash: build test-race
	SPINDLE_CRASH_ROUNDS=200 go test -timeout 90m -run TestNothingAcknowledgedIsLost -v ./internal/service

bench: build
	go run ./tools/bench -only "$(ONLY)"

screenshots: build
	go run ./tools/shots

reference: build
	bin/spindle reference > docs/reference.md

clean:
	rm -rf bin web/node_modules web/openapi.yaml $(DIST)/assets $(DIST)/index.html $(DIST)/mark.svg
