# make build   the program with its console, as bin/fiume
# make demo    the race day: service, generator, jobs; open the address it prints
# make test    all tests
# make test-race  the tests of internal, and of the lives of jobs, under the race detector
# make test-cluster  BROKER against three real brokers; needs Java and Maven
# make lint    formatting, vet, static checks, of the console too
# make format  lays out all sources
# make bench   the benchmarks
# make openapi       console/openapi.json, from which the console's client is generated
# make release   what is shipped, into release: a static program, a Debian package, manual pages, completions
# make screenshots   the pictures in docs/screenshots, from the demo data

CONSOLE := console/dist/index.html
CONSOLE_SOURCES := $(shell find console/src -type f ! -name schema.d.ts) console/index.html console/vite.config.ts console/openapi.json console/package-lock.json

# All targets compile in the way of what is shipped, static and wherever it stands, so that none compiles again what another has.
export CGO_ENABLED := 0
export GOFLAGS := $(GOFLAGS) -trimpath

# make lint vets; debuggers' tables would take longer to link than the tests to run.
QUICK := -vet=off '-ldflags=-s -w'

.PHONY: release build setup setup-tests demo test test-race test-cluster lint format bench screenshots openapi clean

build: $(CONSOLE)
	go build -o bin/fiume ./cmd/fiume

$(CONSOLE): $(CONSOLE_SOURCES)
	rm -rf console/dist/assets console/dist/index.html
	cd console && npm ci --no-audit --no-fund && npm run build

setup:
	./scripts/setup.sh

setup-tests:
	./scripts/setup.sh tests

demo: setup build
	./bin/fiume demo $(DEMO)

test: setup-tests build
	cd console && npm run --silent test
	go test $(QUICK) -count=1 -timeout 60m -parallel 6 ./...

# Packages in which several goroutines share something.
AT_ONCE := ./internal/core/flow ./internal/checkpoint ./internal/topiclog ./internal/connect/... ./internal/catalog ./internal/trial ./internal/service/... ./internal/client ./internal/disk

# The race detector needs a C compiler. Tests try less of the same under it, since it makes them ten times slower.
test-race: setup-tests build
	CGO_ENABLED=1 BRIEF=1 SEEDS=4 DAMAGED=4 GROWING=6 go test $(QUICK) -race -count=1 -timeout 40m -skip 'TestBatchesAreCut|TestEndlessRow|TestValuesAreBounded|TestGroupsAreBounded|TestKilledPeers|TestGone|TestUpserts' $(AT_ONCE)
	CGO_ENABLED=1 RACED=1 COMMANDS=40 JOBS=4 go test $(QUICK) -count=1 -timeout 30m -run 'TestLives|TestVersions|TestOrdinaryClients|TestGroupsOfClients' ./e2e

test-cluster:
	./scripts/cluster.sh

lint:
	./scripts/lint.sh

format:
	gofmt -w $(shell git ls-files '*.go')
	cd console && npm run --silent format

bench:
	go test -run '^$$' -bench . -benchmem ./internal/...
	go test -run '^$$' -bench . -benchtime 1x ./e2e

openapi: setup-tests build
	go test -count=1 -run TestOpenAPI ./e2e -openapi

release: setup build
	./scripts/release.sh release

screenshots: setup-tests build
	go test -count=1 -run TestScreenshots ./e2e -screenshots ../docs/screenshots

clean:
	rm -rf bin console/node_modules console/dist/assets console/dist/index.html
