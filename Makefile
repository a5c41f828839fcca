.DEFAULT_GOAL := help
.PHONY: help demo test build bench check screenshots docs faults format clean

# Where the demo keeps its database; the program's own default when empty.
DATA ?=
GO_FILES = cmd internal console/console.go sources test

help: ## list the targets
	@grep -hE '^[a-z]+:.*##' $(MAKEFILE_LIST) | sed -E 's/:.*## /\t/' | expand -t 14

demo: need-run build ## run everything with a made-up market, on loopback
	@exec bin/soba demo $(if $(DATA),--data $(DATA))

test: need-test build check ## install what tests need, check and run everything
	go test -count=1 -race -short ./internal/store ./internal/refresh
	go test -count=1 ./...

build: bin/soba ## build the program, console inside, at bin/soba

bench: need-run build ## measure against stated limits, into docs/benchmarks.md
	go run ./internal/bench -output docs/benchmarks.md

check: ## formatting, vet, staticcheck, and the console's checks
	@test -z "$$(go tool gofumpt -l $(GO_FILES))" || { echo "not formatted; run 'make format':"; go tool gofumpt -l $(GO_FILES); exit 1; }
	go vet ./...
	go tool staticcheck -tests=false ./... # analysing what only tests import takes minutes
	cd console && npm run --silent check && npm run --silent lint
	@scripts/share.sh

format: ## format all code
	go tool gofumpt -w $(GO_FILES)
	cd console && npm run --silent format

screenshots: need-test build ## draw the pictures of docs/screenshots from the demo
	SOBA_SCREENSHOTS=$(CURDIR)/docs/screenshots go test ./test -run TestScreenshots -count 1

docs: ## write what is made from the program: docs/fields.md, docs/commands.md, the schema of descriptions
	go run ./internal/reference docs internal/source/schema.json

faults: need-test ## run every fault of the stand-ins against a list of 500 names, into docs/faults.md
	SOBA_FAULTS=$(CURDIR)/docs/faults.md go test -count=1 -run TestEveryFault ./internal/refresh

clean: ## remove what was built
	rm -rf bin console/node_modules console/openapi.json console/src/lib/schema.d.ts
	find console/dist -mindepth 1 ! -name .keep -delete

.PHONY: need-run need-test
need-run:
	@scripts/need.sh run
need-test:
	@scripts/need.sh test

GO_SOURCES := $(shell git ls-files -co --exclude-standard '*.go' '*.sql' 'sources/*' go.mod go.sum)
CONSOLE_SOURCES := $(shell git ls-files -co --exclude-standard console | grep -v -e '^console/dist/' -e '\.go$$')

bin/soba: $(GO_SOURCES) console/dist/index.html
	go build -o $@ ./cmd/soba

console/node_modules/.package-lock.json: console/package.json console/package-lock.json
	cd console && npm ci --no-audit --no-fund

# The console's client is generated from the description that the service makes of itself.
console/src/lib/schema.d.ts: $(filter internal/httpapi/% internal/wire/%,$(GO_SOURCES)) console/node_modules/.package-lock.json
	go run ./cmd/soba openapi > console/openapi.json
	cd console && npm run --silent types

console/dist/index.html: $(CONSOLE_SOURCES) console/src/lib/schema.d.ts
	cd console && npm run --silent build -- --logLevel warn
