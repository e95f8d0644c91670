// Package targets holds the target sheets that ship with Excavate.
package targets

import "embed"

// FS holds the sheets, one YAML file each.
//
//go:embed *.yaml
var FS embed.FS
