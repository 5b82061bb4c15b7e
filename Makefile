# `make demo` runs the complete example, and `make test` runs the tests. See README.md. CONTRIBUTING.md
# explains the other targets.

GO      ?= go
export CGO_ENABLED = 0
FLAGS   := -buildvcs=auto -trimpath -ldflags "-s -w"
SOURCES := $(shell find cards cmd internal examples -name '*.go' -o -name '*.yaml' -o -name '*.html' -o -name '*.txt' -o -name '*.hive') go.mod go.sum
DIR     ?= demo-office

.PHONY: all cards release build windows demo test soak fuzz race cover mutate lint bench docs notices clean

all: build

build: build/movekit

build/movekit: $(SOURCES)
	$(GO) build $(FLAGS) -o $@ ./cmd/movekit

windows: build/movekit.exe

build/movekit.exe: $(SOURCES)
	GOOS=windows GOARCH=amd64 $(GO) build $(FLAGS) -o $@ ./cmd/movekit

demo: build/movekit
	./build/movekit demo --dir $(DIR) --fresh

# The tests run the program and real servers. test/tools.sh installs missing tools with apt if it can. Otherwise
# the tests that need them are skipped and say why. -count=1: Go's test cache does not notice a changed program.
test:
	sh test/tools.sh
	$(GO) test -vet=off -p 4 -timeout 25m -count=1 -parallel 4 ./...

# Long tests. SOAK=1 is the share that runs before a change is merged; the default 10 is for a night.
SOAK ?= 10
soak:
	MOVEKIT_SEQUENCES=$$(($(SOAK) * 50000)) $(GO) test -timeout 5h -count=1 -run Sequence ./test/model ./internal/core/place
	MOVEKIT_MOVES=$$(($(SOAK) * 100)) $(GO) test -timeout 5h -count=1 -run TestWholeMoves ./test
	MOVEKIT_STORM=$$(($(SOAK) * 200)) $(GO) test -timeout 5h -count=1 ./test/storm
	MOVEKIT_SOAK=1 $(GO) test -vet=off -timeout 5h -count=1 -run 'TestExistingDatabase|TestInterrupted|TestRandomSchemas' ./internal/core/item/...
	MOVEKIT_SOAK=1 $(GO) test -vet=off -timeout 5h -count=1 -run TestForged ./internal/core/move

# Installs the programs of the built-in cards that run here, one after the other, moves their data, removes them again, and
# writes docs/cards-tried.md. Needs root and apt; about an hour.
cards:
	apt-get update -qq
	MOVEKIT_CARDS=all $(GO) test -timeout 3h -count=1 -v -run TestBuiltInCards ./test

# Random input for every parser of untrusted data. Each run finds other cases, so it is for a night.
FUZZ ?= 30000
fuzz:
	@for p in $$(grep -rl --include=*_test.go '^func Fuzz' internal | xargs -n1 dirname | sort -u); do \
		for f in $$(sed -n 's/^func \(Fuzz[A-Za-z]*\)(.*/\1/p' $$p/*_test.go); do \
			$(GO) test -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZ)x ./$$p || exit 1; \
		done; \
	done

# The core under the race detector, which needs a C compiler.
race:
	CGO_ENABLED=1 $(GO) test -race -timeout 50m -count=1 ./internal/core/... ./internal/desk ./test/model ./test/storm

# Coverage of the core by its own tests and by the built program together.
cover:
	rm -rf build/cover && mkdir -p build/cover/unit build/cover/program
	$(GO) test -count=1 -cover -coverpkg=./internal/core/... ./internal/... ./test/model ./test/storm -args -test.gocoverdir=$(CURDIR)/build/cover/unit
	GOCOVERDIR=$(CURDIR)/build/cover/program $(GO) test -timeout 25m -count=1 ./test
	$(GO) tool covdata textfmt -i=build/cover/unit,build/cover/program -o build/cover/all.txt
	$(GO) tool cover -func build/cover/all.txt | tail -1

# Mutation test of PKG: makes single changes, one at a time, and counts those that its tests detect.
PKG ?= steps
mutate:
	GOFLAGS="-vet=off -ldflags=-s" $(GO) tool gremlins unleash --invert-logical --invert-loopctrl --workers 1 --timeout-coefficient 10 internal/core/$(PKG)

lint:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	GOOS=windows $(GO) vet ./cmd/... ./internal/...
	GOOS=windows GOARCH=386 $(GO) build -o /dev/null ./cmd/movekit
	GOOS=darwin GOARCH=arm64 $(GO) vet ./cmd/... ./internal/...
	GOOS=darwin GOARCH=amd64 $(GO) build -o /dev/null ./cmd/movekit
	$(GO) tool staticcheck ./...

# Creates a release in build/release: programs, Debian packages, a zip for the stick, a list of modules,
# checksums. Two runs of one revision create the same bytes.
release:
	$(GO) run ./release

bench: build/movekit
	$(GO) run ./bench

# Generates docs/card.schema.json from the types. A test checks that it is current.
docs: build/movekit
	./build/movekit card schema > docs/card.schema.json

# Collects the licences of the program's modules. A test checks that none is missing.
notices:
	sh internal/about/notices.sh > internal/about/notices.new && mv internal/about/notices.new internal/about/notices.txt

clean:
	rm -rf build demo-office
