# Ivy Table. On a fresh Debian machine with Go, Node and make: make demo, make test.

export GOTOOLCHAIN = local
# The same for everything but the race detector, so that no package is compiled twice.
export CGO_ENABLED = 0
export GOFLAGS = -trimpath
GO ?= go
BIN = bin/ivytable
GO_FILES = $(shell find cmd internal console -name '*.go' -not -path '*/node_modules/*') $(shell find internal -name '*.sql' -o -name '*.html') go.mod go.sum
CONSOLE_FILES = $(shell find console/src console/public -type f) console/index.html console/vite.config.ts

.PHONY: build demo demo-reset test test-inside test-outside check bench soak screenshots clean packages test-packages

build: $(BIN)

# apt packages, installed only where they are missing.
define need
	@missing=""; for p in $(1); do dpkg-query -W -f '$${Status}' $$p 2>/dev/null | grep -q 'ok installed' || missing="$$missing $$p"; done; \
	if [ -n "$$missing" ]; then echo "installing$$missing"; sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
	$$sudo apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -qq --no-install-recommends $$missing >/dev/null; fi
endef

packages:
	$(call need,mariadb-server)

test-packages: packages bin/counterparts
	$(call need,chromium)

# Mail programs that are not ours, for the tests that go through them, which are skipped where these can't be had.
bin/counterparts: e2e/counterparts/unpack
	$(call need,perl python3 libgnutls-dane0 libidn12 libdb5.3 libnsl2 libpcre2-8-0)
	@mkdir -p bin; e2e/counterparts/unpack $(CURDIR)/$@ || echo 'no mail server to test with: these tests are skipped'

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

console/src/api/schema.gen.ts: console/src/api/openapi.json console/node_modules/.package-lock.json
	cd console && npm run -s generate

console/dist/index.html: $(CONSOLE_FILES) console/src/api/schema.gen.ts console/node_modules/.package-lock.json
	cd console && npm run -s build
	@touch $@

$(BIN): $(GO_FILES) console/dist/index.html
	$(GO) build -ldflags='-s -w' -o $@ ./cmd/ivytable

demo: packages $(BIN)
	@exec $(BIN) demo

demo-reset: packages $(BIN)
	@exec $(BIN) demo --reset

check: console/src/api/schema.gen.ts
	@test -z "$$(gofmt -l cmd internal e2e console/*.go)" || { gofmt -l cmd internal e2e console/*.go; echo 'run gofmt -w on these'; exit 1; }
	$(GO) vet ./...
	cd console && npm run -s check

# Both halves at once: the outer one mostly waits for a browser.
test: test-packages $(BIN) check
	$(GO) run ./internal/localdb/withdb $(MAKE) -s -j2 test-inside test-outside

# The walks of all routes ask one thing after the other, so the race detector has nothing to find there but takes four times as long.
test-inside:
	CGO_ENABLED=1 $(GO) test -race -timeout 20m $(filter-out %/internal/httpapi,$(shell $(GO) list ./cmd/... ./console ./internal/...))
	CGO_ENABLED=0 $(GO) test -timeout 20m ./internal/httpapi
	CGO_ENABLED=1 $(GO) test -race -timeout 20m ./internal/httpapi -run 'AtOnce|Unread'

test-outside:
	$(GO) test -timeout 20m ./e2e/...

bench: packages $(BIN)
	$(GO) run ./internal/localdb/withdb $(GO) run ./e2e/bench
	$(GO) run ./e2e/mailbench

# Twelve minutes of faults under load, and a flood; writes docs/reliability.md.
soak: packages $(BIN)
	$(GO) run ./e2e/soak

screenshots: test-packages $(BIN)
	$(call need,xvfb xterm imagemagick)
	e2e/screenshots/take

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/src/api/schema.gen.ts
