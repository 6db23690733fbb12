# Vessik: make demo runs the main job on the demo data, make test passes the tests; both do all the set-up themselves.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
sudo := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
apt := $(sudo) env DEBIAN_FRONTEND=noninteractive apt-get

.PHONY: demo test check lint grid attack kernel fuzz setup setup-test build launcher console bench screenshots clean end-to-end-shared end-to-end-own end-to-end-benches \
	test-packages test-races test-without-cells test-fuzz

demo: build
	bin/vessik demo

build: setup console launcher
	go build -o bin/vessik ./cmd/vessik

# The launcher of cells, which the service embeds.
launcher: internal/cell/launcher/vessik-cell

internal/cell/launcher/vessik-cell: $(shell find cmd/vessik-cell internal/cell/inside -name '*.go' -not -name '*_test.go') go.mod
	CGO_ENABLED=0 go build -trimpath -ldflags="-s -w" -o $@ ./cmd/vessik-cell

# What building and running needs of this machine: the two prerequisites, and Debian's own tools for its packages.
setup:
	@command -v go >/dev/null || { echo "Go 1.26 is needed to build Vessik: install it from your usual source, then run make again"; exit 1; }
	@go version | awk '{ split(substr($$3, 3), v, "."); if (v[1] + 0 < 1 || v[1] == 1 && v[2] + 0 < 26) { print "Go 1.26 or newer is needed, this is " $$3; exit 1 } }'
	@command -v npm >/dev/null || { echo "Node 20 (with npm) is needed to build the console: install it, then run make again"; exit 1; }
	@node -e 'if (+process.versions.node.split(".")[0] < 20) { console.log("Node 20 or newer is needed, this is " + process.versions.node); process.exit(1) }'
	@command -v apt-get >/dev/null || { echo "Engines come from Debian's packages: a Debian system is needed"; exit 1; }
	@[ -e /usr/share/keyrings/debian-archive-keyring.gpg ] && command -v useradd >/dev/null || { $(apt) update -qq && $(apt) install -y -qq --no-install-recommends debian-archive-keyring passwd; }

# The console's types come from the API's own OpenAPI document.
console: console/dist/index.html

console/dist/index.html: $(shell find console/src console/public console/index.html console/package.json console/package-lock.json console/vite.config.ts -type f -not -name '*.gen.*' 2>/dev/null) $(shell find internal/api internal/core -name '*.go' -not -name '*_test.go')
	go run ./cmd/vessik version -openapi > console/api.gen.json
	cd console && npm ci --no-audit --no-fund --loglevel=error && npm run --silent build
	@touch $@

# Headless Chromium and its certificates' tool for the console's tests, the database's own tool for its dumps, a C compiler for the race detector, rsync over SSH, with which a bench compares, and ip for networks between made-up machines.
setup-test:
	@command -v chromium >/dev/null && command -v mariadb-dump >/dev/null && command -v gcc >/dev/null && command -v certutil >/dev/null && command -v zstd >/dev/null && command -v xz >/dev/null && command -v rsync >/dev/null && command -v ssh >/dev/null && command -v ip >/dev/null || { $(apt) update -qq && $(apt) install -y -qq --no-install-recommends chromium fonts-dejavu-core mariadb-client gcc libc6-dev libnss3-tools zstd xz-utils rsync openssh-client iproute2 ca-certificates; }

# The linters; test/shape holds lines, functions and the arrows between packages to what docs/architecture.md says. What lies below a folder that a site can write is touched through safefile, the service's own files through ownfile.
check: build
	$(MAKE) --no-print-directory lint
lint:
	go vet ./...
	go tool staticcheck ./...
	go tool forbidigo -set_exit_status -tests=false $(by_path) -- $(addprefix ./internal/,api archive authority blobs change create database defaults facts fleet helpers home hosts cms lifecycle hosting invite load logs mailbox moving origin outgoing parcel parts phperrors picture points registry remarks rename restack standing \
		restore running saving sending settings shelf stencil trial trust uploads users verify walk)
	go tool forbidigo -set_exit_status -tests=false '^http\.(DefaultClient|Get|Head|Post|PostForm)(\# give it a timeout)?$$' '^context\.TODO$$' -- ./...
	go tool go-errorlint -test=false ./...
	go tool exhaustive -default-signifies-exhaustive -test=false ./...
	cd console && npm run --silent check

by_path := '^os\.(Open|OpenFile|Create|ReadFile|WriteFile|ReadDir|CopyFS|Mkdir|MkdirAll|Rename|Remove|RemoveAll|Link|Symlink|Chmod|Chown|Chtimes|Truncate)(\# say safefile or ownfile)?$$' '^filepath\.(Walk|WalkDir|Glob)(\# say safefile or ownfile)?$$'

# What works without engines is tested for data races.
raced := client copies $(addprefix internal/,api archive authority cell core/rewrite gateway home hosts moving names guest operation origin outgoing parcel proc registry relay rename running safefile service shelf survey trial users)
space := $(subst ,, )

# Two parts side by side, the short ones first, and at the end the one that keeps all processors busy by itself. The linters vet the tests, and
# nobody debugs them here.
tested := go test -vet=off -ldflags='-s -w'
test: build setup-test
	$(MAKE) --no-print-directory -j2 --output-sync=target lint test-packages test-races test-without-cells test-fuzz \
		end-to-end-shared end-to-end-benches end-to-end-own

test-packages:
	cd console && npm run --silent test
	$(tested) -count=1 -timeout 10m $$(go list ./... | grep -v '/test$$\|$(subst $(space),$$\|,$(raced:%=/%))$$')
test-races:
	$(tested) -race -count=1 -timeout 10m $(raced:%=./%)
test-without-cells:
	VESSIK_NO_CELLS=1 $(tested) -count=1 -timeout 5m -run 'Apache|PHP|WebServer|Databases' ./internal/engine
test-fuzz:
	$(call fuzzed,10000x)

# Every PHP with every web server and every database.
grid: build
	VESSIK_GRID=1 go test -count=1 -timeout 30m -run TestEveryEngineServesWithEveryOther ./test

# A hostile site tries all that is known to us; prints the table of what was tried and what held.
attack: build
	go test -count=1 -timeout 15m -v -run TestAttack ./test | grep -v '^=== '

# The tests of cells in another kernel, with control groups.
kernel: launcher
	test/kernel/run

# The fuzz targets, for an hour together.
fuzz: launcher
	$(call fuzzed,8m)

# Each fuzz target for a number of inputs or a time (whose end a worker sometimes takes for a failure): package and name.
fuzz_targets := core/dump:FuzzStatement core/render:FuzzQuoted core/rewrite:FuzzScanner stencil:FuzzManifest core/fleet:FuzzParse archive:FuzzUnpack cms:FuzzDefinition
fuzzed = set -e; for each in $(fuzz_targets); do $(tested) -run '^$$' -fuzz "^$${each\#*:}$$" -fuzztime $(1) -fuzzminimizetime 20x ./internal/$${each%:*}; done

# The end-to-end tests in two halves: those that share a service, one after the other, and those with services of their own. The benches,
# small, are run to see that they work.
own_tests := $(shell grep -h -B1 '^	t.Parallel()' test/*_test.go 2>/dev/null | sed -n 's/^func \(Test[A-Za-z]*\).*/\1/p' | paste -sd'|')
end-to-end-shared:
	$(tested) -count=1 -timeout 30m -skip '^($(own_tests))$$' ./test
end-to-end-own:
	VESSIK_TEST_PORTS=29000 $(tested) -count=1 -timeout 30m -parallel 3 -run '^($(own_tests))$$' ./test
end-to-end-benches:
	VESSIK_TEST_PORTS=15000 VESSIK_BENCH=small $(tested) -count=1 -timeout 10m -run '^$$' -bench . -benchtime 1x ./test

bench: build
	go test -count=1 -run '^$$' -bench Dump -benchtime 1x ./internal/core/rewrite
	go test -count=1 -timeout 40m -run '^$$' -bench . -benchtime 1x ./test

screenshots: build setup-test
	VESSIK_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -timeout 10m -run TestScreenshots ./test

clean:
	rm -rf bin internal/cell/launcher/vessik-cell console/dist/assets console/dist/index.html console/dist/axe.min.js console/node_modules console/api.gen.json console/src/api.gen.d.ts
