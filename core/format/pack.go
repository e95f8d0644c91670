package format

import (
	"archive/zip"
	"bytes"
	"fmt"
	"io"
	"strings"

	"excavate/core/limit"
)

// Package is a model in a ZIP of its own: 3MF, packed USD, zipped COLLADA. All
// that is unpacked of it is bounded together, and none of its parts may unpack
// to far more than it has bytes.
type Package struct {
	files []*zip.File
	left  int64
}

// OpenPackage reads a package's directory.
func OpenPackage(data []byte) (*Package, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, Errorf("", "the package is no whole ZIP: %v", err)
	}
	if len(z.File) > limit.Entries {
		return nil, Errorf("", "%d files in the package", len(z.File))
	}
	if len(z.File) == 0 {
		return nil, Errorf("", "the package is empty")
	}
	return &Package{z.File, limit.MemoryBytes}, nil
}

// Names lists the parts in their order.
func (p *Package) Names() []string {
	out := make([]string, len(p.files))
	for i, f := range p.files {
		out[i] = f.Name
	}
	return out
}

// Open unpacks a part. Where none has just this name, capitals do not count.
func (p *Package) Open(name string) ([]byte, error) {
	name = strings.TrimPrefix(name, "/")
	var found *zip.File
	for _, f := range p.files {
		if f.Name == name {
			found = f
			break
		}
		if found == nil && strings.EqualFold(f.Name, name) {
			found = f
		}
	}
	if found == nil {
		return nil, fmt.Errorf("%q is not in the package", name)
	}
	size, packed := found.UncompressedSize64, found.CompressedSize64
	switch {
	case size > uint64(p.left):
		return nil, fmt.Errorf("with %s, which has %d bytes, more than %d bytes are unpacked", name, size, limit.MemoryBytes)
	case size > limit.PartFree && size/limit.PartExpansion > packed:
		return nil, fmt.Errorf("%s unpacks from %d bytes to %d, more than %d times as many; no model does that", name, packed, size, limit.PartExpansion)
	}
	r, err := found.Open()
	if err != nil {
		return nil, err
	}
	defer r.Close()
	// The library ends what unpacks to more than it has declared.
	b := make([]byte, size)
	n, err := io.ReadFull(r, b)
	if err == nil {
		_, err = io.ReadFull(r, make([]byte, 1)) // its checksum is looked at at the end
		if err == io.EOF {
			err = nil
		}
	}
	if p.left -= int64(n); err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	return b, nil
}
