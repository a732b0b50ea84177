# Two commands do it all: `make demo` shows Noemata at work, `make test` runs every test.
export GOFLAGS := -tags=duckdb_arrow
export DEBIAN_FRONTEND := noninteractive
SUDO := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
STATICCHECK := honnef.co/go/tools/cmd/staticcheck

.PHONY: interop demo test testkit build console install lint unit race screenshots torture fuzz bench deb versions clean

demo: install build
	bin/noemata demo

test: install testkit build lint unit

build: console
	go build -o bin/noemata ./cmd/noemata

# What Debian has and Go, Node and make do not bring: the servers for records, demo
# and tests, and the browser for the console's tests.
install:
	@if ! ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || ! [ -x /usr/sbin/mariadbd ] || ! command -v chromium >/dev/null 2>&1 || ! [ -x /usr/sbin/sshd ] || ! command -v gcc >/dev/null 2>&1 || ! command -v g++ >/dev/null 2>&1; then \
		$(SUDO) apt-get update -q && \
		$(SUDO) apt-get install -y -q --no-install-recommends postgresql postgresql-contrib mariadb-server openssh-server chromium fonts-noto-core gcc g++ libc6-dev; \
	fi

# A MySQL server for the tests, which Debian does not have.
testkit: internal/testkit/mysql/node_modules/.package-lock.json internal/testkit/pg/node_modules/.package-lock.json internal/testkit/icebird/node_modules/.package-lock.json
internal/testkit/mysql/node_modules/.package-lock.json: internal/testkit/mysql/package-lock.json
	cd internal/testkit/mysql && npm ci --no-audit --no-fund

# A driver of another language for the SQL port's tests.
internal/testkit/pg/node_modules/.package-lock.json: internal/testkit/pg/package-lock.json
	cd internal/testkit/pg && npm ci --no-audit --no-fund

# A reader of Iceberg tables that is not ours.
internal/testkit/icebird/node_modules/.package-lock.json: internal/testkit/icebird/package-lock.json
	cd internal/testkit/icebird && npm ci --no-audit --no-fund

# The console is built anew when one of its files is newer than what was built.
CONSOLE_FILES := $(shell find console/src console/public -type f ! -name schema.ts) docs/openapi.json console/index.html console/package-lock.json console/vite.config.ts
console: console/dist/index.html
console/dist/index.html: console/node_modules/.package-lock.json $(CONSOLE_FILES)
	cd console && npm run -s api && npm run -s build
	touch console/dist/.gitkeep
console/node_modules/.package-lock.json: console/package-lock.json
	cd console && npm ci --no-audit --no-fund

lint:
	@unformatted=$$(gofmt -l $$(git ls-files -co --exclude-standard '*.go')); [ -z "$$unformatted" ] || { echo "gofmt would change: $$unformatted"; exit 1; }
	go vet ./...
	go vet -tags duckdb_arrow,interop ./internal/engine
	go tool staticcheck ./...
	cd console && npm run -s check && npm run -s lint && npm run -s test

# Tests wait more than they work, so the longest packages are run in parts, beside each other.
unit:
	+$(MAKE) -j 4 --output-sync=target --no-print-directory e2e-1 e2e-2 engine-2 engine-1 race others
.PHONY: e2e-1 e2e-2 engine-1 engine-2 others
e2e-1 engine-1: PART := -run '^Test[A-E]'
e2e-2 engine-2: PART := -skip '^Test[A-E]'
e2e-1 e2e-2:
	go test -timeout 45m -parallel 6 $(PART) ./e2e/
engine-1 engine-2:
	go test -timeout 45m -parallel 6 $(PART) ./internal/engine/
others:
	go test $$(go list ./... | grep -vE '/(e2e|internal/engine)$$')

# The race detector where goroutines share work.
race:
	go test -race -short -timeout 30m ./internal/engine/ ./internal/core/... ./internal/connection/... ./internal/lakefiles/

screenshots: build
	go run ./tools/screenshots

# The long forms: the service killed 20 times in a load of 1 000 000 rows; the log followed
# under random transactions and kills for half an hour on each warehouse; 100 copies under load.
torture: build
	NOEMATA_TORTURE=30m go test -v -timeout 4h -run 'TestKilledAgainAndAgain|TestTheLogSurvivesKills|TestThreeProcessesUnderKills|TestAnswersAreCuts' ./e2e/
	NOEMATA_TORTURE=30m go test -v -timeout 6h -run 'TestTorture|TestGarbledServers|TestCopiesMeetTheLogExactly|TestAShapedFeedFollowsTheLog|TestDrift|TestPartitionsThatComeAndGo|TestReferencesInRandomHistories' ./internal/engine/

# Every decoder of what servers send, 20 minutes each.
FUZZ_TIME ?= 20m
fuzz:
	go test ./internal/pgcopy -run xxx -fuzz FuzzReader -fuzztime $(FUZZ_TIME)
	go test ./internal/pgcopy -run xxx -fuzz FuzzText -fuzztime $(FUZZ_TIME)
	go test ./internal/sqlport -run xxx -fuzz FuzzStatementsAreTakenApart -fuzztime $(FUZZ_TIME)
	go test ./internal/core/derive -run xxx -fuzz FuzzFiles -fuzztime $(FUZZ_TIME)
	go test ./internal/source/postgres -run xxx -fuzz FuzzMessages -fuzztime $(FUZZ_TIME)
	go test ./internal/source/mariadb -run xxx -fuzz FuzzValues -fuzztime $(FUZZ_TIME)
	go test ./internal/source/mariadb/wire -run xxx -fuzz FuzzServer -fuzztime $(FUZZ_TIME)
	go test ./internal/source/mariadb/binlog -run xxx -fuzz FuzzDecoder -fuzztime $(FUZZ_TIME)

bench: build
	go run ./bench
	go run ./bench/log

# Source and warehouse on PostgreSQL 14 to 18, out of Maven's registry, which is needed for it.
versions:
	tools/versions.sh

# What lakes hold, read by PyIceberg and by Spark, which it installs from PyPI and Maven Central.
interop:
	tools/interop/install .interop
	NOEMATA_INTEROP=$(CURDIR)/.interop go test -tags duckdb_arrow,interop -v -count 1 -timeout 20m -run TestInterop ./internal/engine/

# A package for Debian, with a unit for systemd.
VERSION ?= 0.1.0
deb: console
	go build -ldflags "-X main.version=$(VERSION)" -o bin/noemata ./cmd/noemata
	deploy/package.sh $(VERSION) bin/noemata bin

clean:
	rm -rf bin .demo console/dist/* console/node_modules internal/testkit/mysql/node_modules
