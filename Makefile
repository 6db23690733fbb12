# Vessik: make demo runs the main job on the demo data, make test passes the tests; both do all the set-up themselves.
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
sudo := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
apt := $(sudo) env DEBIAN_FRONTEND=noninteractive apt-get

.PHONY: demo test grid setup setup-test build console bench screenshots clean

demo: build
	bin/vessik demo

build: setup console
	go build -o bin/vessik ./cmd/vessik

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

# Headless Chromium for the console's tests.
setup-test:
	@command -v chromium >/dev/null || { $(apt) update -qq && $(apt) install -y -qq --no-install-recommends chromium fonts-dejavu-core; }

test: build setup-test
	go vet ./...
	cd console && npm run --silent check
	go test -count=1 -timeout 10m $$(go list ./... | grep -v /test$$)
	go test -count=1 -timeout 20m ./test

# Every PHP with every web server and every database.
grid: build
	VESSIK_GRID=1 go test -count=1 -timeout 30m -run TestEveryEngineServesWithEveryOther ./test

bench: build
	go test -count=1 -run '^$$' -bench Dump -benchtime 1x ./internal/core/rewrite
	go test -count=1 -timeout 40m -run '^$$' -bench . -benchtime 1x ./test

screenshots: build setup-test
	VESSIK_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -timeout 10m -run TestScreenshots ./test

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/node_modules console/api.gen.json console/src/api.gen.d.ts
