# make demo      installs what is missing and starts Excavate with demo data
# make test      installs what is missing and runs every test
# make build     bin/excavate with the interface inside
# make style     Prettier and ESLint over web/, gofmt and vet over the rest; make test begins with it
# make lint      style, staticcheck, vet for macOS and Windows, and whether generated code is current
# make bench     every benchmark
# make fuzz      each fuzz target for FUZZTIME: so many inputs (20000x) or so long (10s)
# make mutate    which turned operators of PKG no test notices: PKG=./core/step N=30
# make foretell  holds rehearsals against the simulated receivers, over 200 spoilt assets
# make race      the race detector over what runs side by side
# make release   dist/: archives of the command line for Linux, macOS and Windows, with checksums
# make generate  server and client types from api/openapi.yaml, queries from SQL, the table of formats
# make screenshots  docs/screenshots from the demo data

SHELL := bash
FUZZTIME ?= 50000x
WEB := $(shell find web/src web/index.html web/vite.config.ts web/tsconfig.json web/package-lock.json -type f 2>/dev/null)

.PHONY: demo test style lint build bench fuzz mutate race release foretell generate screenshots
.PHONY: setup setup-test go-build

demo: build
	exec bin/excavate demo

test: setup-test web/dist/index.html style
	go test $$(go list ./... | grep -v /e2e$$) -timeout 18m
	@# the browser by itself: it and the other tests would starve each other
	go test ./e2e -timeout 25m
	$(MAKE) --no-print-directory fuzz FUZZTIME=4000x

# What takes seconds, and what takes minutes the first time: the tools are built.
style: setup
	cd web && npm run --silent lint
	@odd="$$(gofmt -l api cmd core e2e internal scripts standin)"; test -z "$$odd" || { echo "$$odd"; exit 1; }
	go vet ./...

GENERATED = internal/api/contract.gen.go internal/store/db/* web/src/api/schema.d.ts docs/formats.md \
	internal/notices/notices.txt

lint: style
	go run honnef.co/go/tools/cmd/staticcheck@v0.7.0 ./...
	GOOS=darwin go vet ./core/... ./cmd/...
	GOOS=windows go vet ./core/... ./cmd/...
	@was="$$(cat $(GENERATED) | sha256sum)"; $(MAKE) --no-print-directory generate || exit 1; \
	test "$$was" = "$$(cat $(GENERATED) | sha256sum)" || \
	{ echo "generated code was not what make generate gives; it is now"; exit 1; }

build: setup web/dist/index.html go-build

go-build:
	go build -o bin/excavate ./cmd/excavate
	go build -o bin/standin-console ./standin/console/serve
	go build -o bin/standin-exchange ./standin/exchange/serve
	go build -o bin/standin-engine ./standin/engine/serve
	go build -o bin/standin-film ./standin/film/serve

setup:
	@scripts/setup.sh demo

setup-test:
	@scripts/setup.sh test

web/dist/index.html: $(WEB) | setup
	cd web && npm run --silent build
	@touch web/dist/.gitkeep web/dist/index.html

bench: setup
	go test ./... -run '^$$' -bench . -benchtime 1s

# A number of inputs by default, not a time: when a time ends, go test may take its
# own deadline for a failure of the target ("context deadline exceeded"). timeout
# stops an input that hangs. Making an interesting input smaller may take a minute
# each: it gets a second.
FUZZ = timeout 10m go test -run '^$$' -fuzztime $(FUZZTIME) -fuzzminimizetime 1s

fuzz:
	$(FUZZ) ./core/layout -fuzz FuzzRead
	$(FUZZ) ./core/layout -fuzz FuzzCompile
	$(FUZZ) ./core/format/gltf -fuzz FuzzRead
	$(FUZZ) ./core/format/gltf/meshopt -fuzz FuzzDecode
	$(FUZZ) ./core/format -fuzz FuzzFlat
	$(FUZZ) ./core/format -fuzz FuzzPackages
	$(FUZZ) ./core/format/dae -fuzz FuzzRead
	$(FUZZ) ./core/format/bvh -fuzz FuzzRead
	$(FUZZ) ./core/format/brush -fuzz FuzzRead
	$(FUZZ) ./core/format/x3d -fuzz FuzzRead
	$(FUZZ) ./core/document -fuzz FuzzRead
	$(FUZZ) ./core/source -fuzz FuzzOpen
	$(FUZZ) ./core/source -fuzz FuzzSevenHeader
	$(FUZZ) ./core/codec -fuzz FuzzFamilies
	$(FUZZ) ./core/pixel -fuzz FuzzDecode
	$(FUZZ) ./core/pixel -fuzz FuzzContainer
	$(FUZZ) ./core/trial -fuzz FuzzTrials
	$(FUZZ) ./core/naming -fuzz FuzzParse
	$(FUZZ) ./core/terms -fuzz FuzzRead
	$(FUZZ) ./core/find -fuzz FuzzText
	$(FUZZ) ./core/chain -fuzz FuzzParse
	$(FUZZ) ./core/assembly -fuzz FuzzParse
	$(FUZZ) ./core/pick -fuzz FuzzFits
	$(FUZZ) ./core/pick -fuzz FuzzCondition
	$(FUZZ) ./core/target -fuzz FuzzSheet
	$(FUZZ) ./core/delivery -fuzz FuzzOpen
	$(FUZZ) ./core/recipe -fuzz FuzzParse
	$(FUZZ) ./standin/receiver -fuzz FuzzModel

PKG = ./core/step
N = 30

mutate:
	go run ./scripts/mutate -n $(N) $(PKG)

# The race detector over what runs side by side: it takes several times as long.
race: setup-test
	CGO_ENABLED=1 go test -race -timeout 30m ./internal/work ./internal/store ./internal/blob ./internal/project \
		./core/source ./core/chain ./core/extract ./core/parallel

release: build
	go run ./scripts/release -o dist

foretell: setup
	go run ./scripts/foretell

generate:
	go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 -config api/oapi.yaml api/openapi.yaml
	go run github.com/sqlc-dev/sqlc/cmd/sqlc@v1.31.1 generate
	cd web && npm run --silent types
	go run ./scripts/notices
	go run ./cmd/excavate formats --kept > docs/.kept
	awk 'FNR == NR { t = t $$0 "\n"; next } /<!-- kept:end/ { k = 0 } !k { print } /<!-- kept -->/ { printf "%s", t; k = 1 }' docs/.kept docs/formats.md > docs/.formats && mv docs/.formats docs/formats.md; rm docs/.kept

screenshots: setup-test web/dist/index.html
	go run ./e2e/shots docs/screenshots
