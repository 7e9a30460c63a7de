# Two targets matter to a newcomer: `make demo` and `make test`. Each does all set-up by itself.
GO      ?= go
VERSION ?= $(shell git describe --tags --always --dirty 2>/dev/null || echo dev)
STAMPS  := .stamps
CONSOLE := web/dist/index.html
SOURCES := $(shell find cmd internal -name '*.go' -o -path '*internal*' \( -name '*.sql' -o -name '*.js' -o -name '*.json' -o -name '*.yaml' -o -name '*.html' -o -name '*.css' -o -name '*.txt' \)) go.mod go.sum web/web.go

STEP    := @scripts/step
export CGO_ENABLED := 0

.PHONY: demo test build setup packages modules lint go-lint console-types console-style console-form unit bench soak attack shots fuzz clean

demo: build
	./bin/pane demo

test: build lint unit

# What comes over the network comes side by side.
build:
	@$(MAKE) --no-print-directory -j3 setup
	@$(MAKE) --no-print-directory bin/pane

setup: packages modules $(STAMPS)/npm

# What the machine needs: Debian packages, where there is apt and the right to use it.
packages:
	$(STEP) "Debian packages" scripts/setup

modules:
	$(STEP) "Go modules, fetched and compiled" scripts/compile

$(STAMPS)/npm: web/package.json web/package-lock.json
	@mkdir -p $(STAMPS)
	$(STEP) "npm packages" npm --prefix web ci --no-fund --no-audit --loglevel=error
	@touch $@

$(CONSOLE): $(STAMPS)/npm $(shell find web/src web/public -type f ! -name schema.d.ts) web/index.html web/vite.config.ts web/pack.mjs
	$(STEP) -q "the console" npm --prefix web run --silent build

bin/pane: $(SOURCES) $(CONSOLE)
	$(STEP) "bin/pane" $(GO) build -ldflags '-s -w -X main.version=$(VERSION)' -o $@ ./cmd/pane

lint: $(STAMPS)/npm $(CONSOLE)
	@$(MAKE) --no-print-directory -j4 go-lint go-lint console-types console-style console-form

go-lint:
	$(STEP) "gofmt" sh -c 'test -z "$$(gofmt -l cmd internal web/web.go tools | tee /dev/stderr)"'
	$(STEP) "lines" scripts/lines
	$(STEP) "go vet" $(GO) vet ./...
	$(STEP) "staticcheck" $(GO) tool staticcheck ./...
	$(STEP) "types on macOS and Windows" $(GO) run ./tools/elsewhere darwin windows

# The console's types come from the document of the API, which its build has read.
console-types:
	$(STEP) -q "the console's types" npm --prefix web run --silent typed

console-style:
	$(STEP) -q "the console's style" npm --prefix web run --silent style

console-form:
	$(STEP) -q "the console's form" npm --prefix web run --silent form

unit: $(STAMPS)/npm
	$(STEP) -q "the console's tests" npm --prefix web run --silent test
	$(STEP) "Go tests" $(GO) test -p 3 -vet=off -timeout 14m -skip UnderLoad ./...
	$(STEP) "pictures under a load of their own" $(GO) test -vet=off ./internal/sessions -run UnderLoad
	$(STEP) "a thousand histories of the scheduler" $(GO) test -vet=off -count=1 ./internal/core/dispatch -run History -rapid.checks=1000

bench: build
	$(GO) run ./tools/bench -out docs/benchmarks.md

# Real processes, killed again and again: make soak MINUTES=10 SEED=7
soak: build
	PANE_SOAK=$(or $(MINUTES),3) PANE_SEED=$(or $(SEED),1) $(GO) test -count=1 -timeout 0 -v ./internal/cli -run Soak
	PANE_CLICKS=100 PANE_THOROUGH=1 $(GO) test -count=1 -timeout 0 -v ./internal/sessions -run 'UnderLoad|DialogsOfRecorded'
	PANE_THOROUGH=1 $(GO) test -count=1 -timeout 0 -v ./internal/script/webdrive -run DemoSuite

# What strangers may try, tried: against sandboxes, doors, and a started lab with its engines.
attack: build
	PANE_REQUIRE_ENGINES=1 $(GO) test -count=1 -v ./internal/engine/box ./internal/sessions/door ./internal/core/... ./internal/project \
		./internal/engine ./internal/engine/chromium ./internal/engine/gecko ./internal/access ./internal/httpapi ./internal/lab \
		./internal/store ./internal/recording ./internal/term ./internal/certs ./internal/sessions ./internal/agent \
		-run '$(ATTACKS)'

# By what the tests are called that carry them out.
ATTACKS := Box|Door|Attacks|MayNot|Addresses|BeyondPages|Readers|Switches|Preferences|Arguments|Profile|TooHard|TooDear|Endless|Token|Console|SignIn
ATTACKS := $(ATTACKS)|AnotherProject|Streams|NotEachOther|Whose|Nobody|Throttled|MayCost|Forwarded|Foreign|NoRequest|Secret|Backup|Damaged|Refuse
ATTACKS := $(ATTACKS)|AtTheStart|Jumps|Waited|Elsewhere|Pinned|DownloadsThatAreNone|CostTooMuch|BeganLongAgo

shots: build
	$(GO) run ./tools/shots -out docs/screenshots

# Every parser that strangers reach, each for FUZZTIME.
FUZZTIME ?= 20s
FUZZED   := core/remote:Guard core/remote:Want core/fleet:Needs core/combo:ParseKey core/combo:ParseSelector core/calendar:Parse \
	core/condition:Compile script:ParseScript script:Expressions project:Bundle api:ParseSide recording:Mask recording:Typing webdriver:Alternatives \
	backup:Restore engine/stock:Add adb:Messages core/outcome:Read engine/standin:Page script:Blocks project:Rows core/triage:Sign core/form:Form

fuzz:
	for p in $(FUZZED); do \
		$(GO) test ./internal/$${p%%:*} -run xxx -fuzz "Fuzz$${p##*:}\$$" -fuzztime $(FUZZTIME) \
		-fuzzminimizetime 1x || exit 1; done

clean:
	rm -rf bin $(STAMPS) web/dist/assets web/dist/*.html* web/dist/*.svg* web/node_modules demo-data
