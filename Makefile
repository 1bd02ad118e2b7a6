# Two commands do everything on a fresh Debian machine with Go, make and git:
#   make demo    shows it          (make demo ARGS=--once: shows it once)
#   make test    checks everything
SHELL := /bin/bash
.SHELLFLAGS := -eu -o pipefail -c
.DEFAULT_GOAL := help

PROGRAM := bin/yamato
PROGRAM_SOURCES := $(shell git ls-files '*.go' '*.js' '*.sql' '*.yaml' '*.yamato' go.mod go.sum ':!web' 2>/dev/null)
CONSOLE := web/dist/index.html
CONSOLE_SOURCES := $(shell git ls-files -co --exclude-standard web ':!web/*.go' ':!web/dist' 2>/dev/null) api/openapi.yaml

help: ## say what can be made
	@grep -E '^[a-z-]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 16

demo: postgres handsets engines bridge video $(PROGRAM) ## show it, and go on serving until Ctrl-C
	@exec $(PROGRAM) demo $(ARGS)

# What takes longest begins first: packages are tested two at a time. With the race detector runs what has goroutines,
# but for what judges apps (testbin.Unhurried); without it that, the core, which has none, and the tests from end to end,
# which start the program as its users do. docs/testing.md tells where what is tested, and how long each part takes.
LONGEST := ./internal/service ./internal/host/remote ./internal/host/handset ./internal/host/standin
ALONE := /internal/core/|/demo|/internal/report|/web$$
JUDGES := $(shell grep -h -B1 'testbin.Unhurried(t)' internal/host/*/*_test.go | sed -n 's/^func \(Test[A-Za-z0-9]*\).*/\1/p' | paste -sd'|')
TESTED := YAMATO_TEST_PROGRAM=$(CURDIR)/$(PROGRAM) go run ./internal/pgbox/pgtest/with go test -timeout 30m

# What fails is run once more, alone (.ci/again says why, and what not).
AGAIN := .ci/again env $(TESTED)

# How long each part took is printed as it ends.
PART = @mkdir -p bin && echo "$(1) $$(date +%s)" >> bin/parts
test: postgres packers browser engines video $(OBJECTS) $(PROGRAM) ## run every check
	@rm -f bin/parts
	$(call PART,the console)
	cd web && npm run --silent check
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -d $$(git ls-files '*.go'); exit 1; }
	$(call PART,vet and staticcheck)
	go vet ./...
	go tool staticcheck ./...
	$(call PART,what judges apps)
	$(AGAIN) -run '^($(JUDGES))$$' -- ./internal/host/remote ./internal/host/handset ./internal/host/standin
	$(call PART,the core)
	$(AGAIN) -short -- $$(go list ./... | grep -E '$(ALONE)')
	$(call PART,what has goroutines)
	$(AGAIN) -race -short -- $(LONGEST) $$(go list ./... | grep -vE '/e2e|$(ALONE)')
	$(call PART,from end to end)
	$(AGAIN) -- ./internal/e2e ./internal/e2e/pages
	$(call PART,end)
	@awk '{ at = $$NF; $$NF = ""; if (NR > 1) printf "%6d s  %s\n", at - before, name; before = at; name = $$0 }' bin/parts

test-one: postgres $(PROGRAM) ## test one package, with a database and the race detector (PKG=./internal/store RUN=Test…)
	$(TESTED) -race -short -run '$(or $(RUN),.)' $(PKG)

quick: web/node_modules/.package-lock.json ## check what can be in a minute: layout, vet, the core, the console's code
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { gofmt -d $$(git ls-files '*.go'); exit 1; }
	go vet ./...
	go test -short $$(go list ./... | grep -E '$(ALONE)')
	cd web && npm run --silent check

# The S3-compatible server that the tests start, from a module of its own.
OBJECTS := bin/objects
$(OBJECTS): internal/blob/bucket/server/go.mod
	cd internal/blob/bucket/server && go build -o $(CURDIR)/$@ github.com/versity/versitygw/cmd/versitygw
	@touch $@

bench: postgres browser engines video $(OBJECTS) $(PROGRAM) ## measure, and write docs/benchmarks.md
	go run ./internal/bench -program $(CURDIR)/$(PROGRAM) -out docs/benchmarks.md

soak: postgres $(PROGRAM) ## runs and odd calls for 10 minutes; memory has to stay flat
	go run ./internal/bench -program $(CURDIR)/$(PROGRAM) -soak 10m

kills: postgres $(PROGRAM) ## kill 40 times under sessions, large packages and plan starts; nothing may be lost
	YAMATO_TEST_KILLS=40 $(TESTED) -run 'TestNothingIsLostDoubleOrStuck|TestWhatBefallsPhonesOnACable' -v ./internal/e2e

# Services and hosts of two versions side by side: this one, and the one of a commit.
BEFORE ?= HEAD~20
upgrade: postgres $(PROGRAM) ## try this version beside the one before, through an upgrade (BEFORE=commit)
	rm -rf bin/before && git worktree prune && git worktree add -q --detach bin/before $(BEFORE)
	mkdir -p bin/before/web/dist && cp -r web/dist/. bin/before/web/dist/
	cd bin/before && go build -o ../yamato-before ./cmd/yamato
	git worktree remove --force bin/before
	YAMATO_TEST_BEFORE=$(CURDIR)/bin/yamato-before $(TESTED) -run TestTheVersionBefore -v ./internal/e2e

screenshots: postgres terminal browser engines bridge video $(PROGRAM) ## make the pictures in docs/screenshots anew
	go run ./internal/shots -program $(CURDIR)/$(PROGRAM) -out docs/screenshots

generate: ## generate from api/openapi.yaml
	go generate ./internal/contract ./internal/api ./internal/client

$(PROGRAM): $(PROGRAM_SOURCES) $(CONSOLE) web/web.go
	go build -o $@ ./cmd/yamato

$(CONSOLE): web/node_modules/.package-lock.json $(CONSOLE_SOURCES)
	rm -rf web/dist/assets
	cd web && npm run --silent types && npm run --silent build -- --logLevel warn
	@touch $@

# The lock names versions and digests, and no registry: npm ci does not take such a one.
web/node_modules/.package-lock.json: web/package-lock.json web/.npmrc | node
	cd web && npm install --no-save --loglevel error
	@touch $@

# What is missing is installed from Debian's packages: as root; else the line to run is printed.
define need
	@command -v $(1) >/dev/null 2>&1 || ls $(2) >/dev/null 2>&1 || { \
	  if [ "$$(id -u)" = 0 ]; then \
	    echo "installing $(3)"; \
	    apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq $(3) >/dev/null; \
	  else \
	    echo "Missing: $(3). Run this, and then make again:"; echo "  sudo apt-get install -y $(3)"; exit 1; \
	  fi; }
endef

postgres:
	$(call need,no-such-command,/usr/lib/postgresql/*/bin/postgres,postgresql)

packers: # independent tools that the tests read our packages with
	$(call need,aapt,/usr/bin/aapt,aapt)
	$(call need,adb,/usr/bin/adb,adb)
	$(call need,no-such-command,/usr/share/android-framework-res/framework-res.apk,android-framework-res)
	$(call need,apksigner,/usr/bin/apksigner,apksigner)
	$(call need,plistutil,/usr/bin/plistutil,libplist-utils)
	$(call need,openssl,/usr/bin/openssl,openssl)
	$(call need,certutil,/usr/bin/certutil,libnss3-tools)

node:
	$(call need,node,/usr/bin/node,nodejs)
	$(call need,npm,/usr/bin/npm,npm)

handsets: # need a browser; without one the demo says what it leaves out
	@command -v chromium >/dev/null 2>&1 || [ "$$(id -u)" != 0 ] || { echo "installing chromium"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq chromium >/dev/null; } || \
	  echo "Chromium cannot be installed: the demo goes on without the site desk."

engines: # of other browsers; without them the demo says what it leaves out
	@{ command -v firefox-esr && command -v WebKitWebDriver && command -v Xvfb && command -v chromedriver; } >/dev/null 2>&1 || [ "$$(id -u)" != 0 ] || { echo "installing firefox-esr webkit2gtk-driver xvfb chromium-driver"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq firefox-esr webkit2gtk-driver xvfb chromium-driver >/dev/null; } || \
	  echo "Other browsers cannot be installed: the demo goes on without handsets of their engines."

bridge: # to phones; without it the demo says what it leaves out
	@command -v adb >/dev/null 2>&1 || [ "$$(id -u)" != 0 ] || { echo "installing adb"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq adb >/dev/null; } || \
	  echo "Android's debug bridge cannot be installed: the demo goes on without the site cable."

video: # of sessions needs ffmpeg; without it they keep pictures, and say so
	@command -v ffmpeg >/dev/null 2>&1 || [ "$$(id -u)" != 0 ] || { echo "installing ffmpeg"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq ffmpeg >/dev/null; } || \
	  echo "ffmpeg cannot be installed: sessions make no videos."

browser: # in which the console is tried
	$(call need,chromium,/usr/bin/chromium,chromium)

terminal: # a terminal window without a monitor
	$(call need,xterm,/usr/bin/xterm,xterm)
	$(call need,Xvfb,/usr/bin/Xvfb,xvfb)
	$(call need,no-such-command,/usr/share/fonts/truetype/dejavu/DejaVuSansMono.ttf,fonts-dejavu-core)
	$(call need,import,/usr/bin/import-im6.q16,imagemagick)

.PHONY: help demo test test-one quick bench soak upgrade kills screenshots generate postgres packers node browser terminal handsets bridge video
