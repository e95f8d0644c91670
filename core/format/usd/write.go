package usd

import (
	"archive/zip"
	"bytes"
	"fmt"
	"hash/crc32"
	"math"
	"strconv"
	"strings"
	"time"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/quad"
	"excavate/core/scene"
)

// Writers are the writers for the registry: text with pictures beside it, and
// the package.
func Writers() format.Writers {
	return format.Writers{
		{Name: "usdz", Title: "USD, packed (USDZ)", Ending: ".usdz", Declares: declares, Write: func(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
			files, notes, err := Write(s, name)
			if err != nil {
				return nil, nil, err
			}
			b, err := pack(files)
			return []format.Written{{Name: flat.FileName(name) + ".usdz", Data: b}}, notes, err
		}},
		{Name: "usda", Title: "USD, text (USDA)", Ending: ".usda", Declares: declares, Write: Write},
	}
}

type writer struct {
	bytes.Buffer
	s     *scene.Scene
	depth int
	line  []byte
	files []string
	names []distinct.Names // of the prims within each prim that is open
	mats  []string         // path of each material
}

// declares tells whether a stage can say a basis: upAxis is Y or Z.
func declares(b geom.Basis) bool {
	b.MetresPerUnit = 0
	return !b.Oriented() || b == geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right} || b == geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right}
}

// Write writes a scene as USDA with its pictures: nodes with their transforms,
// skinned meshes in the rest pose, materials as preview surfaces.
func Write(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
	if err := s.Validate(); err != nil {
		return nil, nil, fmt.Errorf("write USD of %q: %w", s.Name, err)
	}
	var notes []scene.Note
	axis := "Y"
	if b := s.Basis; b.Oriented() {
		switch {
		case declares(b) && b.Up == geom.PlusZ:
			axis = "Z"
		case declares(b):
		default:
			to := geom.GLTF
			to.MetresPerUnit = s.Basis.MetresPerUnit
			t, err := s.InBasis(to)
			if err != nil {
				return nil, nil, fmt.Errorf("write USD of %q: %w", s.Name, err)
			}
			notes = append(notes, scene.Note{Text: fmt.Sprintf("turned from %s to %s, which USD can declare", s.Basis, to)})
			s = t
		}
	} else {
		notes = append(notes, scene.Note{Text: "the scene's axes are not known; the file says y up, as one must be said"})
	}
	unit := s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
		notes = append(notes, scene.Note{Text: "the scene's unit is not known; the file says metres, as one must be said"})
	}
	plain := *s
	plain.Basis = geom.Basis{}
	notes = append(notes, flat.Lost(&plain, flat.Has{Format: "USD as it is written here", Names: true, Materials: true, Pictures: true, Normals: true, UVs: 8, Colours: 1, Lines: true, Points: true, Cameras: true, VertexAlpha: true, Tree: true,
		Surface: flat.Surface{Factor: true, Metal: true, MetalFactor: true, Emission: true, EmissionFactor: true, Blend: true, Cutout: true, Cutoff: true, TwoSided: true, Strength: true, Clamp: true, Mirror: true, Sets: true,
			Roles: []scene.Role{scene.RoleColour, scene.RoleEmission, scene.RoleMetalRgh, scene.RoleNormal, scene.RoleOcclusion}}})...)
	w := &writer{s: s, files: flat.PictureNames(s)}
	fmt.Fprintf(w, "#usda 1.0\n(\n    defaultPrim = \"Root\"\n    metersPerUnit = %s\n    upAxis = \"%s\"\n)\n\n",
		strconv.FormatFloat(unit, 'g', -1, 64), axis)
	w.open("def Xform", "Root", s.Name, "")
	w.unique("Materials", "") // they come last
	var names distinct.Names
	for i := range s.Materials {
		w.mats = append(w.mats, "/Root/Materials/"+names.Name(identifier(s.Materials[i].Name, "Material"), "_"))
	}
	children := make([][]int, len(s.Nodes))
	world := s.World()
	var posed []int
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Parent >= 0 {
			children[n.Parent] = append(children[n.Parent], i)
		}
		if n.Mesh >= 0 && n.Skin >= 0 {
			posed = append(posed, i)
		}
	}
	for i := range s.Nodes {
		if s.Nodes[i].Parent < 0 {
			w.node(i, children)
		}
	}
	// Skinned meshes do not follow their own node; they stand at the top.
	for _, i := range posed {
		m := &s.Meshes[s.Nodes[i].Mesh]
		for k := range m.Parts {
			p := m.Parts[k]
			p.Positions, p.Normals = s.Posed(i, &p, world)
			w.part(&p, s.Nodes[i].Name)
		}
	}
	if len(s.Materials) > 0 {
		w.open("def Scope", "Materials", "Materials", "")
		for i := range s.Materials {
			w.material(i)
		}
		w.close()
	}
	w.close()
	out := []format.Written{{Name: flat.FileName(name) + ".usda", Data: w.Bytes()}}
	for i := range s.Pictures {
		if p := &s.Pictures[i]; !p.Missing() {
			out = append(out, format.Written{Name: w.files[i], Data: p.Data})
		}
	}
	return out, notes, nil
}

func (w *writer) put(f string, a ...any) {
	w.indent()
	fmt.Fprintf(w, f+"\n", a...)
}

// open begins a prim; what it was called is kept where its name had to change.
func (w *writer) open(def, prim, name, meta string) {
	if name != prim && name != "" {
		meta = strings.TrimSpace(fmt.Sprintf("displayName = %s\n%s", strconv.Quote(strings.ToValidUTF8(name, "_")), meta))
	}
	if meta == "" {
		w.put("%s \"%s\"", def, prim)
	} else {
		w.put("%s \"%s\" (", def, prim)
		for _, l := range strings.Split(meta, "\n") {
			w.put("    %s", l)
		}
		w.put(")")
	}
	w.put("{")
	w.depth++
	w.names = append(w.names, distinct.Names{})
}

func (w *writer) close() {
	w.depth--
	w.names = w.names[:w.depth]
	w.put("}")
}

// indent begins a line; what lies very deep is no longer moved to the right.
func (w *writer) indent() {
	w.WriteString("                                                                "[:4*min(w.depth, 16)])
}

// identifier is a name as prims have it: letters, digits and _ only.
func identifier(name, usual string) string {
	id := strings.Map(func(r rune) rune {
		if r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, name)
	if id == "" {
		id = usual
	}
	if id[0] >= '0' && id[0] <= '9' {
		id = "_" + id
	}
	return id
}

// unique is an identifier that no other prim has in the one that is open.
func (w *writer) unique(name, usual string) string {
	return w.names[len(w.names)-1].Name(identifier(name, usual), "_")
}

func (w *writer) node(i int, children [][]int) {
	n := &w.s.Nodes[i]
	w.open("def Xform", w.unique(n.Name, "node"), n.Name, "")
	m := n.Local()
	w.put("matrix4d xformOp:transform = ( (%.9g, %.9g, %.9g, 0), (%.9g, %.9g, %.9g, 0), (%.9g, %.9g, %.9g, 0), (%.9g, %.9g, %.9g, 1) )", m[0], m[1], m[2], m[4], m[5], m[6], m[8], m[9], m[10], m[12], m[13], m[14])
	w.put("uniform token[] xformOpOrder = [\"xformOp:transform\"]")
	if n.Mesh >= 0 && n.Skin < 0 {
		mesh := &w.s.Meshes[n.Mesh]
		for k := range mesh.Parts {
			w.part(&mesh.Parts[k], mesh.Name)
		}
	}
	if n.Camera >= 0 {
		w.camera(&w.s.Cameras[n.Camera])
	}
	for _, c := range children[i] {
		w.node(c, children)
	}
	w.close()
}

// camera writes a UsdGeomCamera, which looks along -Z with Y up whatever the
// stage's axes are. Its lengths are tenths of the unit; only their proportion
// counts where there is perspective.
func (w *writer) camera(c *scene.Camera) {
	w.open("def Camera", w.unique(c.Name, "camera"), c.Name, "")
	aspect := float64(c.Aspect)
	if aspect <= 0 {
		aspect = 1.5
	}
	high, projection := 24.0, "perspective"
	if c.Orthographic {
		high, projection = 20*float64(c.Height), "orthographic"
	}
	w.put("token projection = \"%s\"", projection)
	w.put("float2 clippingRange = (%g, %g)", c.Near, c.Far)
	w.put("float horizontalAperture = %.7g", high*aspect)
	w.put("float verticalAperture = %.7g", high)
	if !c.Orthographic {
		w.put("float focalLength = %.7g", high/2/math.Tan(float64(c.FovY)/2))
	}
	if q := w.s.Basis.View().Inverse(); q != geom.IdentityQuat {
		w.put("quatf xformOp:orient = (%.9g, %.9g, %.9g, %.9g)", q[3], q[0], q[1], q[2])
		w.put("uniform token[] xformOpOrder = [\"xformOp:orient\"]")
	}
	w.close()
}

// tuples writes a list of width numbers an element.
func (w *writer) tuples(decl string, v []float32, width int, end string) {
	w.indent()
	w.WriteString(decl + " = [")
	line := w.line[:0]
	for i, f := range v {
		switch {
		case width == 1 && i > 0:
			line = append(line, ", "...)
		case width > 1 && i%width == 0 && i > 0:
			line = append(line, "), ("...)
		case width > 1 && i%width == 0:
			line = append(line, '(')
		case width > 1:
			line = append(line, ", "...)
		}
		line = strconv.AppendFloat(line, float64(f), 'g', -1, 32)
	}
	if width > 1 && len(v) > 0 {
		line = append(line, ')')
	}
	w.line = line
	w.Write(line)
	w.WriteString("]" + end + "\n")
}

// part writes what a part has of triangles, lines and points, each a prim.
func (w *writer) part(p *scene.Part, name string) {
	if len(p.Triangles) > 0 {
		w.surface(p, name)
	}
	if len(p.Lines) > 1 {
		w.open("def BasisCurves", w.unique(name, "lines"), name, w.bound(p))
		w.bind(p)
		w.put("uniform token type = \"linear\"")
		w.put("uniform token wrap = \"nonperiodic\"")
		w.each("int[] curveVertexCounts", len(p.Lines)/2, func(line []byte, i int) []byte { return append(line, '2') })
		w.vertices(p, p.Lines[:len(p.Lines)/2*2])
		w.close()
	}
	if len(p.Points) > 0 {
		w.open("def Points", w.unique(name, "points"), name, w.bound(p))
		w.bind(p)
		w.vertices(p, p.Points)
		w.close()
	}
}

// vertices writes the places and colours of some of a part's vertices.
func (w *writer) vertices(p *scene.Part, of []uint32) {
	at := make([]float32, 0, 3*len(of))
	for _, v := range of {
		at = append(at, p.Positions[3*v:3*v+3]...)
	}
	w.tuples("point3f[] points", at, 3, "")
	if len(p.Colours) > 0 {
		c := make([]float32, 0, 4*len(of))
		for _, v := range of {
			c = append(c, p.Colours[0].Data[4*v:4*v+4]...)
		}
		w.colours(c)
	}
}

const vertex = " (interpolation = \"vertex\")"

func (w *writer) colours(c []float32) {
	rgb, a := make([]float32, 0, len(c)/4*3), make([]float32, 0, len(c)/4)
	for i := 0; i+3 < len(c); i += 4 {
		rgb, a = append(rgb, c[i:i+3]...), append(a, c[i+3])
	}
	w.tuples("color3f[] primvars:displayColor", rgb, 3, vertex)
	w.tuples("float[] primvars:displayOpacity", a, 1, vertex)
}

// bound is what the head of a prim says where it has a material.
func (w *writer) bound(p *scene.Part) string {
	if p.Material < 0 {
		return ""
	}
	return `prepend apiSchemas = ["MaterialBindingAPI"]`
}

func (w *writer) bind(p *scene.Part) {
	if p.Material >= 0 {
		w.put("rel material:binding = <%s>", w.mats[p.Material])
	}
}

// each writes a list whose elements set appends.
func (w *writer) each(decl string, n int, set func(line []byte, i int) []byte) {
	w.indent()
	w.WriteString(decl + " = [")
	line := w.line[:0]
	for i := range n {
		if i > 0 {
			line = append(line, ", "...)
		}
		line = set(line, i)
	}
	w.line = line
	w.Write(line)
	w.WriteString("]\n")
}

func (w *writer) surface(p *scene.Part, name string) {
	w.open("def Mesh", w.unique(name, "mesh"), name, w.bound(p))
	if p.Material >= 0 && w.s.Materials[p.Material].TwoSided {
		w.put("uniform bool doubleSided = 1")
	}
	w.bind(p)
	sizes, corners := quad.Faces(p.Quads, p.Positions, p.Triangles)
	w.each("int[] faceVertexCounts", len(sizes), func(line []byte, i int) []byte { return append(line, '0'+sizes[i]) })
	w.each("int[] faceVertexIndices", len(corners), func(line []byte, i int) []byte { return strconv.AppendUint(line, uint64(corners[i]), 10) })
	w.tuples("point3f[] points", p.Positions, 3, "")
	if p.Normals != nil {
		w.tuples("normal3f[] normals", p.Normals, 3, vertex)
	}
	for k, u := range p.UVs {
		d := make([]float32, len(u.Data))
		for i := 0; i+1 < len(d); i += 2 {
			d[i], d[i+1] = u.Data[i], 1-u.Data[i+1]
		}
		w.tuples("texCoord2f[] primvars:"+setName(k), d, 2, vertex)
	}
	if len(p.Colours) > 0 {
		w.colours(p.Colours[0].Data)
	}
	w.put("uniform token subdivisionScheme = \"none\"")
	w.close()
}

func setName(k int) string {
	if k == 0 {
		return "st"
	}
	return fmt.Sprintf("st%d", k)
}

func (w *writer) material(i int) {
	m, path := &w.s.Materials[i], w.mats[i]
	w.open("def Material", path[strings.LastIndexByte(path, '/')+1:], m.Name, "")
	w.put("token outputs:surface.connect = <%s/surface.outputs:surface>", path)
	w.open("def Shader", "surface", "", "")
	w.put("uniform token info:id = \"UsdPreviewSurface\"")
	tex := func(role scene.Role) *scene.Texture {
		t := m.Texture(role)
		if t == nil || w.s.Pictures[t.Picture].Missing() {
			return nil
		}
		return t
	}
	id := func(role scene.Role) string { return strings.NewReplacer(" ", "_", "-", "_").Replace(string(role)) }
	input := func(typ, name string, role scene.Role, out, plain string) {
		if tex(role) != nil {
			w.put("%s inputs:%s.connect = <%s/%s.outputs:%s>", typ, name, path, id(role), out)
		} else {
			w.put("%s inputs:%s = %s", typ, name, plain)
		}
	}
	rgb := func(c []float32) string { return fmt.Sprintf("(%g, %g, %g)", c[0], c[1], c[2]) }
	input("color3f", "diffuseColor", scene.RoleColour, "rgb", rgb(m.BaseColour[:3]))
	if m.Emissive != [3]float32{} || tex(scene.RoleEmission) != nil {
		input("color3f", "emissiveColor", scene.RoleEmission, "rgb", rgb(m.Emissive[:]))
	}
	input("float", "metallic", scene.RoleMetalRgh, "b", fmt.Sprintf("%g", m.Metallic))
	input("float", "roughness", scene.RoleMetalRgh, "g", fmt.Sprintf("%g", m.Roughness))
	if tex(scene.RoleNormal) != nil {
		input("normal3f", "normal", scene.RoleNormal, "rgb", "")
	}
	if tex(scene.RoleOcclusion) != nil {
		input("float", "occlusion", scene.RoleOcclusion, "r", "")
	}
	if m.Alpha != scene.Opaque {
		if tex(scene.RoleColour) != nil {
			w.put("float inputs:opacity.connect = <%s/%s.outputs:a>", path, id(scene.RoleColour))
		} else {
			w.put("float inputs:opacity = %g", m.BaseColour[3])
		}
		if m.Alpha == scene.Cutout {
			w.put("float inputs:opacityThreshold = %g", max(m.Cutoff, 1e-4))
		}
	}
	w.put("int inputs:useSpecularWorkflow = 0")
	w.put("token outputs:surface")
	w.close()
	for _, t := range m.Textures {
		if tex(t.Role) == nil || t.Role != scene.RoleColour && t.Role != scene.RoleEmission && t.Role != scene.RoleMetalRgh && t.Role != scene.RoleNormal && t.Role != scene.RoleOcclusion {
			continue
		}
		w.open("def Shader", id(t.Role)+"_uv", "", "")
		w.put("uniform token info:id = \"UsdPrimvarReader_float2\"")
		w.put("string inputs:varname = \"%s\"", setName(t.UVSet))
		w.put("float2 outputs:result")
		w.close()
		if x := t.Transform; x != nil {
			// USD counts V from below: with v = 1 - t on both sides, the same turn and
			// scale, and the offset of what lies at t = 0 (UsdPreviewSurface
			// specification, Transform2d: scale, rotate, translate).
			sin, cos := math.Sincos(float64(x.Rotation))
			sy := float64(x.Scale[1])
			w.open("def Shader", id(t.Role)+"_place", "", "")
			w.put("uniform token info:id = \"UsdTransform2d\"")
			w.put("float2 inputs:in.connect = <%s/%s_uv.outputs:result>", path, id(t.Role))
			w.put("float inputs:rotation = %g", float32(float64(x.Rotation)*180/math.Pi))
			w.put("float2 inputs:scale = (%g, %g)", x.Scale[0], x.Scale[1])
			w.put("float2 inputs:translation = (%g, %g)", float32(float64(x.Offset[0])+sin*sy), float32(1-cos*sy-float64(x.Offset[1])))
			w.put("float2 outputs:result")
			w.close()
		}
		w.open("def Shader", id(t.Role), "", "")
		w.put("uniform token info:id = \"UsdUVTexture\"")
		w.put("asset inputs:file = @%s@", w.files[t.Picture])
		space := "raw"
		if t.Role.Colour() {
			space = "sRGB"
		}
		w.put("token inputs:sourceColorSpace = \"%s\"", space)
		wrap := func(x scene.Wrap) string {
			return map[scene.Wrap]string{scene.Repeat: "repeat", scene.Clamp: "clamp", scene.Mirror: "mirror"}[x]
		}
		w.put("token inputs:wrapS = \"%s\"", wrap(t.WrapU))
		w.put("token inputs:wrapT = \"%s\"", wrap(t.WrapV))
		scale, bias := looked(m, &t)
		if scale != [4]float32{1, 1, 1, 1} {
			w.put("float4 inputs:scale = (%g, %g, %g, %g)", scale[0], scale[1], scale[2], scale[3])
		}
		if bias != [4]float32{} {
			w.put("float4 inputs:bias = (%g, %g, %g, %g)", bias[0], bias[1], bias[2], bias[3])
		}
		from := id(t.Role) + "_uv"
		if t.Transform != nil {
			from = id(t.Role) + "_place"
		}
		w.put("float2 inputs:st.connect = <%s/%s.outputs:result>", path, from)
		w.put("float3 outputs:rgb")
		for _, c := range "rgba" {
			w.put("float outputs:%c", c)
		}
		w.close()
	}
	w.close()
}

// looked is what a texel is multiplied by, and what is added: the factors that
// stand beside a picture, and how far normals and occlusion count.
func looked(m *scene.Material, t *scene.Texture) (scale, bias [4]float32) {
	scale = [4]float32{1, 1, 1, 1}
	switch t.Role {
	case scene.RoleColour:
		scale = m.BaseColour
	case scene.RoleEmission:
		scale = [4]float32{m.Emissive[0], m.Emissive[1], m.Emissive[2], 1}
	case scene.RoleMetalRgh:
		scale = [4]float32{1, m.Roughness, m.Metallic, 1}
	case scene.RoleNormal: // from 0..1 to -1..1
		k := t.Scale
		return [4]float32{2 * k, 2 * k, 2, 1}, [4]float32{-k, -k, -1, 0}
	case scene.RoleOcclusion: // 1 + strength * (texel - 1), as glTF 2.0 has it (3.9.3)
		k := t.Scale
		return [4]float32{k, k, k, 1}, [4]float32{1 - k, 1 - k, 1 - k, 0}
	}
	return scale, bias
}

// pack makes the package: a ZIP without compression in which each file's bytes
// begin at a multiple of 64 (USDZ specification, "Layout").
func pack(files []format.Written) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.Name, Method: zip.Store, CRC32: crc32.ChecksumIEEE(f.Data), CompressedSize64: uint64(len(f.Data)), UncompressedSize64: uint64(len(f.Data)), Modified: time.Time{}}
		if err := z.Flush(); err != nil {
			return nil, err
		}
		// A field of the kind that the specification gives for padding.
		pad := 64 - (b.Len()+30+len(f.Name)+4)%64
		h.Extra = append([]byte{0x86, 0x19, byte(pad), byte(pad >> 8)}, make([]byte, pad)...)
		w, err := z.CreateRaw(h)
		if err != nil {
			return nil, err
		}
		if _, err := w.Write(f.Data); err != nil {
			return nil, err
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
