# Welkin: `make demo` starts everything, `make test` tests everything. Both
# install what is missing first. See README.md.

GO        ?= go
DATA      ?= .data
ADDRESS   ?= 127.0.0.1:4870
SCALE     ?= 1
UI        := web/ui
UISRC     := $(shell find $(UI)/src $(UI)/public -type f) $(UI)/index.html $(UI)/vite.config.ts $(UI)/package-lock.json
SUDO      := $(shell [ "$$(id -u)" = 0 ] || echo sudo)
GOFILES   := $(shell find . -name '*.go' -not -path './$(UI)/node_modules/*') go.mod go.sum $(shell find demo/sheets store/migrations -type f)

.PHONY: demo demo-reset test test-go test-race test-ui test-e2e soak bench check generate ui tools-demo tools-test screenshots clean

## demo: install what is missing, build, and start the demo until Ctrl-C
demo: tools-demo bin/welkin
	@exec bin/welkin demo --data $(DATA) --address $(ADDRESS) --scale $(SCALE)

## demo-reset: throw the demo's data away and begin anew
demo-reset: tools-demo bin/welkin
	rm -rf $(DATA)
	@exec bin/welkin demo --data $(DATA) --address $(ADDRESS) --scale $(SCALE)

bin/welkin: $(UI)/dist/index.html $(GOFILES)
	CGO_ENABLED=1 $(GO) build -o $@ ./cmd/welkin

## ui: build the front end
ui: $(UI)/dist/index.html
$(UI)/dist/index.html: $(UI)/node_modules/.installed $(UISRC)
	cd $(UI) && npm run --silent build
$(UI)/node_modules/.installed: $(UI)/package-lock.json $(UI)/package.json
	cd $(UI) && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

# What Debian's packages give: a C compiler for PostgreSQL's parser, the server,
# and for the tests a browser. Nothing is done where it is there already.
tools-demo:
	@need=""; \
	command -v gcc >/dev/null || need="$$need gcc libc6-dev"; \
	ls /usr/lib/postgresql/*/bin/postgres >/dev/null 2>&1 || need="$$need postgresql"; \
	[ -x /usr/sbin/mariadbd ] || need="$$need mariadb-server"; \
	[ -e /usr/share/zoneinfo/Europe/Oslo ] || need="$$need tzdata"; \
	if [ -n "$$need" ]; then echo "installing$$need"; $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends $$need >/dev/null; fi
tools-test: tools-demo
	@[ -x /usr/bin/chromium ] || { echo "installing chromium"; $(SUDO) apt-get update -qq && DEBIAN_FRONTEND=noninteractive $(SUDO) apt-get install -y -qq --no-install-recommends chromium >/dev/null; }

## test: everything: checks, Go tests, front-end tests, browser tests
test: tools-test ui check test-go test-race test-ui test-e2e
	@echo "all tests passed"

check: ui
	@out=$$(gofmt -l $$(git ls-files '*.go')); [ -z "$$out" ] || { echo "not gofmt'd: $$out"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...
	cd $(UI) && npm run --silent check && npm run --silent lint
	@$(GO) run ./cmd/welkin openapi | cmp - docs/openapi.json || { echo "docs/openapi.json is not current; run make generate"; exit 1; }
	@$(GO) run ./cmd/welkin steps | cmp - docs/steps.md || { echo "docs/steps.md is not current; run make generate"; exit 1; }

test-go: ui
	$(GO) test $$($(GO) list ./... | grep -v /e2e)
test-race: ui
	$(GO) test -race -skip "RandomSheets|PlantedFaults" ./core/engine ./core/format/csv ./core/format/jsonl ./core/format/parquet ./work/...
test-ui: $(UI)/node_modules/.installed
	cd $(UI) && npm run --silent test
test-e2e: tools-test ui
	$(GO) test ./e2e/...

## soak: the long runs of the generated tests and the fuzzers
soak: tools-test ui
	$(GO) test ./core/expr -run TestExpressionsAgreeWithPostgres -count=1 -rapid.checks=20000
	WELKIN_ORACLE=20m $(GO) test ./core/engine -run 'RandomSheets|ResultsDoNot|PlantedFaults' -count=1 -timeout 60m -v
	$(GO) test ./core/expr -fuzz FuzzBind -fuzztime 3m
	$(GO) test ./core/personal -fuzz FuzzFind -fuzztime 2m
	$(GO) test ./core/format/jsonl -fuzz FuzzReader -fuzztime 2m
	$(GO) test ./core/format/csv -fuzz FuzzRead -fuzztime 3m
	$(GO) test ./core/format/fixed -fuzz FuzzRead -fuzztime 2m
	$(GO) test ./core/format/fixed -fuzz FuzzCopybook -fuzztime 1m
	$(GO) test ./core/format/jsondoc -fuzz FuzzReader -fuzztime 2m
	$(GO) test ./core/format/xml -fuzz FuzzReader -fuzztime 2m
	$(GO) test ./core/sheet -fuzz FuzzParse -fuzztime 3m

## bench: the figures of the closing notes
bench: tools-demo bin/welkin
	$(GO) run ./bench
	$(GO) test ./... -run '^$$' -bench . -benchtime 3x

## generate: the OpenAPI document, and the front end's client made from it
generate: $(UI)/node_modules/.installed
	$(GO) run ./cmd/welkin openapi > docs/openapi.json
	$(GO) run ./cmd/welkin steps > docs/steps.md
	cd $(UI) && npm run --silent client

## screenshots: take the pictures of the main views anew
screenshots: tools-test ui
	WELKIN_SHOTS=$(CURDIR)/docs/screenshots $(GO) test ./e2e -run 'TestEveryPageFitsAndIsQuiet|TestALayoutIsDrawnOnTheRecords' -count=1

clean:
	rm -rf bin $(UI)/node_modules; find $(UI)/dist -mindepth 1 -not -name .gitkeep -delete
