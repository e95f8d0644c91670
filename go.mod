module excavate

go 1.26.0

require (
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/goccy/go-yaml v1.19.2
	github.com/invopop/jsonschema v0.14.0
	github.com/klauspost/compress v1.20.3
	github.com/pierrec/lz4/v4 v4.1.33
	github.com/spf13/cobra v1.10.2
	go.starlark.net v0.0.0-20260908191801-89a6a09411d5
	golang.org/x/image v0.47.0
)

require (
	github.com/bahlo/generic-list-go v0.2.0 // indirect
	github.com/buger/jsonparser v1.1.2 // indirect
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/pb33f/ordered-map/v2 v2.3.1 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
	github.com/stretchr/testify v1.12.1 // indirect
	go.yaml.in/yaml/v4 v4.0.0-rc.2 // indirect
	golang.org/x/sys v0.49.0 // indirect
	google.golang.org/protobuf v1.36.12 // indirect
)
