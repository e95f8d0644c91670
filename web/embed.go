// Package web holds the built interface.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// FS is the built interface; without a build it is empty but for a marker.
func FS() fs.FS {
	f, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder's name is right there
	}
	return f
}
