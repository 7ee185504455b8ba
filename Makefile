# Bridge Span. Every target installs what it needs; see README.md.
SHELL := /bin/sh
.DELETE_ON_ERROR:

DEMO_SIZE ?= default
DEMO_PORT ?= 8600
DEMO_SMB_PORT ?= 445
SOAK ?= 30m
VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
GO_BUILD := go build -trimpath -ldflags "-X main.version=$(VERSION)"

# Debian packages: what the demo runs, and what the tests need beyond it.
RUN_PACKAGES := mariadb-server samba smbclient samba-vfs-modules samba-common-bin python3-samba samba-ad-dc samba-ad-provision winbind libnss-winbind libnss-wrapper libresolv-wrapper e2fsprogs mount curl
TEST_PACKAGES := $(RUN_PACKAGES) chromium litmus davfs2 s3cmd awscli

.PHONY: help demo demo-reset test soak soak-hostile soak-takeover soak-idle bench build setup setup-run generate shots vet check-console clean
help:
	@echo "make demo        start everything with made-up data (DEMO_SIZE=small|default|large, DEMO_PORT=$(DEMO_PORT))"
	@echo "make demo-reset  remove the demo's data, so that the next start is afresh"
	@echo "make test        set up and run every check and test"
	@echo "make soak        let people work at random in replica sets of all kinds for SOAK=$(SOAK), then check the promises"
	@echo "make soak-takeover let two instances take over each other's work 60 times, then check the promises"
	@echo "make soak-idle   measure what 20 replica sets take in which nothing happens"
	@echo "make soak-hostile change messages of a file server and of a mover for SOAK=$(SOAK), then check the promises"
	@echo "make bench       run the benchmarks (ONLY=name for one)"
	@echo "make build       build the console and both programs into bin/"
	@echo "make generate    make the OpenAPI document and the console's types anew"
	@echo "make shots       take the pictures of docs/screenshots from the running demo"

setup-run:
	@scripts/packages $(RUN_PACKAGES)

setup:
	@scripts/packages $(TEST_PACKAGES)

console/node_modules/.installed: console/package-lock.json
	cd console && npm ci --silent
	@touch $@

console/dist/index.html: console/node_modules/.installed console/index.html console/vite.config.ts $(shell find console/src console/public -type f)
	cd console && npm run --silent build

build: console/dist/index.html
	@mkdir -p bin
	$(GO_BUILD) -o bin/ ./cmd/bspan ./cmd/bspand

# Ctrl-C ends the demo, and so is no failure of make's.
demo: setup-run build
	@DEMO_SIZE=$(DEMO_SIZE) DEMO_PORT=$(DEMO_PORT) DEMO_SMB_PORT=$(DEMO_SMB_PORT) bin/bspand demo

demo-reset: build
	@bin/bspand demo reset

generate: console/node_modules/.installed
	go run ./cmd/bspand openapi > console/openapi.json
	go run ./cmd/bspand openapi --namespace-schema > docs/namespace.schema.json
	cd console && npm run --silent types
	go run ./docs/drawings

vet:
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "these files are not formatted:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go tool staticcheck ./...

# The types must be what the document gives; that the document is what the
# service makes is a Go test.
check-console: console/node_modules/.installed
	cd console && npx --no-install openapi-typescript openapi.json -o node_modules/.schema.d.ts >/dev/null && cmp node_modules/.schema.d.ts src/api/schema.d.ts
	cd console && npm run --silent check

test: setup console/dist/index.html vet check-console
	go test -timeout 25m ./...

soak-hostile: setup console/dist/index.html
	go test -timeout 0 -run 'TestMutations$$' -v ./e2e -args -mutate $(SOAK)

soak-takeover: setup console/dist/index.html
	go test -timeout 0 -run 'TestTakeOver$$' -v ./e2e -args -takeovers 60

soak-idle: setup console/dist/index.html
	go test -timeout 0 -run 'TestIdle$$' -v ./e2e -args -idle 5m

soak: setup console/dist/index.html
	go test -timeout 0 -run 'TestSoak$$' -v ./e2e -args -soak $(SOAK)

bench: setup console/dist/index.html
	go run ./bench $(if $(ONLY),-only $(ONLY))

shots: build
	go run ./e2e/shots

clean:
	rm -rf bin console/node_modules console/dist/assets console/dist/index.html
