package dae

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/quad"
	"excavate/core/scene"
)

// Writer is the writer for the registry.
func Writer(generator string) format.Writer {
	return format.Writer{Name: "collada", Title: "COLLADA 1.4.1", Ending: ".dae", Declares: func(b geom.Basis) bool { return !b.Oriented() || declared(b) >= 0 }, Write: func(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
		return Write(s, name, generator)
	}}
}

// axes are the bases that COLLADA can declare, by its words for them.
var axes = []struct {
	word  string
	basis geom.Basis
}{
	{"Y_UP", geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right}},
	{"Z_UP", geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right}},
	{"X_UP", geom.Basis{Up: geom.PlusX, Front: geom.PlusZ, Handed: geom.Right}},
}

// declared is the place of a basis' axes among those that can be declared, or
// -1.
func declared(b geom.Basis) int {
	b.MetresPerUnit = 0
	for k := range axes {
		if axes[k].basis == b {
			return k
		}
	}
	return -1
}

type writer struct {
	bytes.Buffer
	s     *scene.Scene
	line  []byte
	notes []scene.Note
	depth int
	names []string // identifier of each node
	turn  geom.Quat
	files []string   // of the pictures
	clips [][]string // animations of each motion
}

// Write writes a scene as COLLADA 1.4.1 with its pictures beside it. What the
// common profile has no place for is kept in an extra of our own.
func Write(s *scene.Scene, name, generator string) ([]format.Written, []scene.Note, error) {
	if err := s.Validate(); err != nil {
		return nil, nil, fmt.Errorf("write COLLADA of %q: %w", s.Name, err)
	}
	w := &writer{turn: geom.IdentityQuat}
	word, unit := "Y_UP", s.Basis.MetresPerUnit
	if b := s.Basis; b.Oriented() {
		k := declared(b)
		if k < 0 {
			to := axes[0].basis
			to.MetresPerUnit = unit
			t, err := s.InBasis(to)
			if err != nil {
				return nil, nil, fmt.Errorf("write COLLADA of %q: %w", s.Name, err)
			}
			w.notes = append(w.notes, scene.Note{Text: fmt.Sprintf("turned from %s to %s, which COLLADA can declare", s.Basis, to)})
			s, k = t, 0
		}
		word = axes[k].word
		w.turn = s.Basis.View().Inverse()
	} else {
		w.notes = append(w.notes, scene.Note{Text: "the scene's axes are not known; the file says y up, as one must be said"})
	}
	if unit == 0 {
		unit = 1
		w.notes = append(w.notes, scene.Note{Text: "the scene's unit is not known; the file says metres, as one must be said"})
	}
	s, baked := flat.Baked(s)
	w.notes = append(w.notes, baked...)
	w.s = s
	file := flat.FileName(name)
	w.files = flat.PictureNames(s)
	w.WriteString(xml.Header)
	w.open(`COLLADA xmlns="http://www.collada.org/2005/11/COLLADASchema" version="1.4.1"`)
	w.asset(generator, word, unit)
	w.cameras()
	w.lights()
	w.images()
	w.materials()
	w.geometries()
	w.controllers()
	w.animations()
	w.scene()
	w.close("COLLADA")
	out := []format.Written{{Name: file + ".dae", Data: w.Bytes()}}
	missing := 0
	for i := range s.Pictures {
		if p := &s.Pictures[i]; p.Missing() {
			missing++
		} else {
			out = append(out, format.Written{Name: w.files[i], Data: p.Data})
		}
	}
	lose := func(n int, one, many, text string) {
		if n > 0 {
			w.notes = append(w.notes, scene.Note{Text: format.Counted(n, one, many) + text, Loss: true})
		}
	}
	lose(missing, "picture that was not found is", "pictures that were not found are", " not in the file")
	tangents, points := 0, 0
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			if s.Meshes[i].Parts[k].Tangents != nil {
				tangents++
			}
			points += len(s.Meshes[i].Parts[k].Points)
		}
	}
	lose(tangents, "part's tangents", "parts' tangents", " not written: they follow from normals and UVs")
	lose(points, "point", "points", " not written: COLLADA has none")
	w.notes = append(w.notes, flat.LostOfSurfaces(s, "COLLADA", flat.Surface{Metal: true, MetalFactor: true, Emission: true, Blend: true, Cutout: true, Cutoff: true, TwoSided: true, Unlit: true, Clamp: true, Mirror: true, Nearest: true, Sets: true,
		Roles: []scene.Role{scene.RoleColour, scene.RoleEmission, scene.RoleMetalRgh, scene.RoleNormal, scene.RoleOcclusion}})...)
	w.notes = append(w.notes, flat.LostOfTerms(s, "COLLADA", true, false, true)...)
	reach, inner, curves := 0, 0, 0
	for _, l := range s.Lights {
		if l.Range > 0 {
			reach++
		}
		if l.Inner > 0 {
			inner++
		}
	}
	for _, m := range s.Motions {
		for _, c := range m.Channels {
			if c.Interp == scene.Cubic {
				curves++
			}
		}
	}
	lose(reach, "light's reach", "lights' reach", " not written: COLLADA has none")
	lose(inner, "spot light's inner cone", "spot lights' inner cones", " not written: COLLADA has none")
	lose(curves, "channel of a motion with curves between keys was", "channels of motions with curves between keys were", " written as straight lines between more keys")
	if s.Avatar != nil {
		lose(1, "avatar's humanoid bones, expressions, springs, gaze and licence fields", "", " not written: COLLADA has none")
	}
	return out, w.notes, nil
}

// indent begins a line; what lies very deep is no longer moved to the right.
func (w *writer) indent() {
	for range min(w.depth, 32) {
		w.WriteByte(' ')
	}
}

// open begins an element; tag holds its attributes.
func (w *writer) open(tag string, a ...any) {
	w.indent()
	fmt.Fprintf(w, "<"+tag+">\n", a...)
	w.depth++
}

func (w *writer) close(name string) {
	w.depth--
	w.indent()
	fmt.Fprintf(w, "</%s>\n", name)
}

// leaf writes an element on one line.
func (w *writer) leaf(text string, a ...any) {
	w.indent()
	fmt.Fprintf(w, text+"\n", a...)
}

// esc is a text as attributes and elements hold it.
func esc(s string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(strings.ToValidUTF8(s, "_"))) //nolint:errcheck // a buffer takes all
	return b.String()
}

func (w *writer) floats(tag string, v []float32) {
	w.indent()
	fmt.Fprintf(w, "<%s>", tag)
	line := w.line[:0]
	for i, f := range v {
		if i > 0 {
			line = append(line, ' ')
		}
		line = strconv.AppendFloat(line, float64(f), 'g', -1, 32)
	}
	w.line = line
	w.Write(line)
	name, _, _ := strings.Cut(tag, " ")
	fmt.Fprintf(w, "</%s>\n", name)
}

// source writes numbers with their accessor.
func (w *writer) source(id, name string, v []float32, params ...string) {
	n := len(params)
	typ := "float"
	if params[0] == "TRANSFORM" {
		n, typ = 16, "float4x4"
	}
	if name != "" {
		w.open(`source id="%s" name="%s"`, id, esc(name))
	} else {
		w.open(`source id="%s"`, id)
	}
	w.floats(fmt.Sprintf(`float_array id="%s-array" count="%d"`, id, len(v)), v)
	w.open("technique_common")
	w.open(`accessor source="#%s-array" count="%d" stride="%d"`, id, len(v)/n, n)
	for _, p := range params {
		w.leaf(`<param name="%s" type="%s"/>`, p, typ)
	}
	w.close("accessor")
	w.close("technique_common")
	w.close("source")
}

func (w *writer) names1(id, tag, param, typ string, names []string) {
	w.open(`source id="%s"`, id)
	w.leaf(`<%s id="%s-array" count="%d">%s</%s>`, tag, id, len(names), strings.Join(names, " "), tag)
	w.open("technique_common")
	w.open(`accessor source="#%s-array" count="%d" stride="1"`, id, len(names))
	w.leaf(`<param name="%s" type="%s"/>`, param, typ)
	w.close("accessor")
	w.close("technique_common")
	w.close("source")
}

func (w *writer) asset(generator, axis string, unit float64) {
	w.open("asset")
	w.open("contributor")
	if o := w.s.Terms.Owner; o != "" {
		w.leaf("<author>%s</author>", esc(o))
	}
	w.leaf("<authoring_tool>%s</authoring_tool>", esc(generator))
	if t := w.s.Terms.Text; t != "" {
		w.leaf("<copyright>%s</copyright>", esc(t))
	}
	w.close("contributor")
	w.leaf("<created>2000-01-01T00:00:00Z</created>") // the same scene gives the same bytes
	w.leaf("<modified>2000-01-01T00:00:00Z</modified>")
	w.leaf(`<unit name="unit" meter="%s"/>`, strconv.FormatFloat(unit, 'g', -1, 64))
	w.leaf("<up_axis>%s</up_axis>", axis)
	w.close("asset")
}

func (w *writer) cameras() {
	if len(w.s.Cameras) == 0 {
		return
	}
	w.open("library_cameras")
	for i, c := range w.s.Cameras {
		w.open(`camera id="camera%d" name="%s"`, i, esc(c.Name))
		w.open("optics")
		w.open("technique_common")
		kind := "perspective"
		if c.Orthographic {
			kind = "orthographic"
		}
		w.open(kind)
		if c.Orthographic {
			w.leaf("<ymag>%g</ymag>", c.Height)
		} else {
			w.leaf("<yfov>%g</yfov>", float64(c.FovY)*180/math.Pi)
		}
		if c.Aspect > 0 {
			w.leaf("<aspect_ratio>%g</aspect_ratio>", c.Aspect)
		}
		w.leaf("<znear>%g</znear>", c.Near)
		w.leaf("<zfar>%g</zfar>", c.Far)
		w.close(kind)
		w.close("technique_common")
		w.close("optics")
		w.close("camera")
	}
	w.close("library_cameras")
}

func (w *writer) lights() {
	if len(w.s.Lights) == 0 {
		return
	}
	w.open("library_lights")
	for i, l := range w.s.Lights {
		kind := l.Type
		if kind != "directional" && kind != "spot" {
			kind = "point"
		}
		w.open(`light id="light%d" name="%s"`, i, esc(l.Name))
		w.open("technique_common")
		w.open(kind)
		k := l.Intensity
		w.leaf("<color>%g %g %g</color>", l.Colour[0]*k, l.Colour[1]*k, l.Colour[2]*k)
		if kind == "spot" {
			w.leaf("<falloff_angle>%g</falloff_angle>", float64(l.Outer)*360/math.Pi)
		}
		w.close(kind)
		w.close("technique_common")
		w.close("light")
	}
	w.close("library_lights")
}

func (w *writer) images() {
	if len(w.s.Pictures) == 0 {
		return
	}
	w.open("library_images")
	for i := range w.s.Pictures {
		p := &w.s.Pictures[i]
		ref := w.files[i]
		if p.Missing() && p.Ref != "" {
			ref = p.Ref
		}
		w.leaf(`<image id="image%d" name="%s"><init_from>%s</init_from></image>`, i, esc(p.Name), esc(strings.NewReplacer("%", "%25", " ", "%20", "#", "%23").Replace(ref)))
	}
	w.close("library_images")
}

func (w *writer) materials() {
	if len(w.s.Materials) == 0 {
		return
	}
	w.open("library_effects")
	for i := range w.s.Materials {
		w.effect(i, &w.s.Materials[i])
	}
	w.close("library_effects")
	w.open("library_materials")
	for i := range w.s.Materials {
		w.leaf(`<material id="material%d" name="%s"><instance_effect url="#effect%d"/></material>`, i, esc(w.s.Materials[i].Name), i)
	}
	w.close("library_materials")
}

func (w *writer) effect(i int, m *scene.Material) {
	w.open(`effect id="effect%d"`, i)
	w.open("profile_COMMON")
	for k, t := range m.Textures {
		w.leaf(`<newparam sid="surface%d"><surface type="2D"><init_from>image%d</init_from></surface></newparam>`, k, t.Picture)
		wrap := func(x scene.Wrap) string {
			return map[scene.Wrap]string{scene.Repeat: "WRAP", scene.Clamp: "CLAMP", scene.Mirror: "MIRROR"}[x]
		}
		filter := "LINEAR"
		if t.Nearest {
			filter = "NEAREST"
		}
		w.leaf(`<newparam sid="sampler%d"><sampler2D><source>surface%d</source><wrap_s>%s</wrap_s><wrap_t>%s</wrap_t><magfilter>%s</magfilter></sampler2D></newparam>`, k, k, wrap(t.WrapU), wrap(t.WrapV), filter)
	}
	sampler := func(r scene.Role) (string, bool) {
		for k, t := range m.Textures {
			if t.Role == r {
				return fmt.Sprintf(`<texture texture="sampler%d" texcoord="uv%d"/>`, k, t.UVSet), true
			}
		}
		return "", false
	}
	colour := func(c [3]float32, a float32) string {
		return fmt.Sprintf("<color>%g %g %g %g</color>", float32(format.Display(c[0])), float32(format.Display(c[1])), float32(format.Display(c[2])), a)
	}
	w.open(`technique sid="common"`)
	base, textured := sampler(scene.RoleColour)
	if !textured {
		base = colour([3]float32(m.BaseColour[:3]), 1)
	}
	kind := "phong"
	if m.Unlit {
		kind = "constant"
		w.open(kind)
		w.leaf("<emission>%s</emission>", base)
	} else {
		w.open(kind)
		if t, ok := sampler(scene.RoleEmission); ok {
			w.leaf("<emission>%s</emission>", t)
		} else {
			w.leaf("<emission>%s</emission>", colour(m.Emissive, 1))
		}
		w.leaf("<diffuse>%s</diffuse>", base)
		r := math.Max(float64(m.Roughness), 0.04)
		w.leaf("<specular>%s</specular>", colour([3]float32{0.04, 0.04, 0.04}, 1))
		w.leaf("<shininess><float>%g</float></shininess>", float32(2/(r*r*r*r)-2))
	}
	switch {
	case m.Alpha == scene.Blend && textured:
		w.leaf(`<transparent opaque="A_ONE">%s</transparent>`, base)
		w.leaf("<transparency><float>%g</float></transparency>", m.BaseColour[3])
	case m.Alpha != scene.Opaque:
		w.leaf(`<transparent opaque="A_ONE">%s</transparent>`, colour([3]float32{1, 1, 1}, m.BaseColour[3]))
		w.leaf("<transparency><float>1</float></transparency>")
	}
	w.close(kind)
	w.open("extra")
	w.open(`technique profile="%s"`, profile)
	w.leaf("<metallic>%g</metallic>", m.Metallic)
	w.leaf("<roughness>%g</roughness>", m.Roughness)
	w.leaf("<alpha>%s</alpha>", m.Alpha)
	w.leaf("<cutoff>%g</cutoff>", m.Cutoff)
	if m.TwoSided {
		w.leaf("<double_sided>1</double_sided>")
	}
	for _, t := range m.Textures {
		if t.Role == scene.RoleColour || t.Role == scene.RoleEmission && !m.Unlit {
			continue
		}
		x, _ := sampler(t.Role)
		w.leaf(`<picture role="%s">%s</picture>`, t.Role, x)
	}
	w.close("technique")
	w.close("extra")
	w.close("technique")
	w.close("profile_COMMON")
	w.close("effect")
}

func (w *writer) geometries() {
	if len(w.s.Meshes) == 0 {
		return
	}
	w.open("library_geometries")
	for i := range w.s.Meshes {
		m := &w.s.Meshes[i]
		w.mesh(fmt.Sprintf("mesh%d", i), m.Name, m, scene.None)
		for k := range targets(m) {
			w.mesh(fmt.Sprintf("mesh%d-target%d", i, k), m.Parts[0].Morphs[k].Name, m, k)
		}
	}
	w.close("library_geometries")
}

// targets is how many morph targets all parts of a mesh have.
func targets(m *scene.Mesh) int {
	n := math.MaxInt
	for i := range m.Parts {
		n = min(n, len(m.Parts[i].Morphs))
	}
	if len(m.Parts) == 0 {
		return 0
	}
	return n
}

// mesh writes a mesh as one geometry: the parts' vertices one after the other,
// as a morph target has them or, with None, at rest.
func (w *writer) mesh(id, name string, m *scene.Mesh, target int) {
	w.open(`geometry id="%s" name="%s"`, id, esc(name))
	w.open("mesh")
	var pos, nrm []float32
	normals := len(m.Parts) > 0
	for i := range m.Parts {
		normals = normals && m.Parts[i].Normals != nil
	}
	add := func(v, d []float32) []float32 {
		if d == nil {
			return v
		}
		out := make([]float32, len(v))
		for i := range v {
			out[i] = v[i] + d[i]
		}
		return out
	}
	for i := range m.Parts {
		p := &m.Parts[i]
		v, n := p.Positions, p.Normals
		if target >= 0 {
			v, n = add(v, p.Morphs[target].Positions), add(n, p.Morphs[target].Normals)
		}
		pos = append(pos, v...)
		if normals {
			nrm = append(nrm, n...)
		}
	}
	w.source(id+"-positions", "", pos, "X", "Y", "Z")
	if normals {
		w.source(id+"-normals", "", nrm, "X", "Y", "Z")
	}
	if target < 0 {
		for i := range m.Parts {
			p := &m.Parts[i]
			for k, u := range p.UVs {
				d := slices.Clone(u.Data)
				for j := 1; j < len(d); j += 2 {
					d[j] = 1 - d[j]
				}
				w.source(fmt.Sprintf("%s-part%d-uv%d", id, i, k), u.Name, d, "S", "T")
			}
			for k, c := range p.Colours {
				d := slices.Clone(c.Data)
				for j := range d {
					if j%4 != 3 {
						d[j] = float32(format.Display(d[j]))
					}
				}
				w.source(fmt.Sprintf("%s-part%d-colour%d", id, i, k), c.Name, d, "R", "G", "B", "A")
			}
		}
	}
	w.open(`vertices id="%s-vertices"`, id)
	w.leaf(`<input semantic="POSITION" source="#%s-positions"/>`, id)
	w.close("vertices")
	from := 0
	for i := range m.Parts {
		p := &m.Parts[i]
		if p.Quads == nil {
			w.indices("triangles", id, i, p, p.Triangles, len(p.Triangles)/3, nil, from, normals, target)
		} else {
			sizes, corners := quad.Faces(p.Quads, p.Positions, p.Triangles)
			w.indices("polylist", id, i, p, corners, len(sizes), sizes, from, normals, target)
		}
		w.indices("lines", id, i, p, p.Lines, len(p.Lines)/2, nil, from, normals, target)
		from += p.Vertices()
	}
	w.close("mesh")
	w.close("geometry")
}

// indices writes count faces or lines of part i; sizes are the corners of each
// where they differ.
func (w *writer) indices(tag, id string, i int, p *scene.Part, list []uint32, count int, sizes []uint8, from int, normals bool, target int) {
	if len(list) == 0 {
		return
	}
	mat := ""
	if p.Material >= 0 {
		mat = fmt.Sprintf(` material="material%d"`, p.Material)
	}
	w.open(`%s count="%d"%s`, tag, count, mat)
	w.leaf(`<input semantic="VERTEX" source="#%s-vertices" offset="0"/>`, id)
	if normals {
		w.leaf(`<input semantic="NORMAL" source="#%s-normals" offset="0"/>`, id)
	}
	second := false
	if target < 0 {
		// UVs and colours count from the part's own first vertex.
		for k := range p.UVs {
			w.leaf(`<input semantic="TEXCOORD" source="#%s-part%d-uv%d" offset="1" set="%d"/>`, id, i, k, k)
			second = true
		}
		for k := range p.Colours {
			w.leaf(`<input semantic="COLOR" source="#%s-part%d-colour%d" offset="1" set="%d"/>`, id, i, k, k)
			second = true
		}
	}
	line := w.line[:0]
	if sizes != nil {
		for k, n := range sizes {
			if k > 0 {
				line = append(line, ' ')
			}
			line = append(line, '0'+n)
		}
		w.leaf("<vcount>%s</vcount>", line)
		line = line[:0]
	}
	w.indent()
	w.WriteString("<p>")
	for k, v := range list {
		if k > 0 {
			line = append(line, ' ')
		}
		line = strconv.AppendInt(line, int64(v)+int64(from), 10)
		if second {
			line = strconv.AppendInt(append(line, ' '), int64(v), 10)
		}
	}
	w.line = line
	w.Write(line)
	w.WriteString("</p>\n")
	w.close(tag)
}

// shown lists what each pair of mesh and skin that nodes show is written as.
func (w *writer) shown() (pairs [][2]int) {
	for i := range w.s.Nodes {
		n := &w.s.Nodes[i]
		p := [2]int{n.Mesh, n.Skin}
		if n.Mesh >= 0 && !slices.Contains(pairs, p) {
			pairs = append(pairs, p)
		}
	}
	return pairs
}

func (w *writer) controllers() {
	w.names = make([]string, len(w.s.Nodes))
	for i := range w.names {
		w.names[i] = fmt.Sprintf("node%d", i)
	}
	any := false
	for _, p := range w.shown() {
		m := &w.s.Meshes[p[0]]
		n := targets(m)
		if n == 0 && p[1] < 0 {
			continue
		}
		if !any {
			w.open("library_controllers")
			any = true
		}
		base := fmt.Sprintf("mesh%d", p[0])
		if n > 0 && !bytes.Contains(w.Bytes(), []byte(`<controller id="`+base+`-morph"`)) {
			w.morph(base, m, n)
		}
		if n > 0 {
			base += "-morph"
		}
		if p[1] >= 0 {
			w.skin(p, base, m)
		}
	}
	if any {
		w.close("library_controllers")
	}
}

func (w *writer) morph(base string, m *scene.Mesh, n int) {
	id := base + "-morph"
	w.open(`controller id="%s" name="%s"`, id, esc(m.Name))
	w.open(`morph source="#%s" method="NORMALIZED"`, base)
	var names []string
	var weights []float32
	for k := range n {
		names = append(names, fmt.Sprintf("%s-target%d", base, k))
		weights = append(weights, m.Parts[0].Morphs[k].Weight)
	}
	w.names1(id+"-targets", "IDREF_array", "IDREF", "IDREF", names)
	w.source(id+"-weights", "", weights, "MORPH_WEIGHT")
	w.open("targets")
	w.leaf(`<input semantic="MORPH_TARGET" source="#%s-targets"/>`, id)
	w.leaf(`<input semantic="MORPH_WEIGHT" source="#%s-weights"/>`, id)
	w.close("targets")
	w.close("morph")
	w.close("controller")
}

func (w *writer) skin(p [2]int, base string, m *scene.Mesh) {
	k := &w.s.Skins[p[1]]
	id := fmt.Sprintf("mesh%d-skin%d", p[0], p[1])
	w.open(`controller id="%s" name="%s"`, id, esc(k.Name))
	w.open(`skin source="#%s"`, base)
	w.leaf("<bind_shape_matrix>1 0 0 0 0 1 0 0 0 0 1 0 0 0 0 1</bind_shape_matrix>")
	var names []string
	for _, j := range k.Joints {
		names = append(names, w.names[j])
	}
	w.names1(id+"-joints", "Name_array", "JOINT", "name", names)
	inverse := make([]float32, 0, len(k.InverseBind))
	for i := 0; i+15 < len(k.InverseBind); i += 16 {
		inverse = append(inverse, rows(k.InverseBind[i:i+16])...)
	}
	for len(inverse) < 16*len(k.Joints) {
		inverse = append(inverse, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
	}
	w.source(id+"-binds", "", inverse, "TRANSFORM")
	weights := []float32{}
	var counts, list []byte
	vertices := 0
	for i := range m.Parts {
		q := &m.Parts[i]
		for v := range q.Vertices() {
			n := 0
			for x := range q.Influences {
				if y := q.Weights[v*q.Influences+x]; y != 0 {
					list = strconv.AppendInt(list, int64(q.Joints[v*q.Influences+x]), 10)
					list = strconv.AppendInt(append(list, ' '), int64(len(weights)), 10)
					list = append(list, ' ')
					weights = append(weights, y)
					n++
				}
			}
			counts = strconv.AppendInt(append(counts, ' '), int64(n), 10)
			vertices++
		}
	}
	w.source(id+"-weights", "", weights, "WEIGHT")
	w.open("joints")
	w.leaf(`<input semantic="JOINT" source="#%s-joints"/>`, id)
	w.leaf(`<input semantic="INV_BIND_MATRIX" source="#%s-binds"/>`, id)
	w.close("joints")
	w.open(`vertex_weights count="%d"`, vertices)
	w.leaf(`<input semantic="JOINT" source="#%s-joints" offset="0"/>`, id)
	w.leaf(`<input semantic="WEIGHT" source="#%s-weights" offset="1"/>`, id)
	w.leaf("<vcount>%s</vcount>", bytes.TrimSpace(counts))
	w.leaf("<v>%s</v>", bytes.TrimSpace(list))
	w.close("vertex_weights")
	w.close("skin")
	w.close("controller")
}

// rows turns sixteen numbers from column by column to row by row, or back.
func rows(m []float32) []float32 {
	out := make([]float32, 16)
	for r := range 4 {
		for c := range 4 {
			out[4*r+c] = m[4*c+r]
		}
	}
	return out
}

func matrix(n scene.Node) []float32 {
	m := n.Local()
	out := make([]float32, 16)
	for i := range m {
		out[i] = float32(m[i])
	}
	return rows(out)
}

// animations writes each motion as matrices of the nodes that it moves, and
// the weights of morph targets as numbers.
func (w *writer) animations() {
	if len(w.s.Motions) == 0 {
		return
	}
	w.open("library_animations")
	cubic := 0
	for i := range w.s.Motions {
		m := &w.s.Motions[i]
		w.clips = append(w.clips, nil)
		by := m.ByNode()
		for n := range w.s.Nodes {
			var moving []*scene.Channel
			for _, c := range by[n] {
				if c.Interp == scene.Cubic {
					cubic++
				}
				if c.Path == scene.PathWeights {
					w.weights(fmt.Sprintf("motion%d-node%d", i, n), n, c)
				} else {
					moving = append(moving, c)
				}
			}
			if len(moving) == 0 {
				continue
			}
			step := true
			for _, c := range moving {
				step = step && c.Interp == scene.Step
			}
			times := scene.Instants(moving, 30)
			var values []float32
			for _, t := range times {
				values = append(values, matrix(w.s.Nodes[n].Posed(moving, float64(t)))...)
			}
			id := fmt.Sprintf("motion%d-node%d", i, n)
			w.curve(id, w.names[n]+"/transform", times, values, step, "TRANSFORM")
		}
	}
	w.close("library_animations")
	if cubic > 0 {
		w.notes = append(w.notes, scene.Note{Text: fmt.Sprintf("%d curved motion channels were sampled thirty times a second", cubic)})
	}
	w.open("library_animation_clips")
	for i := range w.s.Motions {
		m := &w.s.Motions[i]
		if len(w.clips[i]) == 0 {
			continue
		}
		w.open(`animation_clip id="clip%d" name="%s" start="0" end="%g"`, i, esc(m.Name), m.Seconds())
		for _, id := range w.clips[i] {
			w.leaf(`<instance_animation url="#%s"/>`, id)
		}
		w.close("animation_clip")
	}
	w.close("library_animation_clips")
}

func (w *writer) curve(id, target string, times, values []float32, step bool, param string) {
	how := "LINEAR"
	if step {
		how = "STEP"
	}
	w.clips[len(w.clips)-1] = append(w.clips[len(w.clips)-1], id)
	w.open(`animation id="%s"`, id)
	w.source(id+"-times", "", times, "TIME")
	w.source(id+"-values", "", values, param)
	names := make([]string, len(times))
	for i := range names {
		names[i] = how
	}
	w.names1(id+"-how", "Name_array", "INTERPOLATION", "name", names)
	w.open(`sampler id="%s-sampler"`, id)
	w.leaf(`<input semantic="INPUT" source="#%s-times"/>`, id)
	w.leaf(`<input semantic="OUTPUT" source="#%s-values"/>`, id)
	w.leaf(`<input semantic="INTERPOLATION" source="#%s-how"/>`, id)
	w.close("sampler")
	w.leaf(`<channel source="#%s-sampler" target="%s"/>`, id, target)
	w.close("animation")
}

func (w *writer) weights(id string, node int, c *scene.Channel) {
	m := w.s.Nodes[node].Mesh
	if m < 0 {
		return
	}
	n := min(targets(&w.s.Meshes[m]), c.Per())
	times := scene.Instants([]*scene.Channel{c}, 30)
	for k := range n {
		values := make([]float32, len(times))
		for i, t := range times {
			values[i] = c.At(float64(t))[k]
		}
		w.curve(fmt.Sprintf("%s-weight%d", id, k), fmt.Sprintf("mesh%d-morph-weights(%d)", m, k), times, values, c.Interp == scene.Step, "WEIGHT")
	}
}

func (w *writer) scene() {
	children := make([][]int, len(w.s.Nodes))
	var roots []int
	for i := range w.s.Nodes {
		if p := w.s.Nodes[i].Parent; p >= 0 {
			children[p] = append(children[p], i)
		} else {
			roots = append(roots, i)
		}
	}
	bones := w.s.Bones()
	w.open("library_visual_scenes")
	w.open(`visual_scene id="scene" name="%s"`, esc(w.s.Name))
	for _, i := range roots {
		w.node(i, children, bones)
	}
	w.close("visual_scene")
	w.close("library_visual_scenes")
	w.open("scene")
	w.leaf(`<instance_visual_scene url="#scene"/>`)
	w.close("scene")
}

func (w *writer) node(i int, children [][]int, bones []bool) {
	n := &w.s.Nodes[i]
	kind := "NODE"
	if bones[i] {
		kind = "JOINT"
	}
	w.open(`node id="%s" sid="%s" name="%s" type="%s"`, w.names[i], w.names[i], esc(n.Name), kind)
	w.floats(`matrix sid="transform"`, matrix(*n))
	if n.Camera >= 0 || n.Light >= 0 {
		turned := w.turn != geom.IdentityQuat
		if turned { // a camera looks along -z with y up, whatever the scene's axes
			x := scene.NewNode("")
			x.Put(geom.Vec3{}, w.turn, geom.Vec3{1, 1, 1})
			w.open(`node name="%s view"`, esc(n.Name))
			w.floats("matrix", matrix(x))
		}
		if n.Camera >= 0 {
			w.leaf(`<instance_camera url="#camera%d"/>`, n.Camera)
		}
		if n.Light >= 0 {
			w.leaf(`<instance_light url="#light%d"/>`, n.Light)
		}
		if turned {
			w.close("node")
		}
	}
	if n.Mesh >= 0 {
		m := &w.s.Meshes[n.Mesh]
		tag, url := "instance_geometry", fmt.Sprintf("mesh%d", n.Mesh)
		if targets(m) > 0 {
			tag, url = "instance_controller", url+"-morph"
		}
		if n.Skin >= 0 {
			tag, url = "instance_controller", fmt.Sprintf("mesh%d-skin%d", n.Mesh, n.Skin)
		}
		w.open(`%s url="#%s"`, tag, url)
		if n.Skin >= 0 {
			root := w.s.Skins[n.Skin].Root
			if root < 0 {
				root = w.top(w.s.Skins[n.Skin].Joints[0])
			}
			w.leaf("<skeleton>#%s</skeleton>", w.names[root])
		}
		var bound []int
		for k := range m.Parts {
			if p := m.Parts[k].Material; p >= 0 && !slices.Contains(bound, p) {
				bound = append(bound, p)
			}
		}
		if len(bound) > 0 {
			w.open("bind_material")
			w.open("technique_common")
			for _, p := range bound {
				w.open(`instance_material symbol="material%d" target="#material%d"`, p, p)
				var sets []int
				for _, t := range w.s.Materials[p].Textures {
					if !slices.Contains(sets, t.UVSet) {
						sets = append(sets, t.UVSet)
						w.leaf(`<bind_vertex_input semantic="uv%d" input_semantic="TEXCOORD" input_set="%d"/>`, t.UVSet, t.UVSet)
					}
				}
				w.close("instance_material")
			}
			w.close("technique_common")
			w.close("bind_material")
		}
		w.close(tag)
	}
	for _, c := range children[i] {
		w.node(c, children, bones)
	}
	w.close("node")
}

// top is the outermost node above one that is a bone.
func (w *writer) top(n int) int {
	bones := w.s.Bones()
	for p := w.s.Nodes[n].Parent; p >= 0 && bones[p]; p = w.s.Nodes[n].Parent {
		n = p
	}
	return n
}
