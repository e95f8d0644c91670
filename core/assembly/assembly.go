// Package assembly puts many assets into one: tiles of a map by their own
// coordinates, models by a placement list. A document names the assets and
// where each stands; equal meshes, materials and pictures become one, and of an
// asset that stands in many places there are nodes, not copies.
//
//	assembly: Sedgewater at low tide
//	basis: {up: +Y, front: +Z, handedness: right, unit: 1}
//	entries:
//	  - from: tiles/north.glb
//	  - from: boats/punt.glb
//	    at: [4, 0, 2]
//	    turn: 30
//	    scale: 1.2
//	    name: punt at the landing
package assembly

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"path"
	"slices"
	"strings"

	"excavate/core/document"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// Document is an assembly.
type Document struct {
	Name    string
	Basis   geom.Basis // of all; empty is that of the first entry
	Entries []Entry
}

// Entry is one asset in its place.
type Entry struct {
	From  string     // its path, in the search order or beside the document
	At    geom.Vec3  // metres along the assembly's axes
	Turn  float64    // degrees about up, counter-clockwise seen from above
	Quat  *geom.Quat // instead of a turn: x, y, z, w
	Scale geom.Vec3
	Name  string
}

// Is tells whether a text is an assembly by its first bytes: the key stands
// first, after comments.
func Is(head []byte) bool {
	for line := range bytes.Lines(head) {
		line = bytes.TrimSpace(bytes.TrimPrefix(line, []byte("\xef\xbb\xbf")))
		if len(line) == 0 || line[0] == '#' || bytes.Equal(line, []byte("---")) {
			continue
		}
		return bytes.HasPrefix(line, []byte("assembly:"))
	}
	return false
}

// Parse reads a document. What is wrong is told with its line and column.
func Parse(text []byte) (*Document, error) {
	n, err := document.Parse(text)
	if err != nil {
		return nil, fmt.Errorf("assembly: %w", err)
	}
	d, err := read(n)
	if err != nil {
		return nil, fmt.Errorf("assembly: %w", err)
	}
	return d, nil
}

func read(n *document.Node) (*Document, error) {
	var y struct {
		Assembly string           `yaml:"assembly"`
		Basis    *document.Node   `yaml:"basis"`
		Entries  []*document.Node `yaml:"entries"`
	}
	if err := n.Decode(&y); err != nil {
		return nil, err
	}
	if len(y.Entries) == 0 {
		return nil, n.Errorf("it has no entries; list them under the key entries, each with from")
	}
	if len(y.Entries) >= limit.Nodes {
		return nil, n.Errorf("%d entries, at most %d", len(y.Entries), limit.Nodes-1)
	}
	d := &Document{Name: y.Assembly}
	if !y.Basis.Empty() {
		var b struct {
			Up    string  `yaml:"up"`
			Front string  `yaml:"front"`
			Hand  string  `yaml:"handedness"`
			Unit  float64 `yaml:"unit"`
		}
		if err := y.Basis.Decode(&b); err != nil {
			return nil, err
		}
		var err error
		if d.Basis.Up, err = geom.ParseAxis(b.Up); err == nil {
			d.Basis.Front, err = geom.ParseAxis(b.Front)
		}
		d.Basis.Handed, d.Basis.MetresPerUnit = geom.Handedness(b.Hand), b.Unit
		if err == nil {
			err = d.Basis.Validate()
		}
		if err != nil {
			return nil, y.Basis.Errorf("%v", err)
		}
		if !d.Basis.Known() {
			return nil, y.Basis.Errorf("a basis has up, front, handedness and unit (metres in one)")
		}
	}
	for _, e := range y.Entries {
		x, err := readEntry(e)
		if err != nil {
			return nil, err
		}
		d.Entries = append(d.Entries, x)
	}
	return d, nil
}

func readEntry(n *document.Node) (Entry, error) {
	var y struct {
		From     string         `yaml:"from"`
		At       []float64      `yaml:"at"`
		Turn     float64        `yaml:"turn"`
		Rotation []float64      `yaml:"rotation"`
		Scale    *document.Node `yaml:"scale"`
		Name     string         `yaml:"name"`
	}
	if err := n.Decode(&y); err != nil {
		return Entry{}, err
	}
	e := Entry{From: y.From, Turn: y.Turn, Name: y.Name, Scale: geom.Vec3{1, 1, 1}}
	fits := func(list []float64, many int) bool {
		for _, x := range list {
			if math.IsNaN(x) || math.Abs(x) > 1e9 {
				return false
			}
		}
		return len(list) == 0 || len(list) == many
	}
	switch {
	case y.From == "":
		return e, n.Errorf("an entry has the key from: the path of its asset")
	case !fits(y.At, 3) || !fits([]float64{y.Turn}, 1):
		return e, n.Errorf("at is three numbers: metres along x, y and z; turn is degrees")
	case !fits(y.Rotation, 4):
		return e, n.Errorf("rotation is a quaternion: x, y, z and w")
	}
	copy(e.At[:], y.At)
	if len(y.Rotation) == 4 {
		q := geom.Quat(y.Rotation)
		if l := q[0]*q[0] + q[1]*q[1] + q[2]*q[2] + q[3]*q[3]; l < 1e-12 {
			return e, n.Errorf("a rotation of length 0 turns nowhere")
		}
		q = q.Norm()
		e.Quat = &q
	}
	if y.Scale.Empty() {
		return e, nil
	}
	if f, ok := y.Scale.Float(); ok {
		e.Scale = geom.Vec3{f, f, f}
	} else {
		var list []float64
		if err := y.Scale.Decode(&list); err != nil || len(list) != 3 {
			return e, y.Scale.Errorf("scale is a number, or three")
		}
		e.Scale = geom.Vec3(list)
	}
	for _, s := range e.Scale {
		if !(math.Abs(s) > 1e-9 && math.Abs(s) < 1e9) {
			return e, y.Scale.Errorf("a scale of %g leaves nothing to see", s)
		}
	}
	return e, nil
}

// Build puts the assets together. asset decodes one; it is asked once for each
// path. Entries whose asset cannot be had are notes, unless none can.
func (d *Document) Build(ctx context.Context, asset func(from string) (*scene.Scene, error)) (*scene.Scene, error) {
	b := builder{d: d, got: map[string]*scene.Scene{}, failed: map[string]error{}}
	var firstFault error
	for _, e := range d.Entries {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		o, err := b.asset(e.From, asset)
		if err != nil {
			if firstFault == nil {
				firstFault = err
			}
			continue
		}
		if err := b.place(e, o); err != nil {
			return nil, err
		}
	}
	if b.g == nil {
		return nil, fmt.Errorf("none of the assembly's entries can be had: %w", firstFault)
	}
	out := b.g.Scene()
	out.Terms = b.terms()
	for _, from := range b.missing {
		out.Notes = append(out.Notes, scene.Note{Text: fmt.Sprintf("%s is left out: %v", from, b.failed[from]), Where: from, Loss: true})
	}
	if b.avatars > 0 {
		out.Notes = append(out.Notes, scene.Note{Text: fmt.Sprintf("what makes %d assets avatars is left out: expressions, springs and licence fields", b.avatars), Loss: true})
	}
	return out, nil
}

type builder struct {
	d       *Document
	g       *scene.Gathering
	basis   geom.Basis
	got     map[string]*scene.Scene
	failed  map[string]error
	missing []string
	avatars int
	nodes   int
}

// asset is an asset in the assembly's basis, which the first one gives where
// the document does not.
func (b *builder) asset(from string, get func(string) (*scene.Scene, error)) (*scene.Scene, error) {
	if s, ok := b.got[from]; ok {
		return s, nil
	}
	if err, ok := b.failed[from]; ok {
		return nil, err
	}
	s, err := get(from)
	if err == nil && b.g == nil {
		if b.basis = b.d.Basis; !b.basis.Known() {
			b.basis = s.Basis.Or(geom.GLTF)
		}
		b.g = scene.Gather(&scene.Scene{Name: b.d.Name, Basis: b.basis})
	}
	if err == nil {
		full := *s
		full.Basis = s.Basis.Completed(b.basis)
		s, err = full.InBasis(b.basis)
	}
	if err != nil {
		b.failed[from] = err
		b.missing = append(b.missing, from)
		return nil, err
	}
	if s.Avatar != nil {
		b.avatars++
	}
	b.got[from] = s
	return s, nil
}

// terms are those of all assets: their own words where they agree, else whose
// they are, one after the other.
func (b *builder) terms() (t scene.Terms) {
	var owners, licences []string
	var first *scene.Terms
	same := true
	for _, e := range b.d.Entries {
		s := b.got[e.From]
		if s == nil {
			continue
		}
		if first == nil {
			first = &s.Terms
		}
		same = same && s.Terms == *first
		if o := s.Terms.Owner; o != "" && !slices.Contains(owners, o) {
			owners = append(owners, o)
		}
		if l := s.Terms.Licence; l != "" && !slices.Contains(licences, l) {
			licences = append(licences, l)
		}
	}
	if same && first != nil {
		return *first
	}
	return scene.Terms{Owner: strings.Join(owners, "; "), Licence: strings.Join(licences, "; ")}
}

func (b *builder) place(e Entry, o *scene.Scene) error {
	if b.nodes += len(o.Nodes) + 1; b.nodes > limit.Nodes {
		return fmt.Errorf("the assembly has more than %d nodes", limit.Nodes)
	}
	n := scene.NewNode(e.Name)
	if n.Name == "" {
		n.Name = strings.TrimSuffix(path.Base(e.From), path.Ext(e.From))
	}
	q := b.basis.UpTurn(e.Turn)
	if e.Quat != nil {
		q = *e.Quat
	}
	n.Put(e.At.Mul(1/b.basis.MetresPerUnit), q, e.Scale)
	b.g.Add(o, b.g.Node(n))
	return nil
}
