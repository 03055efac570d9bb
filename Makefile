# make demo and make test are all a newcomer needs: each installs or builds what it lacks.

GO      ?= go
console := console/dist/index.html

.PHONY: build demo test check bench docs share shots histories kills properties fuzz steady clean queue-events queue-figures queue-likely landings scale

build: bin/tavrin

bin/tavrin: $(console) $(shell find client cmd console demo internal wire -name node_modules -prune -o -name '*.go' -print -o -name '*.sql' -print -o -path 'demo/*' -type f -print) go.mod go.sum
	$(GO) build -o $@ ./cmd/tavrin

packages := console/node_modules/.package-lock.json

$(packages): console/package-lock.json
	cd console && npm ci --no-audit --no-fund
	touch $@

$(console): $(packages) console/index.html console/vite.config.ts $(shell find console/src console/public -type f)
	cd console && npm run build
	touch console/dist/.keep

demo: build
	bin/tavrin demo

# Everything: formatting, the console's own checks, and all tests, those in the browser too.
test: build check
	./e2e/needs.sh
	GOTMPDIR=$${GOTMPDIR:-$${TMPDIR:-/tmp}} TMPDIR=$$(./e2e/scratch.sh) $(GO) test -timeout 40m -parallel 4 ./...

# Two thousand random histories, with merges, reversals and submodules: nothing lands but what was shown; and two thousand more, with
# whatever a tree and a message may hold, beside git's own commands: the same commits. Half an hour.
histories:
	cd internal/git/rehearsal && TAVRIN_HISTORIES=$${TAVRIN_HISTORIES:-2000} TAVRIN_OFTEN=$${TAVRIN_OFTEN:-200} TMPDIR=$$(../../../e2e/scratch.sh) $(GO) test -count=1 -timeout 3h -run 'TestP2RandomHistories|TestP2EveryStrategyEqualsGit' -v .

# A service under work that is killed four hundred times, and git under it; docs/reliability.md has the figures. A quarter of an hour.
kills:
	cd e2e && TAVRIN_OFTEN=$${TAVRIN_OFTEN:-34} TMPDIR=$$(./scratch.sh) $(GO) test -count=1 -timeout 2h -run TestP4KilledAgainAndAgain -v .

# What the rules promise, on made-up documents, facts, pushes and waivers: a million and more of them. Some minutes.
properties:
	TAVRIN_OFTEN=$${TAVRIN_OFTEN:-200} $(GO) test -count=1 -timeout 2h -run 'TestP8|TestP1Waivers|TestMatchAgrees' ./internal/core/...

# Ten million events told to the queue's planner, with everything checked that has to hold. Ten minutes.
queue-events:
	EVENTS=$${EVENTS:-10000000} $(GO) test -count=1 -timeout 3h -run TestP9WhateverHappens -v ./internal/core/queue

# How what is said about likely landings comes out, on the same workloads. A minute and a half.
queue-likely:
	DAYS=$${DAYS:-4} $(GO) test -count=1 -timeout 1h -run TestLikelyTimesComeTrue -v ./internal/core/forecast

# The planner beside an oracle, on the workloads of docs/performance.md, which has the table. A quarter of an hour.
queue-figures:
	DAYS=$${DAYS:-5} SEEDS=$${SEEDS:-20} $(GO) test -count=1 -timeout 3h -run TestStudy -v ./internal/core/forecast

# Five hundred landings through the real service, which holds on to nothing. Some minutes.
landings:
	cd e2e && LANDINGS=$${LANDINGS:-500} TMPDIR=$$(./scratch.sh) $(GO) test -count=1 -timeout 1h -run TestLandingsLeaveNothingBehind -v .

# A service that an organisation has worked with for years, in three sizes, measured; docs/performance.md gets the table. Half an hour, and
# 3 GB of disk in TMPDIR.
scale: build
	$(GO) build -o bin/scale ./e2e/scale
	dir=$$(mktemp -d) && mkdir $$dir/figures && trap 'rm -rf '$$dir EXIT && for size in $${SIZES:-small middle large}; do \
	  bin/scale -size $$size -dir $$dir/$$size -figures $$dir/figures/$$size.json make measure || exit 1; rm -rf $$dir/$$size; done && \
	  bin/scale -figures $$dir/figures table

# Every reader of what people send, ten minutes each.
fuzz:
	for t in git/FuzzParseCommit git/FuzzReadRawNumstat git/transport/FuzzReadRequest git/transport/FuzzReadListed git/transport/FuzzReadTree git/rehearsal/FuzzReadMerge git/rehearsal/FuzzReplayed core/trailer/FuzzDrop core/plainyaml/FuzzCheck core/rules/FuzzIdentity markdown/FuzzHTML; do \
	  $(GO) test ./internal/$${t%/*} -run '^$$' -fuzz "^$${t##*/}$$" -fuzztime $${FUZZTIME:-10m} -fuzzminimizetime 1s || exit 1; done

# The whole suite ten times by itself and ten times beside a load on both cores: none of the twenty may fail.
steady: build
	./e2e/steady.sh $${QUIET:-10} $${BUSY:-10}

check:
	test -z "$$(gofmt -l client cmd console/*.go demo e2e internal wire)" || { gofmt -l client cmd console/*.go demo e2e internal wire; exit 1; }
	$(GO) vet ./...
	cd console && npm run --silent check && npm run --silent lint

bench:
	$(GO) test -run '^$$' -bench . -benchtime 1s ./internal/core/... ./internal/git/... ./e2e/...

# The reference pages that are made from the code.
docs: build
	bin/tavrin openapi > docs/reference/openapi.json
	$(GO) run ./cmd/gendocs docs/reference

# Manual pages and completions for shells, in share/.
share: build
	mkdir -p share/man1 share/completions
	bin/tavrin man share/man1
	for shell in bash zsh fish; do bin/tavrin completion $$shell > share/completions/tavrin.$$shell; done

shots: build
	@echo "start make demo, then: PATH=$$PWD/bin:$$PATH $(GO) run ./e2e/shots -tokens DIR-OF-TOKEN-FILES"

clean:
	rm -rf bin share console/dist/assets console/dist/index.html console/node_modules
