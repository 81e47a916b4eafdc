# Everything on a fresh machine with Go and git: make demo, make test.

GO ?= go
# One static program, the same bytes for the same source.
export CGO_ENABLED = 0
export GOAMD64 = v1
# The same flags for building, vetting and testing, so that each package is compiled once.
export GOFLAGS = -trimpath -buildvcs=false
COMMIT := $(shell git rev-parse --short=12 HEAD 2>/dev/null)
BUILD = $(GO) build -ldflags='-s -w -X anchorage.example/unicrux/core/about.Commit=$(COMMIT)'

.PHONY: build demo drafts corpus messages test race mutants scenes attack growth faults agree lint cross fuzz bench clean

build:
	$(BUILD) -o unicrux .

# The main job, on the embedded practice host: nothing of yours is read or changed.
demo: build
	./unicrux demo

# The tests with real servers wait more than they work, so more of them run at once than there are
# processors; on a busy machine they may take long all the same.
test:
	$(GO) test -timeout 40m -parallel 4 ./...

# Formatting, vet and the static analyser.
lint:
	@unformatted=$$(gofmt -l .); test -z "$$unformatted" || { echo "not formatted: $$unformatted"; exit 1; }
	$(GO) vet ./...
	$(GO) tool staticcheck ./...

# The core and the holder with the race detector, which needs a C compiler. CI takes the rooms in which several
# things happen at once.
RACE ?= ./core/... ./holder
race:
	CGO_ENABLED=1 $(GO) test -race -vet=off -timeout 20m $(RACE)

# Faults that are planted into the core, one at a time: which do the tests of their own room notice?
mutants:
	$(GO) run ./mutants mutants/faults.txt

# Drafts of descriptions: for each document the operations that were found, missed and taken for another, and each
# draft driven against a host of that shape.
drafts:
	$(GO) test -count=1 -v -run 'TestDrafts|TestDriven|TestLarge' ./core/draft | grep -v '^=== '

# The other platforms must build and be vetted, even where they cannot be tried.
CROSS ?= linux/arm64 darwin/arm64 windows/amd64
cross:
	for target in $(CROSS); do \
		echo "build for $$target"; \
		GOOS=$${target%/*} GOARCH=$${target#*/} $(BUILD) -o /dev/null . || exit 1; \
		GOOS=$${target%/*} GOARCH=$${target#*/} $(GO) vet . ./core/... ./cli ./holder || exit 1; \
	done

# Every scene of a failure: the real client fails, the crux is named, the mend is done. It prints
# code, transport, named or not, mended or told, and how long the check took.
scenes:
	@UNICRUX_SCENES=$(CURDIR)/scenes.txt $(GO) test -count=1 -timeout 40m -parallel 4 ./acceptance; status=$$?; cat scenes.txt; rm -f scenes.txt; exit $$status

# What explain and check say of a collection of real failures, where there is one: CORPUS is its folder, with a program
# "score" in it. Nothing is reproduced without LIVE=1, which needs root and takes minutes.
CORPUS ?= ../shared/corpus
corpus: build
	@if [ ! -x $(CORPUS)/score ]; then echo "There is no collection of failures at $(CORPUS)."; else \
		out=$$(mktemp -d); OUT=$$out $(CORPUS)/score texts $(CURDIR)/unicrux; $(GO) run ./calibration $$out; \
		if [ -n "$(LIVE)" ]; then SAMPLE=$(SAMPLE) $(CORPUS)/score live $(CURDIR)/unicrux $$(mktemp -d); fi; fi

# The messages of the clients that our table does not have, from their unpacked sources (apt-get source git openssh curl
# gnutls28 mercurial): to be read when one of them has a new version.
SOURCES ?= /usr/src
messages:
	@$(GO) run ./messages core/causes/messages.txt $(SOURCES)

# Every attack on the built program that is known, a line for each: held, or BROKEN.
attack:
	@UNICRUX_ATTACKS=$(CURDIR)/attacks.txt $(GO) test -count=1 -timeout 20m -parallel 4 -run '^TestAttacks$$' ./acceptance >attacks.log; status=$$?; cat attacks.txt; [ $$status = 0 ] || cat attacks.log; rm -f attacks.txt attacks.log; exit $$status

# How often we agree with the real git, ssh and hg, over generated situations and servers that note what arrives: a
# line for each class. CI tries a sample; AGREE says how many cases of each that is made up are tried here.
AGREE ?= 5000
agree:
	@UNICRUX_AGREE=$(CURDIR)/agree.txt UNICRUX_ROUNDS=$(AGREE) $(GO) test -count=1 -timeout 60m -parallel 4 -run 'Agree|TestNamesVouch|TestSecretSources|TestSSHPrograms|Certificates$$|TestAsGitsHelper' ./core/sshconfig ./core/gitlink ./core/address ./core/sshkey ./acceptance >agree.log; status=$$?; sort agree.txt; [ $$status = 0 ] || cat agree.log; rm -f agree.txt agree.log; exit $$status

# A fault at every change of a file that a command makes: the call fails, the disk is full, the program is
# killed or interrupted there. A line for each command. CI tries a sample of them.
faults:
	@UNICRUX_FAULTS=$(CURDIR)/faults.txt $(GO) test -count=1 -timeout 80m -parallel 4 -run '^TestEveryFault$$' ./acceptance >faults.log; status=$$?; cat faults.txt; [ $$status = 0 ] || cat faults.log; rm -f faults.txt faults.log; exit $$status

# What ten times the work costs, for what may have much to do: an exponent above 1.2 fails.
growth:
	@UNICRUX_GROWTH=$(CURDIR)/growth.txt $(GO) test -count=1 -timeout 20m -run '^TestGrowth$$' ./acceptance; status=$$?; cat growth.txt; rm -f growth.txt; exit $$status

# Longer than CI has time for: each parser for FUZZTIME, and the comparison with the real ssh client.
FUZZTIME ?= 1m
fuzz:
	for package in $$(grep -rl '^func Fuzz' --include='*_test.go' . | xargs -n1 dirname | sort -u); do \
		for target in $$($(GO) test -list '^Fuzz' $$package | grep '^Fuzz'); do \
			$(GO) test -run='^$$' -fuzz="^$$target\$$" -fuzztime=$(FUZZTIME) -fuzzminimizetime=10x $$package || exit 1; \
		done; \
	done
	UNICRUX_ROUNDS=20000 $(GO) test -run Agrees -timeout 30m ./core/sshconfig
	UNICRUX_ROUNDS=1000 $(GO) test -run TestCheckAgrees -timeout 90m ./acceptance

# What is promised about speed, as ratios in one run.
bench:
	$(GO) test -run='^$$' -bench=. -benchtime=30x ./acceptance ./core/sshconfig ./core/find

clean:
	rm -f unicrux unicrux.exe
