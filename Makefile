# make demo        everything that is needed, then the demo at http://127.0.0.1:7420
# make test        all tests
# make demo-reset  forget the demo's data
# make screenshots new pictures in docs/screenshots/

export PATH := $(PATH):/usr/sbin:/sbin

console_sources := $(shell find console/src console/public console/index.html console/*.ts console/*.js console/package.json docs/jobs -type f 2>/dev/null)
go_sources := $(shell find . -name '*.go' -not -path './console/node_modules/*') $(shell find knowledge standin/debian/captured -type f) go.mod go.sum core/bag/facts.schema.json

# make prove-reading  provoke all known failures anew and score the reader

# make bench          how fast, as ratios to public tools

.PHONY: bench bench-fleet prove prove-reading prove-loop prove-disks prove-jobs prove-store prove-folders prove-faults prove-fleet prove-damage prove-runs soak demo demo-reset test test-service test-others packages packages-test build console lint screenshots fuzz clean

demo: packages build
	@exec bin/diorthos demo --debian standin/debian/job.sh

demo-reset: build
	@bin/diorthos demo --reset

packages:
	@scripts/packages.sh demo

packages-test:
	@scripts/packages.sh test

build: bin/diorthos

bin/diorthos: console/dist/index.html $(go_sources)
	go build -o $@ ./cmd/diorthos

console: console/dist/index.html

console/dist/index.html: console/node_modules/.stamp console/src/api/schema.ts $(console_sources)
	cd console && npm run --silent build -- --logLevel warn

console/src/api/schema.ts: console/node_modules/.stamp console/openapi.json
	cd console && npm run --silent types >/dev/null

# The document is committed; the API's own test says when it is out of date.
console/openapi.json:
	go run ./service/api/openapi >$@

.PHONY: openapi
openapi:
	go run ./service/api/openapi >console/openapi.json

console/node_modules/.stamp: console/package-lock.json
	cd console && npm ci --no-audit --no-fund --loglevel=error
	@echo 'module node_modules' >console/node_modules/go.mod # Go packages in there are not ours
	@touch $@

lint: console/dist/index.html
	cd console && npm run --silent check
	go vet ./...
	go tool staticcheck ./...

# Timed tests would lie on a busy machine: packages one after the other where
# they need the database or a browser.
test: packages-test lint test-service test-others

test-others:
	go test -timeout 30m $$(go list ./... | grep -v '^diorthos/service\(/\|$$\)')

# The service's packages are tested under the race detector.
test-service:
	go test -race -timeout 30m ./service/...

# Provokes every captured failure anew (needs root; some minutes) and scores.
prove-reading:
	@scripts/packages.sh prove
	@rm -rf .build/captured && mkdir -p .build/captured
	@for f in $$(standin/debian/failures.sh --list); do standin/debian/failures.sh $$f .build/captured/$$f || exit 2; done
	DIORTHOS_CAPTURED=$(CURDIR)/.build/captured go test ./core/docket -count=1 -v -run 'TestGenuineFailures|TestADiagnosisDoesNot|TestAScreenIsUnderstood'
	@rm -rf .build/fresh && mkdir -p .build/fresh
	@for set in fresh later third fourth fifth sixth seventh eighth ninth tenth eleventh twelfth thirteenth debian13; do for f in $$(standin/debian/$$set.sh --list); do standin/debian/$$set.sh $$f .build/fresh/$$f || exit 2; done; done
	@for seed in 1 2 3 4 5; do standin/debian/injected.sh $$seed 70 .build/fresh || exit 2; done
	DIORTHOS_FRESH=$(CURDIR)/.build/fresh go test ./core/docket -count=1 -v -run TestFreshFailures

# Breaks some hundreds of Corbel machines, by faults and by changes at random, lets
# Diorthos mend them, and tries again. SEED_FROM=N makes machines that nobody has seen.
SEED_FROM ?= 1
prove-loop: build
	bin/diorthos standin prove --seeds 8 --seed-from $(SEED_FROM)
	bin/diorthos standin prove --mutations 600 --seed-from $(SEED_FROM)

# Ratios to public tools, in one run.
bench: build
	@scripts/packages.sh bench
	@scripts/bench.sh

# AGENTS of machines that are not there at one process of the service, for a day of five minutes.
AGENTS ?= 5000
bench-fleet: build
	@scripts/packages.sh bench
	DIORTHOS_BENCH_CROWD=$(AGENTS) go test ./e2e -run - -bench BenchmarkCrowd -benchtime 1x -timeout 3h | grep '^  '

# Three processes and their database fail at random while bags come in; FAULTS=1m is a shorter run. Needs root.
FAULTS ?= 10m
prove-faults: build
	@scripts/packages.sh prove
	DIORTHOS_FAULTS=$(FAULTS) go test -tags prove ./e2e -count=1 -timeout 90m -run TestFaultsLoseNothing -v

# An outbreak on FLEET machines of Corbel with agents of their own: seen, held back and mended in waves, while processes
# of the service and of the agents are killed, PostgreSQL is ended and connections are cut.
FLEET ?= 300
prove-fleet: build
	@scripts/packages.sh prove
	DIORTHOS_FLEET=$(FLEET) go test -tags prove ./e2e -count=1 -timeout 90m -run TestAFleetIsMendedWhileEverythingFails -v

# A whole Debian machine, harmed in one place by chance: HARMS=20 of them from SEED_FROM on, some minutes each. Needs root.
HARMS ?= 20
prove-damage: build
	@scripts/packages.sh prove
	DIORTHOS_ACCEL=tcg DIORTHOS_HARMS=$(HARMS) DIORTHOS_SEED=$(SEED_FROM) go test -tags prove ./e2e -count=1 -timeout 180m -run TestDamageToAWholeMachineIsTold -v

# The slow proofs: provoked failures, the closed loop, media started in QEMU, fuzzing.
prove: prove-reading prove-loop prove-disks prove-store prove-jobs prove-faults prove-fleet prove-damage prove-runs fuzz

# The jobs that technicians came with, walked; writes docs/jobs.
prove-jobs: build
	@scripts/packages.sh prove
	DIORTHOS_JOBS=$(CURDIR)/docs/jobs DIORTHOS_ACCEL=tcg go test ./e2e -count=1 -timeout 40m -run 'TestJobs|TestARepairGoesRoundInWaves' -v

# Real machines whose next run of apt cannot be made, mended and proven by their own tools.
prove-store: build
	@scripts/packages.sh prove
	go test -tags prove ./e2e -count=1 -timeout 60m -run TestProveThatTheNextRunCanBeMade -v

# Every captured failure provoked anew in a folder, mended there by Diorthos, and judged by dpkg and apt: hours for all.
# OF=6 PART=2 takes every sixth.
OF ?= 1
PART ?= 0
prove-folders: build
	@scripts/packages.sh prove
	@standin/debian/mended.sh --all $(OF) $(PART)

# Files that runs of apt and dpkg need, harmed by chance: HARMS draws from SEED_FROM on; what fails is mended, and run again.
prove-runs: build
	@scripts/packages.sh prove
	@standin/debian/harmed.sh $(SEED_FROM) $(HARMS)

# An hour of what prove-faults does in ten minutes.
soak:
	$(MAKE) prove-faults FAULTS=1h

# Written media start under SeaBIOS and OVMF; a restyled disk keeps every file.
prove-disks: build
	@scripts/packages.sh prove
	DIORTHOS_ACCEL=tcg go test -tags prove ./e2e -count=1 -timeout 90m -run TestProve -skip TestProveThatTheNextRunCanBeMade -v

# A minute for each parser of bytes that come from outside.
fuzz:
	go test ./core/block -run - -fuzz FuzzReadJournal -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/layout -run - -fuzz FuzzRead -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/ext -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/ext -run - -fuzz FuzzFindBackup -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/ext -run - -fuzz FuzzReplay -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/efivar -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/xfs -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/btrfs -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/volumes -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/journald -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/debian -run - -fuzz FuzzNamesIn -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/bag -run - -fuzz FuzzRead -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/reading -run - -fuzz FuzzRead -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/codes -run - -fuzz FuzzParse -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/fat -run - -fuzz FuzzCheck -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/iso -run - -fuzz FuzzOpen -fuzztime 60s -fuzzminimizetime 5x
	go test ./core/catalogue -run - -fuzz FuzzRead -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/corbelfile -run - -fuzz FuzzFiles -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/corbelfile -run - -fuzz FuzzExcision -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/grub -run - -fuzz FuzzRun -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/grub -run - -fuzz FuzzReadImage -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/debian -run - -fuzz FuzzEarlyImage -fuzztime 60s -fuzzminimizetime 5x
	go test ./platform/debian -run - -fuzz FuzzReadPackage -fuzztime 60s -fuzzminimizetime 5x

screenshots: packages-test build
	scripts/packages.sh screenshots
	scripts/screenshots.sh

clean:
	rm -rf bin console/dist/assets console/dist/index.html console/dist/mark.svg console/src/api/schema.ts
