package delivery

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"path"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/step"
	"excavate/core/target"
	"excavate/core/terms"
)

// The files of a delivery that are about it.
const (
	manifestName = "manifest.json"
	receivedName = "received.json" // what a receiver said of it; it comes later and is in no manifest
)

// Manifest says what a delivery is made of. It holds no time and no place on
// a machine, so that the same input, chain and version give the same bytes.
type Manifest struct {
	Format    int              `json:"manifest"` // 2
	Excavate  string           `json:"excavate"` // version
	Asset     string           `json:"asset"`
	File      string           `json:"file"` // the model
	SHA256    string           `json:"sha256"`
	Files     []ManifestFile   `json:"files"` // all but the manifest itself
	Target    string           `json:"target,omitempty"`
	Purpose   terms.Purpose    `json:"purpose,omitempty"`
	Terms     *scene.Terms     `json:"terms,omitempty"` // that the asset itself carries
	Sources   []ManifestSource `json:"sources"`
	Input     *Input           `json:"input,omitempty"`
	Options   Options          `json:"options"`
	Chain     *chain.Chain     `json:"chain"`
	Versions  map[string]int   `json:"stepVersions"`
	Mended    []target.Deed    `json:"mended,omitempty"`
	Rehearsal *Check           `json:"rehearsal,omitempty"`
	Findings  []Foretold       `json:"findings,omitempty"` // what the rehearsal foretells
	Held      []string         `json:"held,omitempty"`     // rules that hold
	Again     []string         `json:"usedAgain,omitempty"`
	Search    *Search          `json:"search,omitempty"`
	Notes     []string         `json:"notes"`
}

// ManifestFile is a file of the delivery.
type ManifestFile struct {
	Path   string `json:"path"`
	Kind   string `json:"kind"`
	Size   int    `json:"size"`
	SHA256 string `json:"sha256"`
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

// Input is what the asset was decoded from, and how, so that it can be again.
type Input struct {
	Entry    string            `json:"entry"`
	SHA256   string            `json:"sha256"` // of the entry's bytes
	Readings map[string]string `json:"readings,omitempty"`
	Binds    map[string]string `json:"binds,omitempty"`
	// Basis is what the porter decided on; nil is what the file declares.
	Basis *geom.Basis `json:"basis,omitempty"`
}

// Check is the rehearsal's outcome.
type Check struct {
	Stops int `json:"stops"`
	Warns int `json:"warns"`
	Holds int `json:"holds"`
}

// Foretold is a finding that stood when the delivery was made.
type Foretold struct {
	Rule     string          `json:"rule"`
	Severity target.Severity `json:"severity"`
	Title    string          `json:"title"`
	Where    string          `json:"where,omitempty"`
}

// Search is the line that the target's search path needs.
type Search struct {
	File string `json:"file"`
	Line string `json:"line"`
}

// Of is what a delivery is made of, for its manifest.
type Of struct {
	Found    *scene.Scene // the asset as found
	Chain    *chain.Chain
	Origins  []find.Origin
	Sheet    *target.Sheet
	SheetDoc []byte // the sheet's text, which travels along
	Findings []target.Finding
	Mended   []target.Deed
	Purpose  terms.Purpose
	Input    *Input
	Options  Options
	Layouts  []File // the porter's own, by their names
}

// Whole are the files of a delivery with its manifest, chain and sheet.
func (k *Maker) Whole(made *Made, of Of) ([]File, *Manifest, error) {
	doc, err := of.Chain.YAML()
	if err != nil {
		return nil, nil, err
	}
	in := func(name string) string { return path.Join(made.Folder, name) }
	files := append([]File{}, made.Files...)
	files = append(files, File{in("chain.yaml"), "chain", doc})
	if of.SheetDoc != nil {
		files = append(files, File{in("target.yaml"), "sheet", of.SheetDoc})
	}
	for _, l := range of.Layouts {
		files = append(files, File{in("layouts/" + l.Path + ".yaml"), "layout", l.Data})
	}
	files = append(files, permissions(of.Origins, in)...)
	m := k.manifest(made, files, of)
	text, err := m.JSON()
	if err != nil {
		return nil, nil, err
	}
	return append(files, File{in(manifestName), "manifest", text}), m, nil
}

// permissions are the letters by which something is allowed, each once.
func permissions(origins []find.Origin, in func(string) string) (out []File) {
	seen := map[string]bool{}
	for _, o := range origins {
		if o.Rights == nil || o.Rights.Permission == nil {
			continue
		}
		if p := o.Rights.Permission; p.Data != nil && !seen[p.SHA256] {
			seen[p.SHA256] = true
			out = append(out, File{in("permissions/" + p.SHA256[:8] + "_" + FileName(p.File, "")), "permission",
				p.Data})
		}
	}
	return out
}

// JSON is the manifest as it is written.
func (m *Manifest) JSON() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(m)
	return b.Bytes(), err
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

func (k *Maker) manifest(made *Made, files []File, of Of) *Manifest {
	m := &Manifest{Format: 2, Excavate: k.Version, Asset: of.Found.Name, File: files[0].Path,
		SHA256:  digest(files[0].Data),
		Purpose: of.Purpose, Sources: []ManifestSource{}, Input: of.Input,
		Options: of.Options, Chain: of.Chain, Versions: map[string]int{},
		Mended: of.Mended, Again: made.Again, Notes: []string{}}
	for _, f := range files {
		m.Files = append(m.Files, ManifestFile{f.Path, f.Kind, len(f.Data), digest(f.Data)})
	}
	if t := of.Found.Terms; t != (scene.Terms{}) {
		m.Terms = &t
	}
	for _, o := range of.Origins {
		ms := ManifestSource{Name: o.Source, Entries: append([]string{}, o.Entries...), SHA256: o.SHA256,
			Rights: o.Rights, Terms: scene.Terms{Text: o.Text}}
		if o.Rights != nil {
			ms.Terms.Owner, ms.Terms.Licence = o.Rights.Owner, o.Rights.Licence
		}
		m.Sources = append(m.Sources, ms)
	}
	for _, st := range of.Chain.Steps {
		if k, err := step.Get(st.Step); err == nil {
			m.Versions[k.Name] = k.Version
		}
	}
	if of.Sheet != nil {
		m.Target = of.Sheet.Name
		stops, warns, holds := target.Count(of.Findings)
		m.Rehearsal = &Check{stops, warns, holds}
		for _, f := range of.Findings {
			if f.Severity != target.Holds {
				m.Findings = append(m.Findings, Foretold{f.Rule, f.Severity, f.Title, f.Where})
			} else {
				m.Held = append(m.Held, f.Rule)
			}
		}
	}
	if made.SearchLine != "" {
		m.Search = &Search{made.SearchFile, made.SearchLine}
	}
	for _, n := range append(append([]scene.Note{}, of.Found.Notes...), made.Notes...) {
		m.Notes = append(m.Notes, n.Text)
	}
	return m
}

// Refusals are the sources whose terms do not allow a purpose.
func Refusals(origins []find.Origin, p terms.Purpose) (out []terms.Refusal) {
	for _, o := range origins {
		if r := terms.Refuses(o.Source, o.Rights, o.Text, p); r != nil {
			out = append(out, *r)
		}
	}
	return out
}
