package x3d

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/quad"
	"excavate/core/scene"
)

// Writers are the writers for the registry.
func Writers() format.Writers {
	return format.Writers{
		{Name: "x3d", Title: "X3D", Ending: ".x3d", Basis: geom.GLTF, Write: func(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) { return write(s, name, true) }},
		{Name: "vrml", Title: "VRML97", Ending: ".wrl", Basis: geom.GLTF, Write: func(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
			return write(s, name, false)
		}},
	}
}

// field is a field of a node that is written: numbers, a word as it stands,
// texts, or nodes.
type field struct {
	name  string
	nums  []float32
	index []int64
	word  string
	texts []string
	nodes []*made
}

// made is a node to write.
type made struct {
	typ, def, use string
	fields        []field
}

func (m *made) set(f ...field) *made { m.fields = append(m.fields, f...); return m }

// write writes nodes within nodes, skinned meshes where their bones have them:
// metres, right-handed, Y up.
func write(s *scene.Scene, name string, asXML bool) ([]format.Written, []scene.Note, error) {
	title := "VRML97"
	if asXML {
		title = "X3D"
	}
	turned, notes, err := s.TurnedTo(geom.GLTF, title)
	if err != nil {
		return nil, nil, fmt.Errorf("write %s of %q: %w", title, s.Name, err)
	}
	plain := *s
	plain.Basis = geom.Basis{} // what becomes of it is said above
	notes = append(notes, flat.Lost(&plain, flat.Has{Format: title, Names: true, Materials: true, Pictures: true, Normals: true, UVs: 1, Colours: 1, Lines: true, Points: true, Cameras: true, Lights: true, VertexAlpha: asXML, Tree: true, Instances: true,
		Surface: surfaceOf(asXML)})...)
	pictures := flat.PictureNames(s)
	w := writer{s: turned, xml: asXML, pictures: pictures, looks: map[look]string{}, lost: map[string]int{}, renamed: map[string]bool{}}
	roots := w.tree()
	for _, l := range []struct{ one, many string }{
		{"role of a picture", "roles of pictures"}, {"picture that lies otherwise than the first", "pictures that lie otherwise than the first"}, {"cutoff of alpha", "cutoffs of alpha"},
		{"mirrored repeat of a picture", "mirrored repeats of pictures"}, {"camera without perspective", "cameras without perspective"}, {"strength of a light above 1", "strengths of lights above 1"},
	} {
		if n := w.lost[l.many]; n > 0 {
			notes = append(notes, scene.Note{Text: fmt.Sprintf("%s not written: %s has no such thing", format.Counted(n, l.one, l.many), title), Loss: true})
		}
	}
	if n := len(w.renamed); n > 0 {
		notes = append(notes, scene.Note{Text: fmt.Sprintf("%s written otherwise: names of %s have no blanks and few marks", format.Counted(n, "name was", "names were"), title), Loss: true})
	}
	file := flat.FileName(name)
	out := []format.Written{{Name: file + ".wrl"}}
	if asXML {
		out[0].Name = file + ".x3d"
		w.b.WriteString("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<X3D profile=\"Interchange\" version=\"4.0\" xmlns:xsd=\"http://www.w3.org/2001/XMLSchema-instance\" xsd:noNamespaceSchemaLocation=\"https://www.web3d.org/specifications/x3d-4.0.xsd\">\n<Scene>\n")
		for _, m := range roots {
			w.element(m)
		}
		w.b.WriteString("</Scene>\n</X3D>\n")
	} else {
		w.b.WriteString("#VRML V2.0 utf8\n")
		for _, m := range roots {
			w.classic(m)
			w.b.WriteByte('\n')
		}
	}
	out[0].Data = w.b.Bytes()
	for i := range s.Pictures {
		if p := &s.Pictures[i]; !p.Missing() {
			out = append(out, format.Written{Name: pictures[i], Data: p.Data})
		}
	}
	return out, notes, nil
}

// look is an appearance: a material, and whether it is of surfaces.
type look struct {
	material int
	stroke   bool
}

type writer struct {
	s        *scene.Scene
	xml      bool
	pictures []string
	defs     distinct.Names
	looks    map[look]string // their DEF
	lost     map[string]int
	renamed  map[string]bool
	children [][]int
	rests    []geom.Mat4      // what a node's own transform does not say
	uses     []int            // of each mesh by nodes that have it as it is
	shared   map[int][]string // DEFs of the shapes of meshes that several nodes use
	b        bytes.Buffer
	num      []byte
}

// def is a name as DEF has it (ISO/IEC 14772-1, 4.3.2; XML NMTOKEN), unique.
func (w *writer) def(name, usual string) string {
	clean := strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == '.' || r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || r > 0xbf && r < 0x2000 && r != 0xd7 && r != 0xf7 {
			return r
		}
		return '_'
	}, name)
	if strings.Trim(clean, "_") == "" {
		clean = usual
	}
	if c := clean[0]; c >= '0' && c <= '9' || c == '-' || c == '.' {
		clean = "_" + clean
	}
	if clean != name && name != "" {
		w.renamed[name] = true
	}
	return w.defs.Name(clean, "_")
}

// shapes are a piece's surface, its lines and its points; they have no names
// where name is empty.
func (w *writer) shapes(p *flat.Piece, name string) (out []*made) {
	two := p.Part.Material >= 0 && w.s.Materials[p.Part.Material].TwoSided
	coord := &made{typ: "Coordinate", fields: []field{{name: "point", nums: p.Positions}}}
	var colour *made
	if len(p.Part.Colours) > 0 {
		d := p.Part.Colours[0].Data
		each, typ := 3, "Color"
		for i := 3; i < len(d) && w.xml; i += 4 {
			if d[i] != 1 {
				each, typ = 4, "ColorRGBA"
				break
			}
		}
		var c []float32
		for i := 0; i+3 < len(d); i += 4 {
			c = append(c, float32(format.Display(d[i])), float32(format.Display(d[i+1])), float32(format.Display(d[i+2])))
			if each == 4 {
				c = append(c, d[i+3])
			}
		}
		colour = &made{typ: typ, fields: []field{{name: "color", nums: c}}}
	}
	add := func(g *made, stroke bool) {
		m := &made{typ: "Shape"}
		if name != "" {
			m.def = w.def(name, "shape")
		}
		if a := w.look(p.Part.Material, stroke); a != nil {
			m.set(field{name: "appearance", nodes: []*made{a}})
		}
		if colour != nil {
			g.set(field{name: "color", nodes: []*made{colour}})
		}
		out = append(out, m.set(field{name: "geometry", nodes: []*made{g.set(field{name: "coord", nodes: []*made{coord}})}}))
	}
	if len(p.Triangles) > 0 {
		index := make([]int64, 0, len(p.Triangles)/3*4)
		sizes, corners := quad.Faces(p.Part.Quads, p.Positions, p.Triangles)
		for _, size := range sizes {
			for _, v := range corners[:size] {
				index = append(index, int64(v))
			}
			index = append(index, -1)
			corners = corners[size:]
		}
		g := &made{typ: "IndexedFaceSet", fields: []field{{name: "coordIndex", index: index}}}
		if two {
			g.set(field{name: "solid", word: w.flag(false)})
		}
		if p.Normals != nil {
			g.set(field{name: "normal", nodes: []*made{{typ: "Normal", fields: []field{{name: "vector", nums: p.Normals}}}}})
		}
		if set, moved := w.uvs(p.Part); set < len(p.Part.UVs) {
			uv := slices.Clone(p.Part.UVs[set].Data)
			for i := 0; i+1 < len(uv); i += 2 {
				if moved != nil {
					uv[i], uv[i+1] = moved.Apply(uv[i], uv[i+1])
				}
				uv[i+1] = 1 - uv[i+1] // counted from below
			}
			g.set(field{name: "texCoord", nodes: []*made{{typ: "TextureCoordinate", fields: []field{{name: "point", nums: uv}}}}})
		}
		add(g, false)
	}
	if len(p.Part.Lines) > 0 {
		var index []int64
		for i := 0; i+1 < len(p.Part.Lines); i += 2 {
			index = append(index, int64(p.Part.Lines[i]), int64(p.Part.Lines[i+1]), -1)
		}
		add(&made{typ: "IndexedLineSet", fields: []field{{name: "coordIndex", index: index}}}, true)
	}
	if n := len(p.Part.Points); n > 0 {
		// A PointSet has all its coordinates as points.
		only := &made{typ: "Coordinate"}
		var at []float32
		for _, v := range p.Part.Points {
			at = append(at, p.Positions[3*v:3*v+3]...)
		}
		only.set(field{name: "point", nums: at})
		coord = only
		if colour != nil {
			each := len(colour.fields[0].nums) / max(len(p.Positions)/3, 1)
			var c []float32
			for _, v := range p.Part.Points {
				c = append(c, colour.fields[0].nums[each*int(v):each*int(v)+each]...)
			}
			colour = &made{typ: colour.typ, fields: []field{{name: "color", nums: c}}}
		}
		add(&made{typ: "PointSet"}, true)
	}
	return out
}

// uvs are the UV set that a part's pictures lie on, and how they move it: as
// its colour has it, or its first picture.
func (w *writer) uvs(p *scene.Part) (set int, moved *scene.UVTransform) {
	if p.Material >= 0 {
		if t := lead(&w.s.Materials[p.Material]); t != nil {
			return t.UVSet, t.Transform
		}
	}
	return 0, nil
}

func lead(m *scene.Material) *scene.Texture {
	if t := m.Texture(scene.RoleColour); t != nil || len(m.Textures) == 0 {
		return t
	}
	return &m.Textures[0]
}

func (w *writer) flag(v bool) string {
	if w.xml {
		return strconv.FormatBool(v)
	}
	return strings.ToUpper(strconv.FormatBool(v))
}

// look is the appearance of a material, the first time whole, then by USE.
func (w *writer) look(k int, stroke bool) *made {
	if k < 0 {
		return nil
	}
	if def, ok := w.looks[look{k, stroke}]; ok {
		return &made{typ: "Appearance", use: def}
	}
	m := &w.s.Materials[k]
	a := &made{typ: "Appearance", def: w.def(m.Name, "material")}
	w.looks[look{k, stroke}] = a.def
	rgb := func(c []float32) []float32 {
		return []float32{float32(format.Display(c[0])), float32(format.Display(c[1])), float32(format.Display(c[2]))}
	}
	base := rgb(m.BaseColour[:])
	// Lines and points have no light on them: they shine (X3D 12.2.2).
	shines := m.Unlit || stroke
	var mat *made
	switch {
	case w.xml && shines:
		mat = &made{typ: "UnlitMaterial", fields: []field{{name: "emissiveColor", nums: base}}}
	case w.xml:
		mat = &made{typ: "PhysicalMaterial", fields: []field{{name: "baseColor", nums: base}, {name: "metallic", nums: []float32{m.Metallic}}, {name: "roughness", nums: []float32{m.Roughness}}}}
		if m.Emissive != [3]float32{} {
			mat.set(field{name: "emissiveColor", nums: rgb(m.Emissive[:])})
		}
	case shines:
		mat = &made{typ: "Material", fields: []field{{name: "diffuseColor", nums: []float32{0, 0, 0}}, {name: "emissiveColor", nums: base}}}
	default:
		r := math.Max(float64(m.Roughness), 0.1)
		shininess := math.Max(0, math.Min(1, (2/(r*r*r*r)-2)/128))
		mat = &made{typ: "Material", fields: []field{{name: "diffuseColor", nums: base}, {name: "shininess", nums: []float32{float32(shininess)}}}}
		if m.Emissive != [3]float32{} {
			mat.set(field{name: "emissiveColor", nums: rgb(m.Emissive[:])})
		}
	}
	if m.Alpha == scene.Blend && m.BaseColour[3] < 1 {
		mat.set(field{name: "transparency", nums: []float32{1 - m.BaseColour[3]}})
	}
	if m.Alpha != scene.Opaque {
		if w.xml {
			mode := map[scene.AlphaMode]string{scene.Cutout: "MASK", scene.Blend: "BLEND"}[m.Alpha]
			a.set(field{name: "alphaMode", word: mode})
			if m.Alpha == scene.Cutout {
				a.set(field{name: "alphaCutoff", nums: []float32{m.Cutoff}})
			}
		} else if m.Alpha == scene.Cutout {
			w.lost["cutoffs of alpha"]++
		}
	}
	a.set(field{name: "material", nodes: []*made{mat}})
	for _, t := range m.Textures {
		in, name := a, "texture"
		if t.Role != scene.RoleColour {
			if name = w.fieldOf(t.Role, mat.typ); name == "" {
				w.lost["roles of pictures"]++
				continue
			}
			if l := lead(m); l.UVSet != t.UVSet || !sameTransform(l.Transform, t.Transform) {
				w.lost["pictures that lie otherwise than the first"]++
				continue
			}
			in = mat
		}
		x := &made{typ: "ImageTexture", fields: []field{{name: "url", texts: []string{w.pictures[t.Picture]}}}}
		if t.WrapU == scene.Clamp {
			x.set(field{name: "repeatS", word: w.flag(false)})
		}
		if t.WrapV == scene.Clamp {
			x.set(field{name: "repeatT", word: w.flag(false)})
		}
		if t.WrapU == scene.Mirror || t.WrapV == scene.Mirror {
			w.lost["mirrored repeats of pictures"]++
		}
		in.set(field{name: name, nodes: []*made{x}})
		switch {
		case t.Scale == 1:
		case t.Role == scene.RoleNormal:
			mat.set(field{name: "normalScale", nums: []float32{t.Scale}})
		case t.Role == scene.RoleOcclusion:
			mat.set(field{name: "occlusionStrength", nums: []float32{t.Scale}})
		}
	}
	return a
}

func sameTransform(a, b *scene.UVTransform) bool { return a == b || a != nil && b != nil && *a == *b }

// fieldOf is where a physical material keeps a texture; other materials have
// no place but for the colour.
func (w *writer) fieldOf(role scene.Role, material string) string {
	for _, f := range textureFields {
		if f.role == role && material == "PhysicalMaterial" {
			return f.name
		}
	}
	return ""
}

func (w *writer) float(v float32) {
	w.num = strconv.AppendFloat(w.num[:0], float64(v), 'g', -1, 32)
	w.b.Write(w.num)
}

// numbers writes a field's numbers with blanks between.
func (w *writer) numbers(f *field) {
	for i, v := range f.nums {
		if i > 0 {
			w.b.WriteByte(' ')
		}
		w.float(v)
	}
	for i, v := range f.index {
		if i > 0 {
			w.b.WriteByte(' ')
		}
		w.num = strconv.AppendInt(w.num[:0], v, 10)
		w.b.Write(w.num)
	}
}

// lists are the nodes whose numbers are lists, however few there are.
var lists = []string{"Coordinate", "Color", "TextureCoordinate", "Normal"}

// classic writes a node as VRML97 has it.
func (w *writer) classic(m *made) {
	if m.use != "" {
		fmt.Fprintf(&w.b, "USE %s", m.use)
		return
	}
	if m.def != "" {
		fmt.Fprintf(&w.b, "DEF %s ", m.def)
	}
	w.b.WriteString(m.typ + " {")
	for i := range m.fields {
		f := &m.fields[i]
		w.b.WriteString("\n" + f.name + " ")
		switch {
		case f.name == "children":
			w.b.WriteString("[\n")
			for _, k := range f.nodes {
				w.classic(k)
				w.b.WriteByte('\n')
			}
			w.b.WriteByte(']')
		case f.nodes != nil:
			w.classic(f.nodes[0])
		case f.texts != nil:
			w.b.WriteString(`"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(f.texts[0]) + `"`)
		case f.word != "":
			w.b.WriteString(f.word)
		case f.index != nil || slices.Contains(lists, m.typ):
			w.b.WriteByte('[')
			w.numbers(f)
			w.b.WriteByte(']')
		default:
			w.numbers(f)
		}
	}
	w.b.WriteString(" }")
}

// element writes a node as the XML encoding has it.
func (w *writer) element(m *made) {
	w.b.WriteString("<" + m.typ)
	text := func(name, v string) {
		w.b.WriteString(" " + name + `="`)
		xml.EscapeText(&w.b, []byte(v))
		w.b.WriteByte('"')
	}
	if m.use != "" {
		text("USE", m.use)
		w.b.WriteString("/>\n")
		return
	}
	if m.def != "" {
		text("DEF", m.def)
	}
	var kids []*made
	for i := range m.fields {
		f := &m.fields[i]
		switch {
		case f.nodes != nil:
			for _, k := range f.nodes {
				if strings.HasSuffix(f.name, "Texture") { // where a node stands by its kind, that is not said
					k.set(field{name: "containerField", word: f.name})
				}
				kids = append(kids, k)
			}
		case f.texts != nil:
			text(f.name, `"`+strings.ReplaceAll(f.texts[0], `"`, `\"`)+`"`)
		case f.word != "":
			text(f.name, f.word)
		default:
			w.b.WriteString(" " + f.name + `="`)
			w.numbers(f)
			w.b.WriteByte('"')
		}
	}
	if len(kids) == 0 {
		w.b.WriteString("/>\n")
		return
	}
	w.b.WriteString(">\n")
	for _, k := range kids {
		w.element(k)
	}
	w.b.WriteString("</" + m.typ + ">\n")
}

// surfaceOf is what materials can say: X3D 4.0 has physical ones; VRML97 has
// colours and one picture.
func surfaceOf(asXML bool) flat.Surface {
	x := flat.Surface{Emission: true, Blend: true, TwoSided: true, Clamp: true, Roles: []scene.Role{scene.RoleColour}, SaysRoles: true, Mirror: true, Sets: true, Cutoff: true, Cutout: asXML}
	if asXML {
		x.Factor, x.Metal, x.EmissionFactor, x.Unlit, x.Strength = true, true, true, true, true
		x.Roles = []scene.Role{scene.RoleColour, scene.RoleNormal, scene.RoleOcclusion, scene.RoleEmission, scene.RoleMetalRgh}
	}
	return x
}
