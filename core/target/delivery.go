package target

import (
	"archive/zip"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strings"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/format/gltf"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/core/terms"
)

// Manifest says what a delivery is made of. It holds no time and no place on
// a machine, so that the same input, chain and version give the same bytes.
type Manifest struct {
	Format    int              `json:"manifest"` // 1
	Excavate  string           `json:"excavate"` // version
	Asset     string           `json:"asset"`
	File      string           `json:"file"`
	SHA256    string           `json:"sha256"`
	Target    string           `json:"target,omitempty"`
	Terms     *scene.Terms     `json:"terms,omitempty"` // that the asset itself carries
	Sources   []ManifestSource `json:"sources"`
	Chain     *chain.Chain     `json:"chain"`
	Versions  map[string]int   `json:"stepVersions"`
	Rehearsal *ManifestCheck   `json:"rehearsal,omitempty"`
	Notes     []string         `json:"notes"`
}

// ManifestSource is one source that the asset came from.
type ManifestSource struct {
	Name    string      `json:"name"`
	Entries []string    `json:"entries"` // what was taken from it
	SHA256  string      `json:"sha256,omitempty"`
	Terms   scene.Terms `json:"terms"`
	// Rights are what may be done with it, where that is known.
	Rights *terms.Terms `json:"rights,omitempty"`
}

// ManifestCheck is the rehearsal's outcome.
type ManifestCheck struct {
	Stops int `json:"stops"`
	Warns int `json:"warns"`
	Holds int `json:"holds"`
}

// Generator is what written files name as their maker.
func Generator(version string) string { return "Excavate " + version }

// Deliver writes the scene as a GLB. glb is its bytes, notes what the format
// could not carry. A sheet that states a basis is held against the numbers as
// they stand, so they are written so; without one they become glTF's.
func Deliver(s *scene.Scene, sheet *Sheet, version string) (glb []byte, notes []scene.Note, err error) {
	asStands := sheet != nil && sheet.Basis != nil
	glb, notes, err = gltf.Write(s, gltf.Options{Generator: Generator(version), AsStands: asStands})
	if b := s.Basis; asStands && b.Known() && b != geom.GLTF {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("the coordinates are %s and were written as they stand; a glTF reader takes them for %s", b, geom.GLTF)})
	}
	return glb, notes, err
}

// Package puts a delivered file, its manifest and its chain into a zip.
func Package(m Manifest, data []byte) ([]byte, error) {
	text, err := json.MarshalIndent(m, "", "  ")
	if err != nil {
		return nil, err
	}
	doc, err := m.Chain.YAML()
	if err != nil {
		return nil, err
	}
	var buf bytes.Buffer
	z := zip.NewWriter(&buf)
	for _, f := range []struct {
		name string
		data []byte
	}{{m.File, data}, {"manifest.json", append(text, '\n')}, {"chain.yaml", doc}} {
		w, err := z.CreateHeader(&zip.FileHeader{Name: f.name, Method: zip.Deflate})
		if err != nil {
			return nil, fmt.Errorf("package %s: %w", f.name, err)
		}
		if _, err := w.Write(f.data); err != nil {
			return nil, fmt.Errorf("package %s: %w", f.name, err)
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return buf.Bytes(), nil
}

// FileName makes a file name of an asset's name.
func FileName(name, ending string) string {
	s := strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= 'A' && r <= 'Z', r >= '0' && r <= '9', r == '-', r == '_', r == '.':
			return r
		}
		return '_'
	}, name)
	s = strings.Trim(s, "._")
	if s == "" {
		s = "asset"
	}
	if len(s) > 100 {
		s = s[:100]
	}
	return s + ending
}

// NewManifest gathers what a delivery is made of. found is the scene as found,
// origins are the sources that it came from.
func NewManifest(file string, glb []byte, found *scene.Scene, doc *chain.Chain, origins []find.Origin, notes []scene.Note, version string) Manifest {
	sum := sha256.Sum256(glb)
	m := Manifest{Format: 1, Excavate: version, Asset: found.Name, File: file, SHA256: hex.EncodeToString(sum[:]), Sources: []ManifestSource{}, Chain: doc, Versions: map[string]int{}, Notes: []string{}}
	if found.Terms != (scene.Terms{}) {
		m.Terms = &found.Terms
	}
	for _, o := range origins {
		ms := ManifestSource{Name: o.Source, Entries: append([]string{}, o.Entries...), SHA256: o.SHA256, Rights: o.Rights, Terms: scene.Terms{Text: o.Text}}
		if o.Rights != nil {
			ms.Terms.Owner, ms.Terms.Licence = o.Rights.Owner, o.Rights.Licence
		}
		m.Sources = append(m.Sources, ms)
	}
	for _, st := range doc.Steps {
		if k, err := step.Get(st.Step); err == nil {
			m.Versions[k.Name] = k.Version
		}
	}
	for _, n := range append(append([]scene.Note{}, found.Notes...), notes...) {
		m.Notes = append(m.Notes, n.Text)
	}
	return m
}
