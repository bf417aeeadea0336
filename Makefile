# Zenith Ridge. Two commands to begin with: `make demo` and `make test`. Each does all its own set-up.

SHELL := /bin/bash
.DEFAULT_GOAL := help

api_types := console/src/api/schema.d.ts
console_sources := $(filter-out $(api_types),$(shell find console/src console/public -type f)) console/index.html console/vite.config.ts console/tsconfig.json
PICTURES ?= docs/screenshots
SIZES ?= 10000,100000,1000000
FUZZ ?= 100x

# How Go compiles here: what takes most of the time and gives nothing is left out. nomsgpack keeps a codec out of Gin that
# no API of ours has; the registration of API operations is not inlined; SQLite is optimized only a little
# (docs/decisions/README.md, "Compiling less"). All commands compile in the same way, so that they share what is compiled.
compile := -tags=nomsgpack -gcflags=zenithridge.example/zridge/service/httpapi=-l
export GOFLAGS := $(filter-out $(compile),$(GOFLAGS)) $(compile)
export CGO_CFLAGS ?= -O1 -g0

.PHONY: help demo test race fuzz lint bench build package sbom console generate pictures tools chromium clean

help: ## what can be made
	@grep -E '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 12

demo: build ## the service with the demo estate and 240 simulated laptops, on http://127.0.0.1:8470
	@bin/zridge demo $(DEMO)

# Packages that start services and browsers run alone: beside each other they would only wait for each other.
# With the race detector, some of them shortened: the use cases, the tests of the service in which things happen at once,
# and of the core those that alter estates. `make race` runs everything with it.
# Time limits are there to end what hangs; they are many times what a quiet machine takes.
heavy := /e2e$$|/service$$|/service/workflow$$
at_once := Killed|ThatBreak|While|AtOnce|Streams|Restart|Dies|IsProvisioned|IsFollowed|TestARollout|DriftIsSeen|AccessEnds|Checkpoints|WriteAnswers|IsReplaced

# The race detector has SQLite compiled anew. Without optimization that takes a quarter of the time.
race_sqlite := CGO_CFLAGS="-O0 -g0"

# "go vet ./..." has looked at everything before.
vetted := go test -vet=off

test: tools chromium openssl slapd nginx clamd desktop laptop encryption console/dist/index.html ## every test, the console in headless Chromium included
	go vet ./...
	@test -z "$$(gofmt -l $$(git ls-files '*.go'))" || { echo "not gofmt-ed:"; gofmt -l $$(git ls-files '*.go'); exit 1; }
	cd console && npm run --silent lint
	$(MAKE) --no-print-directory drift
	$(vetted) $$(go list ./... | grep -vE '$(heavy)') -timeout 20m
	$(vetted) ./service ./service/workflow -p 1 -parallel 4 -skip '$(at_once)' -timeout 20m
	$(race_sqlite) $(vetted) -race -short ./service/workflow -timeout 20m
	$(race_sqlite) $(vetted) -race ./service -parallel 4 -run '$(at_once)' -timeout 20m
	$(vetted) -race ./core/rollout -run Asking
	$(vetted) -race -short ./core/resolve -run 'Edits|ThereAndBack|TwoSteps|Laws' -timeout 20m
	$(vetted) ./e2e -count=1 -parallel 3 -timeout 40m # it builds the program itself, which the cache of tests does not see

race: tools openssl slapd nginx clamd desktop laptop encryption console/dist/index.html ## every test but those of the browser, with the race detector
	$(race_sqlite) go test -race $$(go list ./... | grep -v '/e2e$$') -p 1 -timeout 60m

# Fuzz tests, as package:name. Each begins with the corpus that is kept in testdata and with nothing that earlier runs found:
# otherwise reading the corpus takes longer on every run. FUZZ is a number of inputs ("100x") or a time ("1m") for each.
fuzz_tests := core/resolve:FuzzWholeEstatesAndEdits core/resolve:FuzzAgreesWithTheOracle core/rollout:FuzzRehearsals \
  core/rule:FuzzExpression formats/contents:FuzzRead \
  formats/directory:FuzzTable formats/files:FuzzNoInputBreaksTheReader \
  formats/syncml:FuzzNoTextBreaksTheReader service/scim:FuzzFilter \
  service/scim:FuzzPatch service:FuzzAPI

fuzz: ## every fuzz test; a longer run: make fuzz FUZZ=1m
	@corpus=$$(mktemp -d) && trap 'rm -rf "$$corpus"' EXIT && for test in $(fuzz_tests); do \
	  echo "fuzzing $${test##*:}, $(FUZZ)"; \
	  go test ./$${test%%:*} -run '^$$' -fuzz "^$${test##*:}$$" -fuzztime $(FUZZ) -timeout 60m -args -test.fuzzcachedir="$$corpus" || exit 1; \
	done

bench: slapd console/dist/index.html ## the figures: resolution, check-ins, memory
	ZRIDGE_BENCH=$(SIZES) go test ./core/resolve -run '^$$' -bench . -benchtime 1s -timeout 30m
	go test ./demo/world -run '^$$' -bench . -benchtime 1x
	go test ./core/estate ./core/listing ./core/setting ./demo ./service/workflow -run '^$$' -bench . -benchtime 1s
	go test ./service -run '^$$' -bench . -benchtime 1x
	go test ./e2e -run '^$$' -bench . -benchtime 1x -timeout 9m

build_agent := CGO_ENABLED=0 go build -trimpath -ldflags "-s -w" -o bin/zridge-agent ./cmd/zridge-agent

build: tools console/dist/index.html ## the program, with the console in it
	@mkdir -p bin
	@echo "Compiling the program. The first time takes two or three minutes."
	go build -ldflags "-X zenithridge.example/zridge/command.built=$$(git describe --always --dirty 2>/dev/null)" -o bin/zridge ./cmd/zridge
	$(build_agent)

VERSION ?= 0.1
package: tools ## the Debian package of the agent for laptops: bin/zridge-agent.deb
	@mkdir -p bin
	$(build_agent)
	packaging/build.sh $(VERSION) bin/zridge-agent bin/zridge-agent.deb

# What the program and the console are made of, in the form of CycloneDX.
sbom: build ## bills of materials: bin/zridge.cdx.json, bin/zridge-agent.cdx.json, bin/console.cdx.json
	for program in zridge zridge-agent; do \
	  go run github.com/CycloneDX/cyclonedx-gomod/cmd/cyclonedx-gomod@v1.9.0 bin -json -output bin/$$program.cdx.json bin/$$program || exit 1; \
	done
	cd console && npm sbom --sbom-format cyclonedx --omit dev > ../bin/console.cdx.json

console: console/dist/index.html ## the web console

console/dist/index.html: console/node_modules/.installed $(console_sources) $(api_types)
	@echo "Building the console"
	@rm -rf console/dist/assets
	@cd console && npm run --silent build
	@touch $@

# The API's types come from its description, which is kept.
$(api_types): console/src/api/openapi.json console/node_modules/.installed
	cd console && npm run --silent types
	@touch $@

# The lock file has the optional packages of every platform. After an edit of package.json, make it anew with
# `npm install --package-lock-only` where there is no node_modules: npm leaves out other platforms otherwise.
console/node_modules/.installed: console/package.json console/package-lock.json
	@echo "Installing the packages that the console is built with"
	@cd console && npm ci --no-audit --no-fund --loglevel=error
	@touch $@

generate: ## the API's description, the dictionary's pages, and the demo's tables
	go run ./cmd/zridge api-document > console/src/api/openapi.json
	mkdir -p docs/dictionary && go run ./dictionary/generate docs/dictionary
	cp formats/contents/application-rules.schema.json docs/
	go run ./demo/generate demo/estate

# Generated files must be what their generators give.
.PHONY: drift
drift:
	@go run ./cmd/zridge api-document | cmp - console/src/api/openapi.json || { echo "console/src/api/openapi.json is out of date: run make generate"; exit 1; }

pictures: chromium build ## docs/screenshots, anew
	go test ./e2e -run 'TestTheDemo$$|TestTheWholeJobInTheConsole|TestSixTasksInTheConsole|TestLeavingAndComingBack|TestDefiningAndRestoring|TestWhoGetsItInTheConsole|TestTheImpactWhileTyping|TestWaysToSettleAConflict|TestWhatComesToAUnit|TestAtTheDeskInTheConsole' -count=1 -pictures $(abspath $(PICTURES))

tools:
	@for tool in go node npm gcc git; do command -v $$tool >/dev/null || { echo "missing: $$tool (needed: Go 1.26, Node 20 with npm, gcc, git)"; exit 1; }; done
	@go version | grep -qE 'go1\.(2[6-9]|[3-9][0-9])' || { echo "found $$(go version), expected Go 1.26 or later"; exit 1; }
	@node -e 'process.exit(Number(process.versions.node.split(".")[0]) >= 20 ? 0 : 1)' || { echo "found Node $$(node --version), expected 20 or later"; exit 1; }

# $(call debian,CHECK,PACKAGES) installs packages of Debian where CHECK fails. CHECK may exit: it has a shell of its own.
debian = @( $(1) ) >/dev/null 2>&1 || { \
  echo "installing $(2) from Debian's packages"; \
  sudo=; [ "$$(id -u)" = 0 ] || sudo=sudo; \
  $$sudo apt-get update -qq && DEBIAN_FRONTEND=noninteractive $$sudo apt-get install -y -qq --no-install-recommends $(2) >/dev/null; } \
  || { echo "$(2) could not be installed; try: apt-get install $(2)"; exit 1; }

chromium:
	$(call debian,command -v chromium && command -v chromium-headless-shell,chromium chromium-headless-shell)

# What the tests run for real: certificates and requests by openssl and curl, a directory server, a proxy and a malware
# scanner that they start, and the parts of a laptop that the agent manages, in a copy of this machine's root.
.PHONY: openssl slapd nginx clamd desktop laptop
openssl:
	$(call debian,command -v openssl && command -v curl,openssl curl ca-certificates)
slapd:
	$(call debian,[ -x /usr/sbin/slapd ] && command -v ldapmodify,slapd ldap-utils)
nginx:
	$(call debian,[ -x /usr/sbin/nginx ],nginx-light)
clamd:
	$(call debian,[ -x /usr/sbin/clamd ],clamav-daemon)
desktop:
	$(call debian,command -v dconf && command -v gsettings && ls /usr/lib/*/gio/modules/libdconfsettings.so /usr/share/glib-2.0/schemas/org.gnome.system.proxy.gschema.xml,dconf-cli libglib2.0-bin dconf-gsettings-backend gsettings-desktop-schemas)
laptop:
	$(call debian,for p in /usr/sbin/nft /usr/sbin/fapolicyd /usr/bin/sudo /usr/sbin/ip; do [ -x $$p ] || exit 1; done,nftables fapolicyd sudo iproute2)

# Encrypted volumes, a security chip and a security module in software.
.PHONY: encryption
encryption:
	$(call debian,for p in /usr/sbin/cryptsetup /usr/sbin/mkfs.ext4 /usr/bin/systemd-cryptenroll /usr/bin/swtpm /usr/bin/swtpm_setup /usr/bin/softhsm2-util; do [ -x $$p ] || exit 1; done && ls /usr/lib/*/libtss2-esys.so.0 /usr/lib/*/libtss2-rc.so.0 /usr/lib/*/libtss2-tcti-swtpm.so.0,cryptsetup-bin e2fsprogs systemd swtpm swtpm-tools libtss2-esys-3.0.2-0 libtss2-rc0 libtss2-tcti-swtpm0 softhsm2)

clean: ## what was built, and the demo's database
	rm -rf bin .demo console/dist/assets console/dist/index.html console/dist/*.js console/dist/*.svg console/dist/*.br console/dist/*.gz
