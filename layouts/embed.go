// Package layouts holds the layout documents that ship with Excavate.
package layouts

import "embed"

// FS holds the documents, one YAML file each.
//
//go:embed *.yaml
var FS embed.FS
