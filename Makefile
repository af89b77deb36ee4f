# make demo and make test do everything that a fresh machine needs.
SHELL := /bin/bash
VERSION := $(shell git describe --tags --always 2>/dev/null || echo development)
CONSOLE := $(shell find console/src console/public internal/advice/commands.json -type f 2>/dev/null) $(wildcard console/*.json console/*.ts console/index.html)

.PHONY: deb soak fuzz demo demo-stop demo-trouble demo-reset tour test vet bench pictures build fmt

demo: ## sets up, builds and starts Vorrang with the demo's data
	@scripts/setup demo
	@$(MAKE) --no-print-directory build
	@scripts/demo start

demo-stop:
	@scripts/demo stop

demo-trouble: ## brings a lane of the running demo into every kind of trouble
	@scripts/trouble

demo-reset:
	@scripts/demo reset

tour: ## plays the whole story through vorrang, and stops everything it started
	@scripts/setup demo
	@$(MAKE) --no-print-directory build
	@demo/tour

test: ## sets up and passes the tests
	@scripts/setup test
	@$(MAKE) --no-print-directory build
	@scripts/test

vet:
	@test -z "$$(gofmt -l .)" || { echo "gofmt would change:"; gofmt -l .; exit 1; }
	go vet $(VET) ./...

fuzz: ## runs every fuzz target for a minute
	@scripts/setup test
	@scripts/fuzz

bench: ## measures against psql, and writes docs/benchmarks.md
	@scripts/setup demo
	@$(MAKE) --no-print-directory build
	@go run ./bench $(BENCH)

soak: ## keeps three services busy for an hour, restarts one after the other meanwhile, and writes what stayed level to docs/reliability.md
	@scripts/setup demo
	@$(MAKE) --no-print-directory build
	@go run ./bench -soak $(or $(SOAK),1h)

pictures: ## takes the pictures of the documentation again
	@scripts/setup pictures
	@$(MAKE) --no-print-directory build
	@scripts/pictures

deb: build ## makes a Debian package of the programs in .work/
	@scripts/deb .work

build: console/dist/index.html
	@go build -ldflags "-X main.version=$(VERSION)" -o bin/ ./cmd/...

console/dist/index.html: $(CONSOLE)
	@scripts/setup build
	@cd console && npm run --silent build

fmt:
	gofmt -w .
