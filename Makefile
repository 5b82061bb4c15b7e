# Two commands do all: `make demo` runs the whole example, `make test` passes
# the tests. See README.md.

GO      ?= go
export CGO_ENABLED = 0
FLAGS   := -buildvcs=auto -trimpath -ldflags "-s -w"
SOURCES := $(shell find cmd internal examples -name '*.go' -o -name '*.yaml' -o -name '*.html') go.mod go.sum
DIR     ?= demo-office

.PHONY: all build windows demo test lint bench docs clean

all: build

build: build/movekit

build/movekit: $(SOURCES)
	$(GO) build $(FLAGS) -o $@ ./cmd/movekit

windows: build/movekit.exe

build/movekit.exe: $(SOURCES)
	GOOS=windows GOARCH=amd64 $(GO) build $(FLAGS) -o $@ ./cmd/movekit

demo: build/movekit
	./build/movekit demo --dir $(DIR) --fresh

# The tests run the built program, and need age, zstd, tar and b3sum to open a
# kit without it, and Wine for the Windows build. What is missing is installed
# where this may be done; else those tests are skipped and say why. Results are
# not taken from the cache: Go does not see that the built program changed.
test: build/movekit build/movekit.exe lint
	sh test/tools.sh
	$(GO) test -timeout 25m -count=1 ./...

lint:
	@test -z "$$(gofmt -l .)" || { gofmt -l .; echo "run gofmt -w on these"; exit 1; }
	$(GO) vet ./...
	GOOS=windows $(GO) vet ./cmd/... ./internal/...
	$(GO) tool staticcheck ./...

bench: build/movekit
	$(GO) run ./bench

# docs/card.schema.json is made from the types; a test sees that it is current.
docs: build/movekit
	./build/movekit card schema > docs/card.schema.json

clean:
	rm -rf build demo-office
