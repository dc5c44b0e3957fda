# Everything starts here; `make help` lists it. Steps that install do so only
# where something is missing.
SHELL := /bin/bash
export PATH := $(PATH):/usr/local/go/bin:/usr/sbin:/sbin
PORT ?= 7411
# How the interface is built: checked for types, or (bundle) without.
BUILD = build

.PHONY: help demo demo-database demo-interface demo-program demo-packets run test bench drill mutants tour lint screenshots web types system tools deb clean

help:
	@grep -E '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed 's/:.*##/\t/'

# The database, the interface and the program are fetched at the same time. The
# program is compiled before the interface is there, and linked again with it.
demo: ## build, and run with the made-up company Saltmarsh Ferries
	@$(MAKE) --no-print-directory -j3 demo-database demo-interface demo-program
	CGO_ENABLED=0 go build -o bin/orchard ./cmd/orchard
	./bin/orchard serve --demo --allow-receiver 127.0.0.1 --data var/demo --listen 127.0.0.1:$(PORT)

demo-database:
	@missing=""; \
	ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$$missing postgresql"; \
	$(install)
	@echo "the database is installed"

demo-interface:
	@[ -e web/node_modules/.installed ] || echo "fetching the interface's packages"
	@$(MAKE) --no-print-directory web/node_modules/.installed
	@[ -e web/dist/index.html ] || echo "building the interface"
	@$(MAKE) --no-print-directory BUILD=bundle web
	@echo "the interface is built"

demo-program:
	@[ -e bin/orchard ] || echo "fetching and compiling the server"
	@CGO_ENABLED=0 go build -o /dev/null ./cmd/orchard
	@echo "the server is compiled"

demo-packets: system web ## the demo with real packets: machines, gates and points in network namespaces; needs root
	go build -o bin/orchard ./cmd/orchard
	./bin/orchard packets --data var/packets --port $(PORT)

run: system web ## build, and run with your own data
	go build -o bin/orchard ./cmd/orchard
	./bin/orchard serve --data var/own --listen 127.0.0.1:$(PORT)

# What shares memory is tested with the race detector, all else without.
RACED = ./auditing ./collect ./disk ./jobs ./model ./server ./watching

test: system tools lint web ## everything: style, unit, property, database and browser tests
	cd web && npm run --silent test
	go test -race -count=1 -timeout 20m $(RACED)
	go test -count=1 -timeout 40m $$(go list ./... | grep -Ev '^lucidorchard/(auditing|collect|disk|jobs|model|server|watching)$$')

bench: ## speed and memory, as figures and as ratios of one run
	go test -p 1 -run "^$$" -bench . -benchmem -timeout 60m ./core/... ./ingest/... ./collect ./cmd/... ./releasing/... ./point ./assembly ./watching ./traffic | grep -Ev '^(goos|goarch|pkg|cpu|PASS|ok|\?)'

ROUNDS ?= 40
SEQUENCES ?= 100
GRAPHS ?= 2000
EACH ?= 10

mutants: system tools ## change the code a little, and see whether tests notice; EACH=10 of each package
	go run ./mutants -each $(EACH)

drill: system tools ## kill, fill up and confuse the program while it is worked with; ROUNDS=40 SEQUENCES=100 GRAPHS=2000
	ORCHARD_SEQUENCES=$(SEQUENCES) go test -count=1 -timeout 120m -v -run TestNothingOpens ./point | grep -E "sequences,|^(---|ok|FAIL|PASS)|SKIP|NOT TESTED"
	ORCHARD_GRAPHS=$(GRAPHS) go test -count=1 -timeout 120m -run TestGraphsOfGroupsAreBounded ./core/prove
	ORCHARD_DRILL=$(ROUNDS) go test -count=1 -timeout 120m -v ./drill | grep -E "rounds|connections are|^(---|ok|FAIL|PASS)|SKIP|NOT TRIED"

lint: web/node_modules/.installed ## gofmt, go vet, staticcheck, tsc, eslint
	@bad="$$(gofmt -l $$(find . -name '*.go' -not -path './web/node_modules/*'))"; test -z "$$bad" || { echo "$$bad"; exit 1; }
	go vet ./...
	go test -count=1 ./structure
	go run honnef.co/go/tools/cmd/staticcheck@v0.7.0 ./...
	cd web && npm run --silent lint

screenshots: system tools web ## make docs/screenshots from the demo data
	ORCHARD_SCREENSHOTS=$(CURDIR)/docs/screenshots go test -count=1 -run TestScreenshots -v ./e2e

tour: system tools web ## follow the tour of the README in a browser, sentence by sentence
	go test -count=1 -timeout 20m -v -run TestTheTour ./e2e

web: web/dist/index.html ## build the interface

web/dist/index.html: web/node_modules/.installed web/package.json web/index.html web/vite.config.ts $(shell find web/src -type f)
	cd web && npm run --silent $(BUILD)
	@touch $@

web/node_modules/.installed: web/package-lock.json
	cd web && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

VERSION ?= 0.0.0
deb: ## the Debian package of the enforcement point's agent, in bin/
	CGO_ENABLED=0 go build -trimpath -o bin/orchard ./cmd/orchard
	VERSION=$(VERSION) ARCH=$$(go env GOARCH) go run github.com/goreleaser/nfpm/v2/cmd/nfpm@v2.43.0 package \
		--config packaging/nfpm.yaml --packager deb --target bin/

types: web/node_modules/.installed ## make the client's types from the API that the server describes
	go run ./cmd/orchard openapi > web/src/api/openapi.json.new && mv web/src/api/openapi.json.new web/src/api/openapi.json
	cd web && npm run --silent types

define install
	if [ -n "$$missing" ]; then \
		echo "installing$$missing"; \
		sudo=""; [ "$$(id -u)" = 0 ] || sudo=sudo; \
		$$sudo apt-get update -q >/dev/null && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -q --no-install-recommends $$missing >/dev/null; \
	fi
endef

# What Debian has, and tests need beside what the program needs: a browser, and exporters of others.
tools:
	@missing=""; \
	command -v chromium-headless-shell >/dev/null 2>&1 || missing="$$missing chromium-headless-shell"; \
	[ -x /usr/sbin/fprobe ] || missing="$$missing fprobe"; \
	[ -x /usr/sbin/pmacctd ] || missing="$$missing pmacct"; \
	[ -x /usr/sbin/ulogd ] || missing="$$missing ulogd2"; \
	[ -x /usr/sbin/conntrack ] || missing="$$missing conntrack"; \
	command -v systemd-analyze >/dev/null 2>&1 || missing="$$missing systemd"; \
	$(install)

# What Debian has and this machine may lack.
system:
	@missing=""; \
	ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || missing="$$missing postgresql"; \
	command -v curl >/dev/null 2>&1 || missing="$$missing curl"; \
	command -v gcc >/dev/null 2>&1 || missing="$$missing gcc libc6-dev"; \
	[ -x /usr/sbin/nft ] || missing="$$missing nftables"; \
	[ -x /usr/sbin/softflowd ] || missing="$$missing softflowd"; \
	[ -x /usr/sbin/rsyslogd ] || missing="$$missing rsyslog"; \
	[ -e /usr/lib/*/rsyslog/lmnsd_gtls.so ] || missing="$$missing rsyslog-gnutls"; \
	[ -e /usr/lib/x86_64-linux-gnu/faketime/libfaketimeMT.so.1 ] || missing="$$missing libfaketime"; \
	[ -x /usr/sbin/mkfs.ext4 ] || [ -x /sbin/mkfs.ext4 ] || missing="$$missing e2fsprogs"; \
	[ -x /usr/sbin/ip ] || [ -x /sbin/ip ] || missing="$$missing iproute2"; \
	$(install)

clean: ## remove what was built
	rm -rf bin web/dist/assets web/dist/index.html
