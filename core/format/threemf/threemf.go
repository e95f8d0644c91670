// Package threemf reads and writes 3MF: the core specification 1.3 and the
// materials and properties extension 1.2 (3MF Consortium; ISO/IEC 25422). A
// package is a ZIP; its model part may also be read by itself.
package threemf

import (
	"bytes"
	"context"
	"fmt"
	"math"
	"path"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/format/markup"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Formats are the readers for the registry: the package, and its model part.
func Formats() []format.Reader {
	return []format.Reader{
		{Name: "3mf", Title: "3MF", Read: readPackage, Probe: func(head []byte) bool {
			return bytes.HasPrefix(head, []byte("PK\x03\x04")) && (bytes.Contains(head, []byte("3D/3dmodel.model")) || bytes.Contains(head, []byte("3D/_rels/")) || bytes.Contains(head, []byte("Metadata/thumbnail.png")) && bytes.Contains(head, []byte("[Content_Types].xml")))
		}},
		{Name: "3mf model", Title: "3MF, the model part", Read: readPart, Probe: func(head []byte) bool {
			return bytes.HasPrefix(bytes.TrimLeft(format.UTF8(head), " \t\r\n"), []byte("<")) && bytes.Contains(head, []byte("schemas.microsoft.com/3dmanufacturing/core"))
		}},
	}
}

// basis of the core specification, section 2.2: right-handed, z up, the front
// of the printer towards -y.
var basis = geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right}

var units = map[string]float64{"micron": 1e-6, "millimeter": 1e-3, "": 1e-3, "centimeter": 1e-2, "inch": 0.0254, "foot": 0.3048, "meter": 1}

func readPackage(ctx context.Context, f format.File) (*scene.Scene, error) {
	p, err := format.OpenPackage(f.Data)
	if err != nil {
		return nil, err
	}
	// The relationships name the model; the usual place is tried where they do not.
	model := "3D/3dmodel.model"
	if rels, err := p.Open("_rels/.rels"); err == nil {
		if t, err := markup.Tree(format.UTF8(rels)); err == nil {
			for _, r := range t.All("Relationship") {
				if strings.HasSuffix(r.Attr("Type"), "/3dmodel") {
					model = strings.TrimPrefix(r.Attr("Target"), "/")
				}
			}
		}
	}
	b, err := p.Open(model)
	if err != nil {
		return nil, format.Errorf(model, "%v", err)
	}
	return read(ctx, f, "/"+model, b, func(ref string) ([]byte, string, error) {
		b, err := p.Open(ref)
		return b, "inside the file", err
	})
}

func readPart(ctx context.Context, f format.File) (*scene.Scene, error) {
	return read(ctx, f, "", f.Data, func(ref string) ([]byte, string, error) {
		if f.Companion == nil {
			return nil, "", fmt.Errorf("nowhere to look")
		}
		return f.Companion("../" + strings.TrimPrefix(ref, "/"))
	})
}

// group is a resource that triangles take properties from.
type group struct {
	materials []int        // of basematerials: a material of the scene each
	colours   [][4]float32 // of colorgroup, linear
	uvs       [][2]float32 // of texture2dgroup
	material  int          // that shows the texture
}

type object struct {
	name       string
	mesh       int // of the scene, or None
	components []component
}

type component struct {
	part   string // of the package, empty for the part that it stands in
	object int
	m      geom.Mat4
}

// reader reads a model part of a package. Numbers of resources hold within a
// part.
type reader struct {
	*markup.Scanner
	*shared
	part     string
	first    bool // of the package
	groups   map[int]*group
	objects  map[int]*object
	textures map[int]scene.Texture
}

// shared is what all parts of a package have in common.
type shared struct {
	ctx      context.Context
	open     func(ref string) ([]byte, string, error)
	s        *scene.Scene
	commas   bool               // numbers had decimal commas
	others   map[string]*reader // that were begun
	pictures map[string]int
	format.Losses
	visits int
}

func (c *shared) reader(part string, b []byte) *reader {
	return &reader{Scanner: markup.NewScanner(format.UTF8(b)), shared: c, part: part, groups: map[int]*group{}, objects: map[int]*object{}, textures: map[int]scene.Texture{}}
}

// other is the reader of another part of the package (3MF Production
// Extension 1.1, chapter 2), which is read when it is first named.
func (r *reader) other(part string) (*reader, error) {
	if o := r.others[part]; o != nil {
		return o, nil
	}
	if len(r.others) >= partsMost {
		return nil, r.Errorf("more than %d parts with objects", partsMost)
	}
	b, _, err := r.open(part)
	if err != nil {
		return nil, r.Errorf("the part %s: %v", part, err)
	}
	o := r.reader(part, b)
	r.others[part] = o
	if err := o.document(); err != nil {
		return nil, fmt.Errorf("%s: %w", part, err)
	}
	return o, nil
}

// partsMost bounds the parts of a package that have objects.
const partsMost = 1 << 14

func read(ctx context.Context, f format.File, part string, b []byte, open func(string) ([]byte, string, error)) (*scene.Scene, error) {
	name := f.Name[strings.LastIndexAny(f.Name, "/\\")+1:]
	c := &shared{ctx: ctx, open: open, s: &scene.Scene{Name: strings.TrimSuffix(name, path.Ext(name)), Basis: basis}, others: map[string]*reader{}, pictures: map[string]int{}}
	r := c.reader(part, b)
	r.first, c.others[part] = true, r
	r.s.Basis.MetresPerUnit = 1e-3
	if err := r.document(); err != nil {
		return nil, err
	}
	if r.commas {
		r.Tell(format.CommasNote)
	}
	r.s.Notes = append(r.s.Notes, r.Notes()...)
	if err := r.s.Validate(); err != nil {
		return nil, format.Errorf("", "the file makes no sound model: %v", err)
	}
	return r.s, nil
}

// id is an attribute that numbers a resource; ok is false where it is not there.
func (r *reader) id(name string) (v int, ok bool, err error) {
	b := r.Attr(name)
	if b == nil {
		return 0, false, nil
	}
	v, e := strconv.Atoi(string(b))
	if e != nil || v < 0 {
		return 0, false, r.Errorf("<%s %s=%.20q>: no whole number", r.Name, name, b)
	}
	return v, true, nil
}

func (r *reader) text(name string) string {
	v, _ := markup.Plain(r.Attr(name))
	return v
}

func (r *reader) document() error {
	for {
		k, err := r.Next()
		if err != nil {
			return err
		}
		if k == markup.Done {
			return nil
		}
		if k != markup.Start {
			continue
		}
		switch string(r.Name) {
		case "model":
			u, ok := units[r.text("unit")]
			if !ok {
				return r.Errorf("the unit %q is none of micron, millimeter, centimeter, inch, foot and meter", r.text("unit"))
			}
			if r.first {
				r.s.Basis.MetresPerUnit = u
			} else if u != r.s.Basis.MetresPerUnit {
				r.Lose("a part in another unit than the first was read in that of the first")
			}
			for _, p := range strings.Fields(r.text("requiredextensions")) {
				if p != "m" && p != "p" {
					r.Lose("the file asks for the extension %q, which is not read", p)
				}
			}
		case "metadata":
			what := r.text("name")
			var words string
			if words, err = r.words(); err != nil {
				return err
			}
			switch what {
			case "Title":
				r.s.Name = words
			case "Designer":
				r.s.Terms.Owner = words
			case "Copyright":
				r.s.Terms.Text = words
			case "LicenseTerms":
				r.s.Terms.Licence = words
			}
		case "basematerials", "colorgroup", "texture2dgroup":
			err = r.group(string(r.Name))
		case "texture2d":
			err = r.texture()
		case "compositematerials", "multiproperties":
			r.Lose("properties <%s> were left out", r.Name)
		case "object":
			err = r.object()
		case "item":
			if r.first { // what other parts build is not of this model
				err = r.item()
			}
		}
		if err != nil {
			return err
		}
	}
}

// words is the text up to the end of the element.
func (r *reader) words() (string, error) {
	var out []byte
	for depth := 1; depth > 0; {
		k, err := r.Next()
		if err != nil {
			return "", err
		}
		switch k {
		case markup.Start:
			depth++
		case markup.End:
			depth--
		case markup.Text:
			out = append(out, r.Text...)
		}
	}
	v, _ := markup.Plain(bytes.TrimSpace(out))
	return v, nil
}

// hex reads #RRGGBB or #RRGGBBAA.
func hex(t string) (out [4]byte, ok bool) {
	out[3] = 255
	if len(t) != 7 && len(t) != 9 || t[0] != '#' {
		return out, false
	}
	v, err := strconv.ParseUint(t[1:], 16, 32)
	if err != nil {
		return out, false
	}
	if len(t) == 7 {
		v = v<<8 | 255
	}
	return [4]byte{byte(v >> 24), byte(v >> 16), byte(v >> 8), byte(v)}, true
}

func linear(c [4]byte) [4]float32 {
	return [4]float32{format.Bytes8[c[0]], format.Bytes8[c[1]], format.Bytes8[c[2]], float32(c[3]) / 255}
}

func (r *reader) group(kind string) error {
	id, _, err := r.id("id")
	if err != nil {
		return err
	}
	g := &group{material: scene.None}
	r.groups[id] = g
	if kind == "texture2dgroup" {
		tex, _, err := r.id("texid")
		if err != nil {
			return err
		}
		t, ok := r.textures[tex]
		if !ok {
			return r.Errorf("texture %d is not there", tex)
		}
		m := scene.NewMaterial(r.s.Pictures[t.Picture].Name)
		m.Textures = []scene.Texture{t}
		g.material = len(r.s.Materials)
		r.s.Materials = append(r.s.Materials, m)
	}
	for depth := 1; depth > 0; {
		k, err := r.Next()
		if err != nil {
			return err
		}
		switch k {
		case markup.End:
			depth--
		case markup.Start:
			depth++
			switch string(r.Name) {
			case "base":
				c, ok := hex(r.text("displaycolor"))
				if !ok {
					return r.Errorf("the colour %.20q is none of #RRGGBB and #RRGGBBAA", r.text("displaycolor"))
				}
				m := scene.NewMaterial(r.text("name"))
				m.BaseColour = linear(c)
				if c[3] < 255 {
					m.Alpha = scene.Blend
				}
				g.materials = append(g.materials, len(r.s.Materials))
				r.s.Materials = append(r.s.Materials, m)
			case "color":
				c, ok := hex(r.text("color"))
				if !ok {
					return r.Errorf("the colour %.20q is none of #RRGGBB and #RRGGBBAA", r.text("color"))
				}
				g.colours = append(g.colours, linear(c))
			case "tex2coord":
				u, err := r.float("u")
				if err != nil {
					return err
				}
				v, err := r.float("v")
				if err != nil {
					return err
				}
				g.uvs = append(g.uvs, [2]float32{u, 1 - v}) // 3MF counts v from below
			}
		}
	}
	return nil
}

func (r *reader) float(name string) (float32, error) {
	b, n := format.DecimalCommas(r.Attr(name), true)
	r.commas = r.commas || n > 0
	v, rest, ok := format.Float(b)
	f, finite := format.Finite32(v)
	if !ok || !finite || len(rest) > 0 {
		return 0, r.Errorf("<%s %s=%.24q>: no finite number", r.Name, name, b)
	}
	return f, nil
}

func (r *reader) texture() error {
	id, _, err := r.id("id")
	if err != nil {
		return err
	}
	ref := r.text("path")
	at, ok := r.pictures[ref]
	if !ok {
		p := scene.Picture{Name: path.Base(ref), Ref: strings.TrimPrefix(ref, "/")}
		data, found, err := r.open(ref)
		if err == nil {
			out, mime, _, w, h, e := pixel.Encoded(data)
			if err = e; e == nil {
				p.Data, p.MIME, p.Width, p.Height, p.Found = out, mime, w, h, found
			}
		}
		if err != nil {
			p.Looked = []string{err.Error()}
		}
		at = len(r.s.Pictures)
		r.pictures[ref] = at
		r.s.Pictures = append(r.s.Pictures, p)
	}
	wrap := func(name string) scene.Wrap {
		switch r.text(name) {
		case "clamp", "none":
			return scene.Clamp
		case "mirror":
			return scene.Mirror
		}
		return scene.Repeat
	}
	r.textures[id] = scene.Texture{Role: scene.RoleColour, Picture: at, Scale: 1, WrapU: wrap("tilestyleu"), WrapV: wrap("tilestylev"), Nearest: r.text("filter") == "nearest"}
	return nil
}

// matrix reads twelve numbers: the rows of a matrix for row vectors (section
// 3.3), which are the columns of ours.
func (r *reader) matrix() (geom.Mat4, error) {
	m := geom.Identity
	b := r.Attr("transform")
	if b == nil {
		return m, nil
	}
	v, err := (&markup.Node{Name: "transform", Text: b, Line: r.Line()}).Floats(12, &r.commas)
	if err != nil {
		return m, err
	}
	if len(v) != 12 {
		return m, r.Errorf("a transform of %d numbers; there are 12", len(v))
	}
	for i, x := range v {
		m[i/3*4+i%3] = float64(x)
	}
	return m, nil
}

func (r *reader) object() error {
	id, ok, err := r.id("id")
	if err != nil {
		return err
	}
	if !ok {
		return r.Errorf("an object without an id")
	}
	o := &object{name: r.text("name"), mesh: scene.None}
	if t := r.text("type"); t == "support" || t == "other" {
		r.Lose("an object of the kind %q is shown as any other", t)
	}
	if o.name == "" {
		o.name = fmt.Sprintf("object %d", id)
	}
	pid, hasPID, err := r.id("pid")
	if err != nil {
		return err
	}
	pindex, _, err := r.id("pindex")
	if err != nil {
		return err
	}
	r.objects[id] = o
	usual := property{none, 0, 0, 0}
	if hasPID {
		usual = property{pid, pindex, pindex, pindex}
	}
	for depth := 1; depth > 0; {
		k, err := r.Next()
		if err != nil {
			return err
		}
		switch k {
		case markup.End:
			depth--
		case markup.Start:
			depth++
			switch string(r.Name) {
			case "mesh":
				if err := r.mesh(o, usual); err != nil {
					return err
				}
				depth--
			case "component":
				c := component{}
				if c.object, ok, err = r.id("objectid"); err != nil {
					return err
				}
				if c.m, err = r.matrix(); err != nil {
					return err
				}
				c.part = r.text("path")
				if ok {
					o.components = append(o.components, c)
				}
			}
		}
	}
	return nil
}

// property is what a triangle takes from a group: an index a corner.
type property struct{ group, a, b, c int }

const none = -1

// mesh reads vertices and triangles and makes parts of them, one a material.
func (r *reader) mesh(o *object, usual property) error {
	var pos []float32
	var tri []uint32
	var props []property // of each triangle; nil while all are as usual
	for depth := 1; depth > 0; {
		k, err := r.Next()
		if err != nil {
			return err
		}
		if k == markup.End {
			depth--
		}
		if k != markup.Start {
			continue
		}
		depth++
		switch string(r.Name) {
		case "vertex":
			for _, c := range [3]string{"x", "y", "z"} {
				v, err := r.float(c)
				if err != nil {
					return err
				}
				pos = append(pos, v)
			}
			if len(pos)%(1<<20) == 0 && r.ctx.Err() != nil {
				return r.ctx.Err()
			}
			if len(pos) > 3*limit.Vertices {
				return r.Errorf("more than %d vertices", limit.Vertices)
			}
		case "triangle":
			p, v, q := usual, [3]int{none, none, none}, [3]int{none, none, none}
			given := false
			for i := range r.Attrs {
				a := &r.Attrs[i]
				n := 0
				ok := len(a.Value) > 0
				for _, d := range a.Value {
					if d-'0' > 9 || n > 1<<30 {
						ok = false
						break
					}
					n = 10*n + int(d-'0')
				}
				if !ok {
					if a.Name[0] == 'v' || a.Name[0] == 'p' {
						return r.Errorf("<triangle %s=%.20q>: no whole number", a.Name, a.Value)
					}
					continue
				}
				switch string(a.Name) {
				case "v1", "v2", "v3":
					if n >= len(pos)/3 {
						return r.Errorf("triangle %d: vertex %d of %d", len(tri)/3, n, len(pos)/3)
					}
					v[a.Name[1]-'1'] = n
				case "pid":
					p.group, given = n, true
				case "p1", "p2", "p3":
					q[a.Name[1]-'1'], given = n, true
				}
			}
			if min(v[0], v[1], v[2]) < 0 {
				return r.Errorf("a triangle without three vertices")
			}
			tri = append(tri, uint32(v[0]), uint32(v[1]), uint32(v[2]))
			if q[0] >= 0 { // the others have it too where they say nothing
				p.a, p.b, p.c = q[0], q[0], q[0]
			}
			if q[1] >= 0 {
				p.b = q[1]
			}
			if q[2] >= 0 {
				p.c = q[2]
			}
			if given && props == nil {
				props = make([]property, len(tri)/3-1, len(tri)/3)
				for i := range props {
					props[i] = usual
				}
			}
			if props != nil {
				props = append(props, p)
			}
		case "beamlattice":
			r.Lose("a lattice of beams was left out")
		}
	}
	if len(tri) == 0 {
		return nil
	}
	parts, err := r.parts(pos, tri, props, usual)
	if err != nil {
		return err
	}
	o.mesh = len(r.s.Meshes)
	r.s.Meshes = append(r.s.Meshes, scene.Mesh{Name: o.name, Parts: parts})
	return nil
}

// look is what a part of a mesh looks like: its material, and what its corners
// carry besides.
type look struct {
	material int
	kind     byte // 0 nothing, c colours, t texture coordinates
}

func (r *reader) parts(pos []float32, tri []uint32, props []property, usual property) ([]scene.Part, error) {
	if props == nil && usual.group == none {
		return []scene.Part{{Material: scene.None, Positions: pos, Triangles: tri}}, nil
	}
	type build struct {
		p    scene.Part
		seen map[[2]int]uint32
		uv   []float32
		rgba []float32
	}
	var order []*build
	by := map[look]*build{}
	for t := 0; t+2 < len(tri); t += 3 {
		p := usual
		if props != nil {
			p = props[t/3]
		}
		idx := [3]int{p.a, p.b, p.c}
		l := look{material: scene.None}
		g := r.groups[p.group]
		if p.group != none && g == nil {
			r.Lose("triangles that name properties which are not there are plain")
		}
		if g != nil {
			for _, i := range idx {
				if i >= max(len(g.materials), len(g.colours), len(g.uvs)) {
					return nil, r.Errorf("triangle %d: property %d of %d in group %d", t/3, i, max(len(g.materials), len(g.colours), len(g.uvs)), p.group)
				}
			}
			switch {
			case g.materials != nil:
				l.material = g.materials[idx[0]]
			case g.colours != nil:
				l.kind = 'c'
			case g.uvs != nil:
				l.kind, l.material = 't', g.material
			}
		}
		b := by[l]
		if b == nil {
			b = &build{p: scene.Part{Material: l.material}, seen: map[[2]int]uint32{}}
			by[l] = b
			order = append(order, b)
		}
		for c := range 3 {
			key := [2]int{int(tri[t+c]), -1}
			if l.kind != 0 {
				key[1] = p.group<<32 | idx[c]
			}
			v, ok := b.seen[key]
			if !ok {
				v = uint32(len(b.p.Positions) / 3)
				b.seen[key] = v
				b.p.Positions = append(b.p.Positions, pos[3*key[0]:3*key[0]+3]...)
				switch l.kind {
				case 'c':
					b.rgba = append(b.rgba, g.colours[idx[c]][:]...)
				case 't':
					b.uv = append(b.uv, g.uvs[idx[c]][:]...)
				}
			}
			b.p.Triangles = append(b.p.Triangles, v)
		}
	}
	var out []scene.Part
	for _, b := range order {
		if b.rgba != nil {
			b.p.Colours = []scene.AttrSet{{Name: "colour", Data: b.rgba}}
		}
		if b.uv != nil {
			b.p.UVs = []scene.AttrSet{{Name: "uv", Data: b.uv}}
		}
		out = append(out, b.p)
	}
	return out, nil
}

// item puts an object on the plate.
func (r *reader) item() error {
	id, ok, err := r.id("objectid")
	if err != nil || !ok {
		return err
	}
	m, err := r.matrix()
	if err != nil {
		return err
	}
	return r.place(component{r.text("path"), id, m}, scene.None, map[*object]bool{})
}

// place makes nodes of an object and its components; path has the objects that
// it lies in.
func (r *reader) place(c component, parent int, path map[*object]bool) error {
	in := r
	if c.part != "" && c.part != r.part {
		var err error
		if in, err = r.other(c.part); err != nil {
			return err
		}
	}
	id, m := c.object, c.m
	o := in.objects[id]
	if o == nil {
		return r.Errorf("object %d is not there", id)
	}
	if path[o] {
		return r.Errorf("object %d is a component of itself", id)
	}
	if r.visits++; r.visits > limit.Nodes || len(path) > 128 {
		return r.Errorf("more than %d instances, or more than 128 within each other", limit.Nodes)
	}
	path[o] = true
	defer delete(path, o)
	n := scene.NewNode(o.name)
	n.Parent, n.Mesh = parent, o.mesh
	t, q, s, exact := m.Decompose()
	if !exact {
		r.Lose("a transform shears; its axes were squared")
	}
	for i := range 3 {
		n.Translation[i], n.Scale[i] = float32(t[i]), float32(s[i])
	}
	for i := range q {
		n.Rotation[i] = float32(q[i])
	}
	for _, v := range append(n.Translation[:], n.Scale[:]...) {
		if math.IsNaN(float64(v)) {
			return r.Errorf("object %d: its transform is not finite", id)
		}
	}
	at := len(r.s.Nodes)
	r.s.Nodes = append(r.s.Nodes, n)
	for _, c := range o.components {
		if err := in.place(c, at, path); err != nil {
			return err
		}
	}
	return nil
}
