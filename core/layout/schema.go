package layout

import (
	_ "embed"
	"sync"

	"github.com/goccy/go-yaml"
)

//go:embed schema.yaml
var schemaYAML []byte

// Schema is the JSON Schema (draft 2020-12) of layouts, for editors: which
// keys stand where, and which words they take. Compile is stricter.
var Schema = sync.OnceValue(func() []byte {
	b, err := yaml.YAMLToJSON(schemaYAML)
	if err != nil {
		panic(err) // a test reads it
	}
	return b
})
