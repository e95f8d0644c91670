// Package dae reads and writes COLLADA 1.4.1 and 1.5.0 (Khronos, 2008;
// ISO/PAS 17506). Section names are those of the specification's reference.
package dae

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"path"
	"strings"

	"excavate/core/format"
	"excavate/core/format/markup"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// Format is the reader for the registry.
func Format() format.Reader {
	return format.Reader{Name: "collada", Title: "COLLADA 1.4.1 and 1.5", Read: Read, Probe: func(head []byte) bool {
		head = bytes.TrimLeft(format.UTF8(head), " \t\r\n")
		return bytes.HasPrefix(head, []byte("<COLLADA")) || bytes.HasPrefix(head, []byte("<?xml")) && bytes.Contains(head, []byte("<COLLADA"))
	}}
}

// Zipped is the reader of zipped COLLADA (.zae): a ZIP with the documents and
// their pictures, whose manifest.xml names the root (COLLADA 1.5.0, chapter 3,
// "Archive packaging"). An archive that has no such manifest is none: it is
// told by the bytes of its first part, manifest.xml or a document, and by its
// name's ending where that is another one.
func Zipped() format.Reader {
	return format.Reader{Name: "zae", Title: "COLLADA, zipped", Read: readZipped, Ending: ".zae", Probe: func(head []byte) bool {
		return bytes.HasPrefix(head, []byte("PK\x03\x04")) && len(head) > 42 && string(head[30:42]) == "manifest.xml"
	}}
}

func readZipped(ctx context.Context, f format.File) (*scene.Scene, error) {
	p, err := format.OpenPackage(f.Data)
	if err != nil {
		return nil, err
	}
	main := ""
	if b, err := p.Open("manifest.xml"); err == nil {
		if t, err := markup.Tree(format.UTF8(b)); err == nil && t.Name == "dae_root" {
			main = strings.TrimPrefix(strings.TrimSpace(t.Words()), "./")
		}
	}
	if main == "" {
		for _, n := range p.Names() {
			if strings.HasSuffix(strings.ToLower(n), ".dae") {
				if main != "" {
					return nil, format.Errorf("manifest.xml", "the package has several documents and does not say which is its root")
				}
				main = n
			}
		}
	}
	if main == "" {
		return nil, format.Errorf("manifest.xml", "the package has no COLLADA document; mount it as an archive")
	}
	main, _, _ = strings.Cut(main, "#")
	if plain, err := url.PathUnescape(main); err == nil {
		main = plain
	}
	b, err := p.Open(main)
	if err != nil {
		return nil, format.Errorf(main, "%v", err)
	}
	in := format.File{Name: f.Name[:len(f.Name)-len(path.Base(f.Name))] + path.Base(main), Data: b, Readings: f.Readings, Companion: func(ref string) ([]byte, string, error) {
		b, err := p.Open(path.Join(path.Dir(main), ref))
		if err == nil || f.Companion == nil {
			return b, "inside the file", err
		}
		return f.Companion(ref)
	}}
	return Read(ctx, in)
}

// document is one file of those that make up the model: others may be named by
// their address.
type document struct {
	url  string
	root *markup.Node
	ids  map[string]*markup.Node
}

// documentsMost bounds how many files one model may be made of.
const documentsMost = 64

type reader struct {
	ctx   context.Context
	file  format.File
	docs  map[string]*document // nil where a file is not there
	docOf map[*markup.Node]*document
	s     *scene.Scene
	format.Losses

	geometries map[*markup.Node]*geometry
	sources    map[*markup.Node]*source
	materials  map[string]int
	pictures   map[string]int
	meshes     map[string]int
	far        map[int][3]float64   // what the positions of a mesh are relative to
	nodes      map[*markup.Node]int // scene node of the first instance
	above      map[int]int          // of a node that shears, the one that stands above it
	pending    []pendingSkin        // skins wait until all nodes are there
	visits     int
	commas     bool                  // numbers had decimal commas
	path       map[*markup.Node]bool // nodes that are being instantiated
}

// Read decodes a COLLADA file.
func Read(ctx context.Context, f format.File) (*scene.Scene, error) {
	r := &reader{ctx: ctx, file: f, docs: map[string]*document{}, docOf: map[*markup.Node]*document{}, geometries: map[*markup.Node]*geometry{}, sources: map[*markup.Node]*source{},
		materials: map[string]int{}, pictures: map[string]int{}, meshes: map[string]int{}, far: map[int][3]float64{}, nodes: map[*markup.Node]int{}, above: map[int]int{}, path: map[*markup.Node]bool{}}
	d, err := r.open("", f.Data)
	if err != nil {
		return nil, err
	}
	if d.root.Name != "COLLADA" {
		return nil, d.root.Errorf("the document is <%s>, not <COLLADA>", d.root.Name)
	}
	if v := d.root.Attr("version"); v != "" && !strings.HasPrefix(v, "1.4") && !strings.HasPrefix(v, "1.5") {
		r.Lose("the file is COLLADA %s; it was read as 1.4", v)
	}
	name := f.Name[strings.LastIndexAny(f.Name, "/\\")+1:]
	r.s = &scene.Scene{Name: strings.TrimSuffix(name, ".dae")}
	up := r.asset(d.root.Child("asset"))
	vs := d.root.Child("scene", "instance_visual_scene")
	var root *markup.Node
	if vs != nil {
		if root, err = r.follow(vs, "url"); err != nil {
			return nil, err
		}
	} else if root = d.root.Child("library_visual_scenes", "visual_scene"); root == nil {
		// Without a scene, what the libraries hold stands at the origin.
		root = &markup.Node{Name: "visual_scene"}
		r.docOf[root] = d
		for _, lib := range d.root.All("library_nodes") {
			root.Children = append(root.Children, lib.All("node")...)
		}
		for _, lib := range d.root.All("library_geometries") {
			for _, g := range lib.All("geometry") {
				r.loose(root, g)
			}
		}
		r.Lose("the file has no scene; what it holds was put at the origin")
	}
	for _, n := range root.All("node") {
		if err := r.node(n, scene.None, up); err != nil {
			return nil, err
		}
	}
	if err := r.skins(root); err != nil {
		return nil, err
	}
	if err := r.animations(d.root); err != nil {
		return nil, err
	}
	format.PlaceFarMeshes(r.s, r.far)
	if r.commas {
		r.Tell(format.CommasNote)
	}
	r.s.Notes = append(r.s.Notes, r.Notes()...)
	if err := r.s.Validate(); err != nil {
		return nil, format.Errorf("", "the file makes no sound model: %v", err)
	}
	return r.s, nil
}

// open reads a document and notes its identifiers.
func (r *reader) open(at string, data []byte) (*document, error) {
	root, err := markup.Tree(format.UTF8(data))
	if err != nil {
		return nil, err
	}
	d := &document{at, root, map[string]*markup.Node{}}
	r.docs[at] = d
	var walk func(n *markup.Node)
	walk = func(n *markup.Node) {
		if id := n.Attr("id"); id != "" {
			if _, twice := d.ids[id]; twice {
				r.Lose("an id stands for two elements; the first of them is meant")
			} else {
				d.ids[id] = n
			}
		}
		r.docOf[n] = d
		for _, c := range n.Children {
			walk(c)
		}
	}
	walk(root)
	return d, nil
}

// docFor is the document that a node lies in.
func (r *reader) docFor(n *markup.Node) *document {
	if d := r.docOf[n]; d != nil {
		return d
	}
	return r.docs[""]
}

// follow is the element that an attribute of n leads to.
func (r *reader) follow(n *markup.Node, attr string) (*markup.Node, error) {
	ref := n.Attr(attr)
	t, err := r.target(r.docFor(n), ref)
	if err != nil {
		return nil, n.Errorf("<%s %s=%q>: %v", n.Name, attr, ref, err)
	}
	return t, nil
}

// target is the element that an address leads to, perhaps in another file.
func (r *reader) target(from *document, ref string) (*markup.Node, error) {
	file, id, ok := strings.Cut(ref, "#")
	if !ok {
		return nil, fmt.Errorf("an address without # leads to no element")
	}
	d := from
	if file != "" {
		if u, err := url.PathUnescape(file); err == nil {
			file = u
		}
		if at := strings.LastIndexByte(from.url, '/'); at >= 0 && !strings.HasPrefix(file, "/") {
			file = from.url[:at+1] + file
		}
		known := false
		if d, known = r.docs[file]; !known {
			if r.file.Companion == nil || len(r.docs) >= documentsMost {
				return nil, fmt.Errorf("the file %q is not at hand", file)
			}
			r.docs[file] = nil
			b, _, err := r.file.Companion(file)
			if err != nil {
				return nil, err
			}
			if d, err = r.open(file, b); err != nil {
				return nil, fmt.Errorf("%s: %w", file, err)
			}
		}
		if d == nil {
			return nil, fmt.Errorf("the file %q is not there", file)
		}
	}
	if n := d.ids[id]; n != nil {
		return n, nil
	}
	return nil, fmt.Errorf("there is no element with the id %q", id)
}

// asset reads axes, unit and ownership; it returns the turn that brings the
// view of a camera from COLLADA's (along -z, y up) to the scene's.
func (r *reader) asset(a *markup.Node) geom.Quat {
	b := geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right, MetresPerUnit: 1}
	switch a.Child("up_axis").Words() {
	case "Z_UP":
		b.Up, b.Front = geom.PlusZ, -geom.PlusY
	case "X_UP":
		b.Up, b.Front = geom.PlusX, geom.PlusZ
	}
	if u := a.Child("unit"); u != nil {
		text, comma := format.DecimalCommas([]byte(u.Attr("meter")), true)
		if v, rest, ok := format.Float(text); ok && len(rest) == 0 && v >= geom.LeastUnit && v <= geom.MostUnit {
			b.MetresPerUnit, r.commas = v, r.commas || comma > 0
		} else if u.Attr("meter") != "" {
			r.Lose("the unit of %q m is no length; metres were assumed", u.Attr("meter"))
		}
	}
	r.s.Basis = b
	for _, c := range a.All("contributor") {
		if w := c.Child("copyright").Words(); w != "" {
			r.s.Terms.Text = w
		}
		if w := c.Child("author").Words(); w != "" && r.s.Terms.Owner == "" {
			r.s.Terms.Owner = w
		}
	}
	return b.View()
}

// visit counts the work that instances make, which cycles and nesting can
// multiply.
func (r *reader) visit(n *markup.Node) error {
	if r.visits++; r.visits > limit.Nodes {
		return n.Errorf("more than %d nodes and instances", limit.Nodes)
	}
	return r.ctx.Err()
}

// loose makes a node for a geometry that no scene shows.
func (r *reader) loose(root, g *markup.Node) {
	inst := &markup.Node{Name: "instance_geometry", Line: g.Line, Attrs: []markup.Attr{{Name: []byte("url"), Value: []byte("#" + g.Attr("id"))}}}
	root.Children = append(root.Children, &markup.Node{Name: "node", Line: g.Line, Children: []*markup.Node{inst}, Attrs: []markup.Attr{{Name: []byte("name"), Value: []byte(g.Attr("name"))}}})
}
