# Stone Baton. `make demo` and `make test` are all one needs; both install what they lack.
SHELL := /bin/bash
BIN := bin/stonebaton
OURS = $$(go list ./... | grep -v node_modules)
WEB := $(shell find web/src web/public -type f 2>/dev/null) web/index.html web/vite.config.ts web/package.json internal/service/openapi.yaml
say = @printf '\033[1m== %s\033[0m\n' "$(1)"

.PHONY: demo test attack conformance bench build lint check-go check-web chromium python screenshots clean

demo: build python ## build all and start the harbour with its demo data
	$(call say,starting the demo)
	@$(BIN) demo

build: web/dist/index.html
	$(call say,building the program (the first time compiles SQLite: two minutes or so))
	@mkdir -p bin && go build -o $(BIN) ./cmd/stonebaton

web/node_modules/.done: web/package.json web/package-lock.json
	$(call say,installing the console's packages (the first time half a minute))
	@cd web && npm install --no-save --no-audit --no-fund --no-update-notifier --loglevel=error && touch node_modules/.done

web/src/api.gen.ts: internal/service/openapi.yaml web/node_modules/.done
	@cd web && npm run --silent types >/dev/null

web/dist/index.html: $(WEB) web/node_modules/.done web/src/api.gen.ts
	$(call say,building the console)
	@cd web && npm run --silent build -- --logLevel warn && touch dist/.keep

test: build lint chromium python ## everything CI runs
	$(call say,tests with the race detector (the first time compiles SQLite once more))
	@go test -race -timeout 25m $(OURS)

lint: check-go check-web

check-go: web/dist/index.html
	$(call say,gofmt go vet staticcheck)
	@out=$$(gofmt -l $$(git ls-files '*.go')); if [ -n "$$out" ]; then echo "not formatted: $$out"; exit 1; fi
	@go vet $(OURS) && go tool staticcheck $(OURS)

check-web: web/node_modules/.done web/src/api.gen.ts
	$(call say,tsc eslint vitest)
	@cd web && npm run --silent check && npm run --silent lint && npm run --silent test

chromium: # and a C compiler, which the race detector needs, and Perl with its modules, in which a tool of the demo is written
	@need=""; command -v chromium >/dev/null || need="chromium"; command -v gcc >/dev/null || need="$$need gcc libc6-dev"; \
	perl -MJSON::PP -e 1 2>/dev/null || need="$$need perl"; \
	if [ -n "$$need" ]; then \
	  printf '\033[1m== %s\033[0m\n' "installing from Debian's packages: $$need (a minute or so)"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends $$need >/dev/null; fi

python: # in which tools of the demo are written
	@python3 -c "import asyncio, enum" 2>/dev/null || { \
	  printf '\033[1m== %s\033[0m\n' "installing Python from Debian's packages (half a minute)"; \
	  apt-get update -qq && DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends python3 >/dev/null; }

ATTACKED = ./internal/sandbox ./internal/addr ./internal/secret ./internal/sqlite ./internal/store ./internal/engine ./internal/service ./internal/model/... ./internal/tools/... ./internal/app ./internal/cli ./core/schema ./core/openapi
FUZZED = core/value:FuzzRead core/functions:FuzzScripts core/schema:FuzzRepair core/openapi:FuzzRead internal/store:FuzzTexts internal/secret:FuzzStream internal/sqlite:FuzzOne internal/model/chat:FuzzReplies internal/understudy:FuzzChoose internal/cli:FuzzVisible
attack: build chromium python ## what was ever tried against it: kills, a full disk, hostile models, tools, programs and peers (half an hour, most of it bombs)
	$(call say,attacks on the parts)
	@go test -count 1 -timeout 10m $(ATTACKED)
	$(call say,bombs of processes and threads and memory: each twenty times behind a second bound)
	@ATTACK=1 go test ./internal/sandbox -count 1 -timeout 40m -run Bombs -v | grep -v '^=== '
	$(call say,what chance makes up: ten seconds for each reader of what others write)
	@set -o pipefail; for f in $(FUZZED); do go test ./$${f%%:*} -run '^$$' -fuzz "^$${f##*:}$$" -fuzztime 10s | grep -v '^fuzz:\|^PASS' || exit 1; done
	$(call say,attacks on the whole: 320 kills and more)
	@ATTACK=1 go test ./e2e -count 1 -timeout 10m -run 'Kills|Kill|Hostile|Disk|WhatWasAgreed|Bounds|BadRequests|WrongUse|ServiceForOthers|Understudy'

SUITE = node@22 @modelcontextprotocol/conformance@0.2.0-alpha.12
conformance: build ## the protocol project's own suite, on both sides of ours, in each revision
	$(call say,fetching the suite)
	@mkdir -p .conformance && npm install --prefix .conformance --silent --no-save $(SUITE)
	$(call say,the suite)
	@CONFORMANCE=$(CURDIR)/.conformance go test ./e2e -count 1 -timeout 15m -run Conformance -v | grep -v '^=== RUN'

bench: build python ## speed and memory, as ratios against a bare baseline in the same run
	$(call say,benchmarks (about two minutes))
	@go test ./bench -run '^$$' -bench . -benchtime 1x -timeout 20m

screenshots: build chromium python ## take the pictures of docs/screenshots again
	@SCREENSHOTS="$(CURDIR)/docs/screenshots" go test ./e2e -run TestScreenshots -count 1 -v

clean:
	rm -rf bin .conformance web/dist/* web/node_modules web/src/api.gen.ts && touch web/dist/.keep
