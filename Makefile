# make demo      installs what is missing and starts Excavate with demo data
# make test      installs what is missing and runs every test
# make build     bin/excavate with the interface inside
# make bench     every benchmark
# make fuzz      each fuzz target for FUZZTIME
# make generate  server and client types from api/openapi.yaml, queries from SQL
# make screenshots  docs/screenshots from the demo data

SHELL := bash
FUZZTIME ?= 10s
WEB := $(shell find web/src web/index.html web/vite.config.ts web/tsconfig.json web/package-lock.json -type f 2>/dev/null)

.PHONY: demo test build bench fuzz generate screenshots setup setup-test go-build

demo: build
	exec bin/excavate demo

test: setup-test web/dist/index.html
	go vet ./...
	go test $$(go list ./... | grep -v /e2e$$) -timeout 12m
	@# the browser by itself: it and the other tests would starve each other
	go test ./e2e -timeout 12m
	$(MAKE) --no-print-directory fuzz FUZZTIME=5s

build: setup web/dist/index.html go-build

go-build:
	go build -o bin/excavate ./cmd/excavate
	go build -o bin/standin-console ./standin/console/serve
	go build -o bin/standin-exchange ./standin/exchange/serve

setup:
	@scripts/setup.sh demo

setup-test:
	@scripts/setup.sh test

web/dist/index.html: $(WEB) | setup
	cd web && npm run --silent build
	@touch web/dist/.gitkeep web/dist/index.html

bench: setup
	go test ./... -run '^$$' -bench . -benchtime 1s

fuzz:
	go test ./core/layout -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME)
	go test ./core/layout -run '^$$' -fuzz FuzzCompile -fuzztime $(FUZZTIME)
	go test ./core/format/gltf -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME)
	go test ./core/source -run '^$$' -fuzz FuzzOpen -fuzztime $(FUZZTIME)
	go test ./core/codec -run '^$$' -fuzz FuzzFamilies -fuzztime $(FUZZTIME)
	go test ./core/pixel -run '^$$' -fuzz FuzzDecode -fuzztime $(FUZZTIME)
	go test ./core/trial -run '^$$' -fuzz FuzzTrials -fuzztime $(FUZZTIME)
	go test ./core/naming -run '^$$' -fuzz FuzzParse -fuzztime $(FUZZTIME)
	go test ./core/terms -run '^$$' -fuzz FuzzRead -fuzztime $(FUZZTIME)
	go test ./core/find -run '^$$' -fuzz FuzzText -fuzztime $(FUZZTIME)
	go test ./core/chain -run '^$$' -fuzz FuzzParse -fuzztime $(FUZZTIME)

generate:
	go run github.com/oapi-codegen/oapi-codegen/v2/cmd/oapi-codegen@v2.8.2 -config api/oapi.yaml api/openapi.yaml
	go run github.com/sqlc-dev/sqlc/cmd/sqlc@v1.31.1 generate
	cd web && npm run --silent types

screenshots: setup-test web/dist/index.html
	go run ./e2e/shots docs/screenshots
