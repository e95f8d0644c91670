// Package contract holds the contract between the server and its interface.
package contract

import _ "embed"

// OpenAPI is the contract as a document of OpenAPI 3.0.
//
//go:embed openapi.yaml
var OpenAPI []byte
