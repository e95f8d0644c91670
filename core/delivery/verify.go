package delivery

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"path"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/find"
	"excavate/core/limit"
	"excavate/core/scene"
	"excavate/core/source"
	"excavate/core/step"
	"excavate/core/target"
)

// Opened is a delivery that was read.
type Opened struct {
	Manifest Manifest
	Folder   string            // in which the manifest lies
	Files    map[string][]byte // all that are its own, by their paths in the package
}

// mostFiles is how many files a package may have.
const mostFiles = 20_000

// Open reads a package of one delivery or of several, each in a folder with its
// own manifest. What it unpacks to is bounded. A file that lies in no delivery's
// folder is told as a fault of the first.
func Open(data []byte) ([]*Opened, error) {
	files, err := unpacked(data)
	if err != nil {
		return nil, err
	}
	manifests := slices.DeleteFunc(slices.Collect(maps.Keys(files)), func(p string) bool {
		return path.Base(p) != manifestName
	})
	slices.SortFunc(manifests, func(a, b string) int { // those above first
		return cmp.Or(strings.Count(a, "/")-strings.Count(b, "/"), strings.Compare(a, b))
	})
	var out []*Opened
	for _, p := range manifests {
		o := &Opened{Folder: path.Dir(p), Files: map[string][]byte{}}
		if o.Folder == "." {
			o.Folder = ""
		}
		if slices.ContainsFunc(out, func(above *Opened) bool { return above.holds(p) }) {
			continue // a file of a delivery's that has this name
		}
		if err := json.Unmarshal(files[p], &o.Manifest); err != nil {
			return nil, fmt.Errorf("%s: %w", p, err)
		}
		if f := o.Manifest.Format; f != 1 && f != 2 {
			return nil, fmt.Errorf("%s is of version %d; this Excavate knows 1 and 2", p, f)
		}
		out = append(out, o)
	}
	if out == nil {
		return nil, fmt.Errorf("it has no manifest.json: it is no delivery of Excavate")
	}
	slices.SortFunc(out, func(a, b *Opened) int { return strings.Compare(a.Folder, b.Folder) })
	for p, b := range files {
		k := max(slices.IndexFunc(out, func(o *Opened) bool { return o.holds(p) }), 0)
		out[k].Files[p] = b
	}
	return out, nil
}

// holds tells whether a path lies in the delivery's folder.
func (o *Opened) holds(p string) bool { return o.Folder == "" || strings.HasPrefix(p, o.Folder+"/") }

// in is a file of the delivery's folder.
func (o *Opened) in(name string) string { return path.Join(o.Folder, name) }

// unpacked are the files of a package.
func unpacked(data []byte) (map[string][]byte, error) {
	z, err := zip.NewReader(bytes.NewReader(data), int64(len(data)))
	if err != nil {
		return nil, fmt.Errorf("it is no package: %w", err)
	}
	if len(z.File) > mostFiles {
		return nil, fmt.Errorf("it has %d files, at most %d", len(z.File), mostFiles)
	}
	files := map[string][]byte{}
	left := int64(limit.MemoryBytes)
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		if !local(f.Name) {
			return nil, fmt.Errorf("%q leads out of the package", f.Name)
		}
		if _, twice := files[f.Name]; twice {
			return nil, fmt.Errorf("%s stands in it twice", f.Name)
		}
		r, err := f.Open()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		b, err := io.ReadAll(io.LimitReader(r, left+1))
		r.Close()
		if err != nil {
			return nil, fmt.Errorf("%s: %w", f.Name, err)
		}
		if left -= int64(len(b)); left < 0 {
			return nil, fmt.Errorf("it unpacks to more than %d bytes", int64(limit.MemoryBytes))
		}
		files[f.Name] = b
	}
	return files, nil
}

func local(p string) bool {
	return p != "" && !strings.HasPrefix(p, "/") && !strings.ContainsAny(p, "\\:\x00") &&
		!slices.Contains(strings.Split(p, "/"), "..")
}

// Fault is something in which a delivery is not what its manifest says.
type Fault struct {
	Path string `json:"path"`
	Says string `json:"says"`
}

// Faults holds every file against the manifest's digests.
func (o *Opened) Faults() (out []Fault) {
	listed := map[string]bool{o.in(manifestName): true, o.in(receivedName): true}
	files := o.Manifest.Files
	if o.Manifest.Format == 1 {
		files = []ManifestFile{{Path: o.Manifest.File, SHA256: o.Manifest.SHA256, Size: len(o.Files[o.Manifest.File])}}
		listed["chain.yaml"] = true
	}
	for _, f := range files {
		listed[f.Path] = true
		b, ok := o.Files[f.Path]
		switch {
		case !ok:
			out = append(out, Fault{f.Path, "it is missing"})
		case len(b) != f.Size:
			out = append(out, Fault{f.Path, fmt.Sprintf("it has %d bytes, the manifest says %d", len(b), f.Size)})
		case digest(b) != f.SHA256:
			out = append(out, Fault{f.Path, "its bytes are others than when it was made"})
		}
	}
	var more []string
	for p := range o.Files {
		if !listed[p] {
			more = append(more, p)
		}
	}
	slices.Sort(more)
	for _, p := range more {
		out = append(out, Fault{p, "it is not in the manifest"})
	}
	return out
}

// Remade is what came of making a delivery again.
type Remade struct {
	Same   bool     `json:"same"`
	Differ []Fault  `json:"differ"`
	Notes  []string `json:"notes"` // versions that are others, sources that are
}

// Sources are what a delivery is made again from.
type Sources struct {
	Lib    *find.Library
	Stack  source.Stack
	Finder find.Finder  // finds in them what the asset names
	Beyond chain.Beyond // what steps take from outside the scene; nil: from the sources
}

// Run decodes an entry as a delivery's asset was, and runs the delivery's chain
// on it. used is told of everything that was taken from the sources; it may be
// nil.
func (from *Sources) Run(ctx context.Context, in *Input, doc *chain.Chain, hit source.Hit, data []byte,
	used func(source.Hit)) (found *scene.Scene, bands []chain.Band, err error) {
	found, _, err = from.Lib.Decode(ctx, find.Input{Name: hit.Path(), Data: data, From: hit.Source.Label,
		Finder: from.Finder, Readings: in.Readings, Used: used})
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", in.Entry, err)
	}
	if in.Basis != nil {
		found.Basis = *in.Basis
	}
	beyond := from.Beyond
	if beyond == nil {
		beyond = &find.Beyond{Lib: from.Lib, Finder: from.Finder, Stack: from.Stack}
	}
	if bands, err = chain.Run(ctx, in.SHA256, found, doc, beyond, nil, nil); err != nil {
		return nil, nil, err
	}
	if b := chain.Failed(bands); b != nil {
		return nil, nil, fmt.Errorf("the chain: %w", b.Err)
	}
	return found, bands, nil
}

// Again makes the delivery again from sources and compares byte by byte.
func (k *Maker) Again(ctx context.Context, o *Opened, from Sources) (*Remade, error) {
	m := &o.Manifest
	if m.Input == nil {
		return nil, fmt.Errorf("the manifest does not say what the asset was decoded from: it cannot be made again")
	}
	out := &Remade{Differ: []Fault{}, Notes: []string{}}
	if m.Excavate != k.Version {
		out.Notes = append(out.Notes, fmt.Sprintf("it was made by Excavate %s; this is %s", m.Excavate, k.Version))
	}
	for _, st := range m.Chain.Steps {
		if x, err := step.Get(st.Step); err == nil && m.Versions[st.Step] != 0 && m.Versions[st.Step] != x.Version {
			out.Notes = append(out.Notes, fmt.Sprintf("step %s was version %d and is %d", st.Step,
				m.Versions[st.Step], x.Version))
		}
	}
	data, hit, err := InputOf(m.Input, from.Stack)
	if err != nil {
		return nil, err
	}
	if digest(data) != m.Input.SHA256 {
		out.Notes = append(out.Notes, fmt.Sprintf("%s has other bytes than when the delivery was made", m.Input.Entry))
	}
	_, bands, err := from.Run(ctx, m.Input, m.Chain, hit, data, nil)
	if err != nil {
		return nil, err
	}
	var sheet *target.Sheet
	if doc := o.Files[o.in("target.yaml")]; doc != nil {
		if sheet, err = target.Parse(doc); err != nil {
			return nil, err
		}
	}
	made, err := k.Make(ctx, chain.Last(bands).Scene, sheet, m.Options)
	if err != nil {
		return nil, err
	}
	for _, f := range made.Files {
		was, ok := o.Files[f.Path]
		switch {
		case !ok:
			out.Differ = append(out.Differ, Fault{f.Path, "it was not made then"})
		case !bytes.Equal(was, f.Data):
			out.Differ = append(out.Differ, Fault{f.Path, firstDifference(was, f.Data)})
		}
	}
	for _, f := range m.Files {
		if f.Kind != "chain" && f.Kind != "sheet" && f.Kind != "layout" && f.Kind != "permission" &&
			!slices.ContainsFunc(made.Files, func(x File) bool { return x.Path == f.Path }) {
			out.Differ = append(out.Differ, Fault{f.Path, "it is not made any more"})
		}
	}
	out.Same = len(out.Differ) == 0
	return out, nil
}

func firstDifference(a, b []byte) string {
	n := min(len(a), len(b))
	for i := range n {
		if a[i] != b[i] {
			return fmt.Sprintf("other bytes from offset %d on (%d bytes then, %d now)", i, len(a), len(b))
		}
	}
	return fmt.Sprintf("%d bytes then, %d now", len(a), len(b))
}

// InputOf finds the entry that an asset was decoded from: by its path, else by
// its name, those with the same bytes first.
func InputOf(in *Input, stack source.Stack) (data []byte, hit source.Hit, err error) {
	var found []source.Hit
	for _, s := range stack {
		if i := s.Lookup(in.Entry); i >= 0 {
			found = append(found, source.Hit{Source: s, Entry: i})
		}
	}
	for _, s := range stack {
		for i := range s.Entries() {
			if p := s.Entries()[i].Path; p != in.Entry && path.Base(p) == path.Base(in.Entry) {
				found = append(found, source.Hit{Source: s, Entry: i})
			}
		}
	}
	for _, h := range found {
		b, err := h.Source.Read(h.Entry)
		if err != nil {
			continue
		}
		if digest(b) == in.SHA256 {
			return b, h, nil
		}
		if data == nil {
			hit, data = h, b
		}
	}
	if data == nil {
		return nil, hit, fmt.Errorf("the sources hold no %s", in.Entry)
	}
	return data, hit, nil
}
