# What is needed: Go, Node and npm. `make test` also needs mail servers and clients,
# chromium and libreoffice-calc, which it installs when it runs as root.
export CGO_ENABLED = 0
# Where everything that the tests need can be installed, no test may be left out.
ifeq ($(shell id -u),0)
ifneq ($(shell command -v apt-get),)
export INKTRAY_REQUIRE_ALL ?= 1
endif
endif
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo development)
# A version of a Debian package begins with a digit.
PACKAGE_VERSION ?= $(shell echo $(VERSION) | sed 's/^v//; s/^[^0-9]/0~&/; s/-/+/g')
GOFLAGS_BUILD = -trimpath -ldflags '-s -w -X inktray.example/inktray/internal/cli.Version=$(VERSION)'
FUZZ = ./internal/core/proposal:FuzzMake ./internal/core/mail:FuzzParse ./internal/core/mail:FuzzHeader \
	./internal/core/pattern:FuzzParse ./internal/core/safename:FuzzFile ./internal/core/rule:FuzzParseDocument \
	./internal/core/register:FuzzParseSearch ./internal/core/value:FuzzRead
FUZZ_SLOW = ./internal/core/text:FuzzCodes ./internal/core/invoice:FuzzRead ./internal/api:FuzzNobodyRunsAnything \
	./internal/proof:FuzzReported ./internal/core/unpack:FuzzOpen ./internal/core/text:FuzzRead \
	./internal/core/render:FuzzWrite
FUZZTIME ?= 8m
FUZZTIME_SLOW ?= $(FUZZTIME)

LINT := github.com/golangci/golangci-lint/v2/cmd/golangci-lint@v2.6.2

.PHONY: package demo build console reader generate check test bench fuzz reliability prove soak cross needs clean \
	compiles lint beside tests-of-the-console tests-of-the-commands tests-of-the-rest

## demo: build everything and start it with the Brackwater harbour office
demo: build
	bin/inktray demo $(DEMO)

## build: the console and the program, bin/inktray
build: console reader
	go build -tags reader $(GOFLAGS_BUILD) -o bin/inktray ./cmd/inktray

## package: a Debian package of bin/inktray, in bin
package: build
	packaging/build $(PACKAGE_VERSION) bin

# A container with nothing but the program, built with buildah, podman or docker.
container: build
	packaging/container inktray

# What reads hostile contents is a program of its own, which bin/inktray holds.
reader:
	go build -trimpath -ldflags '-s -w' -o bin/inktray-reader ./cmd/inktray-reader
	gzip -9nc bin/inktray-reader > internal/child/program/reader.gz

console: internal/console/dist/index.html

CONSOLE_SOURCES = web/src web/index.html web/vite.config.ts web/lingui.config.js internal/texts/*.po docs/*.md
internal/console/dist/index.html: web/node_modules/.package-lock.json \
		$(shell find $(CONSOLE_SOURCES) -type f 2>/dev/null)
	cd web && npm run --silent build

web/node_modules/.package-lock.json: web/package.json web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

## generate: what is made from openapi.yaml and from the code: docs/reference.md
generate: web/node_modules/.package-lock.json
	go generate ./internal/api
	go test ./internal/core/plan -run Reference -args -write-docs >/dev/null
	cd web && npm run --silent types && npm run --silent texts >/dev/null

## check: the fast part: format, vet, linters, types, unit tests of the core and of the console
check: console
	@$(MAKE) --no-print-directory compiles lint
	go test ./internal/core/...

compiles:
	@test -z "$$(gofmt -l client cmd internal)" || { echo "not formatted:"; gofmt -l client cmd internal; exit 1; }
	go vet ./...

lint:
	go tool staticcheck ./...
	go run $(LINT) run ./...
	cd web && npm run --silent check

needs:
	@sh .ci/needs

## test: everything, with real servers and a browser; ends within forty minutes
test: needs console
	@$(MAKE) --no-print-directory compiles
	@$(MAKE) --no-print-directory generate
	@git diff --exit-code -- client internal/api internal/texts web/src/api || \
	  { echo "generated code is stale: run make generate"; exit 1; }
	@$(MAKE) --no-print-directory reader
	@$(MAKE) --no-print-directory -j3 tests-of-the-commands tests-of-the-rest tests-of-the-console beside
	@$(MAKE) --no-print-directory fuzz FUZZTIME=8000x FUZZTIME_SLOW=200x

# The tests in three streams at once: each of them waits for servers, pages and disks much of its time. That of the
# console is the shortest, so it has some long tests of commands, too, and the linters follow it.
OF_THE_CONSOLE = 'Console|EveryPage|BackedUpLost|StandbyTakesOver|NeverDoTwoMachines|SeveralMachines|AMailboxThatMoves'
tests-of-the-console:
	go test -tags reader -timeout 38m ./internal/cli -run $(OF_THE_CONSOLE)
tests-of-the-commands:
	go test -tags reader -timeout 38m ./internal/cli -skip $(OF_THE_CONSOLE)
tests-of-the-rest:
	go test -tags reader -timeout 38m -p 1 $$(go list ./... | grep -v '/internal/cli$$')
# Linters and cross builds wait for the tests, not the tests for them.
beside:
	@nice -n 15 $(MAKE) --no-print-directory -j1 lint
	@nice -n 15 $(MAKE) --no-print-directory -j1 cross CROSS="darwin/arm64 windows/amd64"

## fuzz: look for input that breaks the core, FUZZTIME for each: about an hour
fuzz:
	@set -e; for f in $(FUZZ:%=%:$(FUZZTIME)) $(FUZZ_SLOW:%=%:$(FUZZTIME_SLOW)); do \
	  n=$${f##*:}; f=$${f%:*}; echo "fuzzing $$f for $$n"; \
	  go test $${f%%:*} -run '^$$' -fuzz "^$${f##*:}$$" -fuzztime $$n -fuzzminimizetime 10x >.fuzz.log 2>&1 || \
	    { cat .fuzz.log; exit 1; }; \
	  tail -n 2 .fuzz.log; rm -f .fuzz.log; done

## bench: the benchmarks, and the limits they are held to
bench: needs reader
	go test -run '^$$' -bench . -benchtime 1s ./internal/core/... ./internal/cabinet/... ./internal/child \
	  ./internal/office ./internal/store ./internal/source/drop
	go test -run '^$$' -bench . -benchtime 1x ./internal/core/topic -args -write-docs
	go test -timeout 20m -run '^$$' -bench . -benchtime 1x ./internal/engine
	go test -tags reader -timeout 30m -run '^$$' -bench . -benchtime 1x ./internal/cli

## reliability: run the faults and the kills and write what came of them into docs/reliability.md
reliability: needs
	go test -timeout 20m ./internal/engine -run 'EveryFaultAtEvery' -args -write-docs
	go test -timeout 30m ./internal/engine -run 'EveryProblemInEveryOperation' -args -write-docs
	go test -timeout 20m ./internal/cli -run Killed -args -write-docs -kills 500 -kill-messages 650
	go test -timeout 90m ./internal/cli -run 'StandbyTakesOver|NeverDoTwoMachines' -args -write-docs \
	  -takeovers 200 -lease 6s

## prove: take every flush, lock and journal commit out, one at a time, and see a test fail; some minutes
prove: needs
	go test -timeout 40m ./internal/engine -run EverySafeguard -parallel 2 -args -prove -write-docs

## soak: kill the real process for about an hour, then send it hostile messages for another
soak: needs reader
	go test -tags reader -timeout 3h -v ./internal/cli -run Killed -args -kills 10000 -kill-messages 10000
	go test -tags reader -timeout 4h -v ./internal/cli -run AmongHostile -args -hostile 10000 \
	  -ordinary 2000 -hostile-rate 2.8 -write-docs

## cross: it builds for Linux, macOS and Windows
CROSS = linux/arm64 darwin/arm64 windows/amd64
cross:
	@for t in $(CROSS); do echo "building for $$t"; \
	  GOOS=$${t%/*} GOARCH=$${t#*/} go build -trimpath -o /dev/null ./cmd/inktray || exit 1; done

clean:
	rm -rf internal/child/program/reader.gz bin web/node_modules
	find internal/console/dist -mindepth 1 ! -name .gitkeep -delete
