package gltf

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/numlist"
	"excavate/core/scene"
)

// Options of Write.
type Options struct {
	Generator string // asset.generator
	Copyright string // asset.copyright; empty takes the scene's terms
	// AsStands says that the numbers are written as they stand, whatever they
	// mean: for the 3D view, and for a target that wants them so.
	AsStands bool
	// Apart names the file that holds a picture, or would hold one that was not
	// found, and its media type, where pictures are not within the model. One
	// without a name is within it.
	Apart func(picture int) (uri, mime string)
}

// Write returns the scene as a GLB, right-handed, Y up, in metres (glTF 2.0,
// section 3.4), turned into that if it is not. What glTF cannot carry is a note
// with its count.
func Write(s *scene.Scene, opt Options) ([]byte, []scene.Note, error) {
	var notes []scene.Note
	if !opt.AsStands {
		var err error
		if s, notes, err = s.TurnedTo(geom.GLTF, "glTF"); err != nil {
			return nil, nil, fmt.Errorf("write GLB of %q: %w", s.Name, err)
		}
	}
	w := newWriter(s, opt)
	w.notes = notes
	if s.Avatar != nil {
		w.lose("%d avatar's humanoid bones, expressions, springs and licence fields are not in the file; VRM carries them", 1)
	}
	return w.write()
}

func newWriter(s *scene.Scene, opt Options) *writer {
	w := &writer{s: s, opt: opt, losses: map[string]int{}}
	w.doc.Asset = asset{Version: "2.0", Generator: opt.Generator, Copyright: opt.Copyright}
	if w.doc.Asset.Copyright == "" {
		w.doc.Asset.Copyright = s.Terms.Owner
	}
	if t := s.Terms; t.Licence != "" || t.Text != "" {
		w.doc.Asset.Extras = &assetExtras{t.Licence, t.Text}
	}
	return w
}

func (w *writer) write() ([]byte, []scene.Note, error) {
	w.s = capsulesAlongY(w.s)
	if err := w.s.Validate(); err != nil {
		return nil, nil, fmt.Errorf("write GLB of %q: %w", w.s.Name, err)
	}
	w.pictures()
	w.materials()
	w.meshes()
	w.variantNames()
	w.nodes()
	w.skins()
	w.motions()
	if w.vrm != nil {
		if err := w.avatar(); err != nil {
			return nil, nil, fmt.Errorf("write VRM of %q: %w", w.s.Name, err)
		}
	}
	out, err := w.assemble()
	for _, t := range w.order {
		w.notes = append(w.notes, scene.Note{Text: fmt.Sprintf(t, w.losses[t]), Loss: true})
	}
	return out, w.notes, err
}

type writer struct {
	s       *scene.Scene
	opt     Options
	doc     document
	chunks  [][]byte // of the buffer views; nothing is copied until the file is put together
	size    int      // of the binary chunk so far
	notes   []scene.Note
	losses  map[string]int
	order   []string
	image   []int // of each picture, or -1
	mesh    []int // of each mesh, or -1
	skinned []bool
	vrm     *scene.Avatar // to be written, where a VRM is
}

// lose counts a loss; f holds one %d.
func (w *writer) lose(f string, n int) {
	if n == 0 {
		return
	}
	if w.losses[f] == 0 {
		w.order = append(w.order, f)
	}
	w.losses[f] += n
}

func (w *writer) view(data []byte, target int) int {
	w.doc.BufferViews = append(w.doc.BufferViews, bufferView{Offset: int64(w.size), Length: int64(len(data)), Target: target})
	w.chunks = append(w.chunks, data)
	w.size += (len(data) + 3) &^ 3
	return len(w.doc.BufferViews) - 1
}

func (w *writer) accessor(view, component int, typ string, count int) int {
	w.doc.Accessors = append(w.doc.Accessors, accessor{BufferView: &view, Component: component, Type: typ, Count: int64(count)})
	return len(w.doc.Accessors) - 1
}

const (
	arrayBuffer   = 34962
	elementBuffer = 34963
)

func (w *writer) floats(v []float32, typ string, target int) int {
	return w.accessor(w.view(numlist.Bytes(v), target), cFloat, typ, len(v)/int(typeCount[typ]))
}

// bounds states an accessor's smallest and largest values.
func (w *writer) bounds(i int, v []float32, n int) {
	lo, hi := slices.Clone(v[:n]), slices.Clone(v[:n])
	if n == 3 { // positions: the long ones
		x0, y0, z0, x1, y1, z1 := v[0], v[1], v[2], v[0], v[1], v[2]
		for k := 0; k+2 < len(v); k += 3 {
			x, y, z := v[k], v[k+1], v[k+2]
			x0, y0, z0 = min(x0, x), min(y0, y), min(z0, z)
			x1, y1, z1 = max(x1, x), max(y1, y), max(z1, z)
		}
		lo, hi = []float32{x0, y0, z0}, []float32{x1, y1, z1}
	} else {
		for k, x := range v {
			lo[k%n], hi[k%n] = min(lo[k%n], x), max(hi[k%n], x)
		}
	}
	a := &w.doc.Accessors[i]
	for k := range lo {
		a.Min, a.Max = append(a.Min, float64(lo[k])), append(a.Max, float64(hi[k]))
	}
}

func (w *writer) pictures() {
	for i := range w.s.Pictures {
		p := &w.s.Pictures[i]
		if w.opt.Apart != nil {
			if uri, mime := w.opt.Apart(i); uri != "" {
				w.image = append(w.image, len(w.doc.Images))
				w.doc.Images = append(w.doc.Images, gimage{Name: p.Name, MIME: mime, URI: uri})
				continue
			}
		}
		if p.Missing() {
			w.image = append(w.image, -1)
			w.lose("pictures that were not found are not in the file: %d", 1)
			continue
		}
		w.image = append(w.image, len(w.doc.Images))
		v := w.view(p.Data, 0)
		w.doc.Images = append(w.doc.Images, gimage{Name: p.Name, MIME: p.MIME, BufferView: &v})
	}
}

func (w *writer) texture(t *scene.Texture) *textureInfo {
	if t == nil || w.image[t.Picture] < 0 {
		return nil
	}
	wrap := func(m scene.Wrap) int {
		switch m {
		case scene.Clamp:
			return 33071
		case scene.Mirror:
			return 33648
		}
		return 10497
	}
	sm := sampler{Mag: 9729, Min: 9987, WrapS: wrap(t.WrapU), WrapT: wrap(t.WrapV)}
	if t.Nearest {
		sm.Mag, sm.Min = 9728, 9986
	}
	si := slices.Index(w.doc.Samplers, sm)
	if si < 0 {
		si = len(w.doc.Samplers)
		w.doc.Samplers = append(w.doc.Samplers, sm)
	}
	src := w.image[t.Picture]
	ti := -1
	for i := range w.doc.Textures {
		if *w.doc.Textures[i].Source == src && *w.doc.Textures[i].Sampler == si {
			ti = i
		}
	}
	if ti < 0 {
		ti = len(w.doc.Textures)
		w.doc.Textures = append(w.doc.Textures, texture{Source: &src, Sampler: &si})
	}
	out := &textureInfo{Index: ti, TexCoord: t.UVSet}
	if x := t.Transform; x != nil {
		raw, err := json.Marshal(xTransform{Offset: &x.Offset, Rotation: x.Rotation, Scale: &x.Scale})
		if err == nil {
			out.Extensions = map[string]json.RawMessage{"KHR_texture_transform": raw}
			w.use("KHR_texture_transform")
		}
	}
	if t.Scale != 1 {
		k := t.Scale
		switch t.Role {
		case scene.RoleNormal:
			out.Scale = &k
		case scene.RoleOcclusion:
			k = min(max(k, 0), 1)
			out.Strength = &k
		}
	}
	return out
}

func (w *writer) materials() {
	for i := range w.s.Materials {
		m := &w.s.Materials[i]
		clamp := func(f float32) *float32 {
			if f != f {
				f = 0
			}
			f = min(max(f, 0), 1)
			return &f
		}
		colour := m.BaseColour
		for k := range colour {
			colour[k] = *clamp(colour[k])
		}
		g := material{Name: m.Name, DoubleSided: m.TwoSided, PBR: &pbr{Metallic: clamp(m.Metallic), Roughness: clamp(m.Roughness)}}
		if colour != [4]float32{1, 1, 1, 1} {
			g.PBR.Colour = &colour
		}
		g.PBR.ColourTex = w.texture(m.Texture(scene.RoleColour))
		g.PBR.MetalRghTex = w.texture(m.Texture(scene.RoleMetalRgh))
		g.Normal = w.texture(m.Texture(scene.RoleNormal))
		g.Occlusion = w.texture(m.Texture(scene.RoleOcclusion))
		g.Emissive = w.texture(m.Texture(scene.RoleEmission))
		if e := m.Emissive; e != [3]float32{} {
			for k := range e {
				e[k] = *clamp(e[k])
			}
			g.EmissiveF = &e
		}
		switch m.Alpha {
		case scene.Cutout:
			g.AlphaMode = "MASK"
			c := max(m.Cutoff, 0)
			g.AlphaCutoff = &c
		case scene.Blend:
			g.AlphaMode = "BLEND"
		}
		w.writeLayers(&g, m)
		w.doc.Materials = append(w.doc.Materials, g)
	}
}

func (w *writer) use(ext string) {
	if !slices.Contains(w.doc.ExtensionsUsed, ext) {
		w.doc.ExtensionsUsed = append(w.doc.ExtensionsUsed, ext)
	}
}

func (w *writer) meshes() {
	for i := range w.s.Meshes {
		m := &w.s.Meshes[i]
		g := mesh{Name: m.Name}
		skinned := true
		targets := -1
		for j := range m.Parts {
			p := &m.Parts[j]
			if p.Empty() {
				w.lose("%d parts without triangles were left out", 1)
				continue
			}
			skinned = skinned && p.Influences > 0
			// All parts of a mesh share their morph targets, section 3.7.2.2.
			if targets < 0 || len(p.Morphs) < targets {
				targets = len(p.Morphs)
			}
		}
		for j := range m.Parts {
			p := &m.Parts[j]
			if !p.Empty() {
				g.Primitives = append(g.Primitives, w.part(p, targets)...)
				w.lose("%d morph targets that only some parts of a mesh have were left out", len(p.Morphs)-targets)
				if g.Extras == nil && targets > 0 {
					ex := &meshExtras{}
					for _, t := range p.Morphs[:targets] {
						ex.TargetNames = append(ex.TargetNames, t.Name)
						g.Weights = append(g.Weights, t.Weight)
					}
					g.Extras = ex
				}
			}
		}
		if len(g.Primitives) == 0 {
			w.mesh = append(w.mesh, -1)
		} else {
			w.mesh = append(w.mesh, len(w.doc.Meshes))
			w.doc.Meshes = append(w.doc.Meshes, g)
		}
		w.skinned = append(w.skinned, skinned && len(g.Primitives) > 0)
	}
}

// part writes a part: one primitive of triangles, and one each of lines and
// points over the same vertices.
func (w *writer) part(p *scene.Part, targets int) []primitive {
	pr := primitive{Attributes: map[string]int{}}
	n := p.Vertices()
	pos := w.floats(p.Positions, "VEC3", arrayBuffer)
	w.bounds(pos, p.Positions, 3)
	pr.Attributes["POSITION"] = pos
	if p.Normals != nil {
		nrm, mended := unitVectors(p.Normals, 3)
		w.lose("%d normals without a length were turned up", mended)
		pr.Attributes["NORMAL"] = w.floats(nrm, "VEC3", arrayBuffer)
	}
	if p.Tangents != nil {
		t, mended := unitVectors(p.Tangents, 4)
		w.lose("%d tangents without a length were turned along x", mended)
		pr.Attributes["TANGENT"] = w.floats(t, "VEC4", arrayBuffer)
	}
	ex := &primitiveExtras{}
	for k := range p.UVs {
		pr.Attributes[fmt.Sprintf("TEXCOORD_%d", k)] = w.floats(p.UVs[k].Data, "VEC2", arrayBuffer)
		ex.UVSets = append(ex.UVSets, p.UVs[k].Name)
	}
	for k := range p.Colours {
		pr.Attributes[fmt.Sprintf("COLOR_%d", k)] = w.floats(p.Colours[k].Data, "VEC4", arrayBuffer)
		ex.ColourSets = append(ex.ColourSets, p.Colours[k].Name)
	}
	if ex.UVSets != nil || ex.ColourSets != nil {
		pr.Extras = ex
	}
	if p.Influences > 0 {
		w.joints(p, &pr, n)
	}
	for k := 0; k < targets; k++ {
		t := &p.Morphs[k]
		g := map[string]int{}
		// In a fixed order, so that the same scene gives the same bytes.
		for _, a := range []struct {
			name string
			v    []float32
		}{{"POSITION", t.Positions}, {"NORMAL", t.Normals}, {"TANGENT", t.Tangents}} {
			if len(a.v) == 0 && a.name != "POSITION" {
				continue
			}
			v := a.v
			if len(v) == 0 {
				v = make([]float32, 3*n)
			}
			g[a.name] = w.floats(v, "VEC3", arrayBuffer)
			if a.name == "POSITION" {
				w.bounds(g[a.name], v, 3)
			}
		}
		pr.Targets = append(pr.Targets, g)
	}
	if p.Material >= 0 {
		m := p.Material
		pr.Material = &m
	}
	for _, m := range p.Looks() {
		if m >= 0 {
			w.lackingUVs(p, &pr, m)
		}
	}
	w.variants(p, &pr)
	var out []primitive
	for _, k := range []struct {
		mode    int
		indices []uint32
	}{{4, p.Triangles}, {1, p.Lines}, {0, p.Points}} {
		if len(k.indices) == 0 {
			continue
		}
		pr := pr
		if k.mode != 4 {
			pr.Mode = &k.mode
		}
		a := w.indices(k.indices, n)
		pr.Indices = &a
		out = append(out, pr)
	}
	return out
}

// lackingUVs adds the sets that a material's pictures lie on and the part lacks.
func (w *writer) lackingUVs(p *scene.Part, pr *primitive, material int) {
	for _, t := range w.s.Materials[material].Textures {
		if t.UVSet < len(p.UVs) || w.image[t.Picture] < 0 {
			continue
		}
		w.lose("%d parts lack the UV set that their material asks for; one of zeros was written", 1)
		for k := len(p.UVs); k <= t.UVSet; k++ {
			name := fmt.Sprintf("TEXCOORD_%d", k)
			if _, ok := pr.Attributes[name]; !ok {
				pr.Attributes[name] = w.floats(make([]float32, 2*p.Vertices()), "VEC2", arrayBuffer)
			}
		}
	}
}

// variants writes the part's other looks, those of one material together
// (KHR_materials_variants).
func (w *writer) variants(p *scene.Part, pr *primitive) {
	var x xVariants
	for v, m := range p.Variants {
		if m < 0 {
			continue
		}
		k := slices.IndexFunc(x.Mappings, func(o xVariantMaterial) bool { return o.Material == m })
		if k < 0 {
			k = len(x.Mappings)
			x.Mappings = append(x.Mappings, xVariantMaterial{Material: m})
		}
		x.Mappings[k].Variants = append(x.Mappings[k].Variants, v)
	}
	if x.Mappings == nil {
		return
	}
	raw, _ := json.Marshal(x) // of whole numbers it has no error
	pr.Extensions = map[string]json.RawMessage{"KHR_materials_variants": raw}
}

// variantNames writes what the looks are called.
func (w *writer) variantNames() {
	if len(w.s.Variants) == 0 {
		return
	}
	w.use("KHR_materials_variants")
	if w.doc.Extensions == nil {
		w.doc.Extensions = &docExtensions{}
	}
	w.doc.Extensions.Variants = &xVariantNames{}
	for _, name := range w.s.Variants {
		w.doc.Extensions.Variants.Variants = append(w.doc.Extensions.Variants.Variants, xVariantName{name})
	}
}

// indices writes vertex indices as narrow as n vertices allow.
func (w *writer) indices(v []uint32, n int) int {
	if n > math.MaxUint16 { // 65535 itself is the restart index
		return w.accessor(w.view(numlist.Bytes(v), elementBuffer), cUInt, "SCALAR", len(v))
	}
	idx := make([]uint16, len(v))
	for i, k := range v {
		idx[i] = uint16(k)
	}
	return w.accessor(w.view(numlist.Bytes(idx), elementBuffer), cUShort, "SCALAR", len(idx))
}

// joints writes sets of four joints and weights: sorted out so that no joint
// stands twice, unused ones are 0, and the weights sum to one (section
// 3.7.3.3). Where there are several sets the heaviest come first, for a program
// that reads one set only.
func (w *writer) joints(p *scene.Part, pr *primitive, n int) {
	k := p.Influences
	sets := (k + 3) / 4
	wide := false
	for i, j := range p.Joints {
		if j > 255 && p.Weights[i] != 0 {
			wide = true
			break
		}
	}
	js, ws := make([][]uint16, sets), make([][]float32, sets)
	for s := range js {
		js[s], ws[s] = make([]uint16, 4*n), make([]float32, 4*n)
	}
	used := make([]int, 0, k)
	for v := 0; v < n; v++ {
		used = used[:0]
		sum := float32(0)
		for i := 0; i < k; i++ {
			j, x := p.Joints[v*k+i], p.Weights[v*k+i]
			if !(x > 0) {
				continue
			}
			sum += x
			slot := -1
			for q, u := range used {
				if u == int(j) {
					slot = q
				}
			}
			if slot < 0 {
				slot = len(used)
				used = append(used, int(j))
				js[slot/4][4*v+slot%4] = j
			}
			ws[slot/4][4*v+slot%4] += x
		}
		for q := 1; sets > 1 && q < len(used); q++ {
			for i := q; i > 0; i-- {
				a, b := 4*v+(i-1)%4, 4*v+i%4
				if ws[(i-1)/4][a] >= ws[i/4][b] {
					break
				}
				ws[(i-1)/4][a], ws[i/4][b] = ws[i/4][b], ws[(i-1)/4][a]
				js[(i-1)/4][a], js[i/4][b] = js[i/4][b], js[(i-1)/4][a]
			}
		}
		if sum == 0 {
			ws[0][4*v] = 1
		} else if d := sum - 1; d > 1e-6 || d < -1e-6 {
			for q := range used {
				ws[q/4][4*v+q%4] /= sum
			}
		}
	}
	for s := 0; s < sets; s++ {
		var a int
		if wide {
			a = w.accessor(w.view(numlist.Bytes(js[s]), arrayBuffer), cUShort, "VEC4", n)
		} else {
			b := make([]byte, 4*n)
			for i, j := range js[s] {
				b[i] = byte(j)
			}
			a = w.accessor(w.view(b, arrayBuffer), cUByte, "VEC4", n)
		}
		pr.Attributes[fmt.Sprintf("JOINTS_%d", s)] = a
		pr.Attributes[fmt.Sprintf("WEIGHTS_%d", s)] = w.floats(ws[s], "VEC4", arrayBuffer)
	}
}

// unitVectors returns vectors of unit length: the same slice if they are.
func unitVectors(v []float32, n int) ([]float32, int) {
	out := v
	mended := 0
	for i := 0; i+n <= len(v); i += n {
		x, y, z := v[i], v[i+1], v[i+2]
		l := x*x + y*y + z*z
		signOK := n == 3 || v[i+3] == 1 || v[i+3] == -1
		if l > 0.9999 && l < 1.0001 && signOK {
			continue
		}
		if &out[0] == &v[0] {
			out = slices.Clone(v)
		}
		if !(l > 1e-20) || math.IsInf(float64(l), 0) {
			mended++
			out[i], out[i+1], out[i+2] = 0, 1, 0
			if n == 4 {
				out[i], out[i+1] = 1, 0
			}
		} else {
			k := float32(1 / math.Sqrt(float64(l)))
			out[i], out[i+1], out[i+2] = x*k, y*k, z*k
		}
		if n == 4 {
			if v[i+3] < 0 {
				out[i+3] = -1
			} else {
				out[i+3] = 1
			}
		}
	}
	return out, mended
}

func (w *writer) nodes() {
	s := w.s
	zero := 0
	w.doc.Scene = &zero
	w.doc.Scenes = []gscene{{Name: s.Name}}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		g := node{Name: n.Name, Extras: n.Props}
		if n.Translation != [3]float32{} {
			t := n.Translation
			g.Translation = &t
		}
		if q := (geom.Quat{float64(n.Rotation[0]), float64(n.Rotation[1]), float64(n.Rotation[2]), float64(n.Rotation[3])}).Norm(); q != geom.IdentityQuat {
			g.Rotation = &[4]float32{float32(q[0]), float32(q[1]), float32(q[2]), float32(q[3])}
		}
		if n.Scale != [3]float32{1, 1, 1} {
			k := n.Scale
			g.Scale = &k
		}
		if n.Mesh >= 0 && w.mesh[n.Mesh] >= 0 {
			m := w.mesh[n.Mesh]
			g.Mesh = &m
			if n.Skin >= 0 {
				if w.skinned[n.Mesh] {
					k := n.Skin
					g.Skin = &k
				} else {
					w.lose("%d skins were left out because parts of their mesh have no weights", 1)
				}
			}
		}
		if n.Camera >= 0 {
			c := n.Camera
			g.Camera = &c
		}
		if n.Light >= 0 {
			g.Extensions = &nodeExtensions{}
			g.Extensions.Light = &struct {
				Light int `json:"light"`
			}{n.Light}
			w.use("KHR_lights_punctual")
		}
		if n.Collider != nil {
			w.collider(n.Collider, &g)
		}
		w.doc.Nodes = append(w.doc.Nodes, g)
		if n.Parent >= 0 {
			p := &w.doc.Nodes[n.Parent]
			p.Children = append(p.Children, i)
		} else {
			w.doc.Scenes[0].Nodes = append(w.doc.Scenes[0].Nodes, i)
		}
	}
	for _, c := range s.Cameras {
		g := camera{Name: c.Name, Type: "perspective"}
		if c.Orthographic {
			g.Type = "orthographic"
			g.Orthographic = &ortho{XMag: c.Height * max(c.Aspect, 0.01), YMag: c.Height, ZNear: max(c.Near, 0), ZFar: max(c.Far, c.Near+1)}
		} else {
			g.Perspective = &persp{YFov: c.FovY, ZNear: max(c.Near, 1e-4), Aspect: c.Aspect}
			if c.Far > c.Near {
				g.Perspective.ZFar = c.Far
			}
		}
		w.doc.Cameras = append(w.doc.Cameras, g)
	}
	if len(s.Lights) > 0 {
		if w.doc.Extensions == nil {
			w.doc.Extensions = &docExtensions{}
		}
		w.doc.Extensions.Lights = &struct {
			Lights []light `json:"lights"`
		}{}
		w.use("KHR_lights_punctual")
		for i := range s.Lights {
			l := &s.Lights[i]
			g := light{Name: l.Name, Type: l.Type, Colour: &l.Colour, Intensity: &l.Intensity}
			if g.Range = max(l.Range, 0); l.Type == "directional" {
				g.Range = 0
			}
			if l.Type == "spot" {
				outer := min(max(l.Outer, 1e-3), math.Pi/2)
				g.Spot = &spot{Inner: min(max(l.Inner, 0), outer*0.999), Outer: &outer}
			}
			w.doc.Extensions.Lights.Lights = append(w.doc.Extensions.Lights.Lights, g)
		}
	}
}

func (w *writer) skins() {
	for i := range w.s.Skins {
		k := &w.s.Skins[i]
		g := skin{Name: k.Name, Joints: k.Joints}
		if k.Root >= 0 && w.above(k.Root, k.Joints) {
			r := k.Root
			g.Skeleton = &r
		}
		if len(k.InverseBind) > 0 {
			ib := slices.Clone(k.InverseBind)
			for j := 0; j+15 < len(ib); j += 16 { // the last row is exact, section 3.7.3.1
				ib[j+3], ib[j+7], ib[j+11], ib[j+15] = 0, 0, 0, 1
			}
			a := w.floats(ib, "MAT4", 0)
			g.InverseBind = &a
		}
		w.doc.Skins = append(w.doc.Skins, g)
	}
}

// above tells whether root is an ancestor of, or equal to, every joint.
func (w *writer) above(root int, joints []int) bool {
	for _, j := range joints {
		for j >= 0 && j != root {
			j = w.s.Nodes[j].Parent
		}
		if j < 0 {
			return false
		}
	}
	return true
}

func (w *writer) motions() {
	for i := range w.s.Motions {
		m := &w.s.Motions[i]
		g := animation{Name: m.Name}
		seen := map[[2]any]bool{}
		times := map[string]int{} // keys are often the same for all channels
		for j := range m.Channels {
			c := &m.Channels[j]
			key := [2]any{c.Node, c.Path}
			if len(c.Times) == 0 {
				w.lose("%d motion channels without keys were left out", 1)
				continue
			}
			if seen[key] {
				w.lose("%d motion channels that move what another one moves were left out", 1)
				continue
			}
			ts, vs := risingKeys(c)
			w.lose("%d keys at the time of the key before were left out", len(c.Times)-len(ts))
			typ := map[scene.Path]string{scene.PathTranslation: "VEC3", scene.PathScale: "VEC3", scene.PathRotation: "VEC4", scene.PathWeights: "SCALAR"}[c.Path]
			if c.Path == scene.PathWeights && (w.s.Nodes[c.Node].Mesh < 0 || w.mesh[w.s.Nodes[c.Node].Mesh] < 0) {
				w.lose("%d motion channels of morph targets without a mesh were left out", 1)
				continue
			}
			seen[key] = true
			in, ok := times[string(numlist.Bytes(ts))]
			if !ok {
				in = w.floats(ts, "SCALAR", 0)
				w.bounds(in, ts, 1)
				times[string(numlist.Bytes(ts))] = in
			}
			sm := animSampler{Input: in, Output: w.floats(vs, typ, 0)}
			switch c.Interp {
			case scene.Step:
				sm.Interp = "STEP"
			case scene.Cubic:
				sm.Interp = "CUBICSPLINE"
			}
			ch := achannel{Sampler: len(g.Samplers)}
			n := c.Node
			ch.Target.Node, ch.Target.Path = &n, string(c.Path)
			g.Samplers = append(g.Samplers, sm)
			g.Channels = append(g.Channels, ch)
		}
		if len(g.Channels) == 0 {
			w.lose("%d motions without channels were left out", 1)
			continue
		}
		w.doc.Animations = append(w.doc.Animations, g)
	}
}

// risingKeys leaves out keys that do not come after the one before.
func risingKeys(c *scene.Channel) (ts, vs []float32) {
	per := len(c.Values) / len(c.Times)
	rising := c.Times[0] >= 0
	for i := 1; i < len(c.Times); i++ {
		rising = rising && c.Times[i] > c.Times[i-1]
	}
	if rising {
		return c.Times, c.Values
	}
	last := float32(math.Inf(-1))
	for i, t := range c.Times {
		if t >= 0 && t > last {
			ts, vs = append(ts, t), append(vs, c.Values[i*per:(i+1)*per]...)
			last = t
		}
	}
	if ts == nil {
		ts, vs = []float32{0}, slices.Clone(c.Values[:per])
	}
	return ts, vs
}

func (w *writer) assemble() ([]byte, error) {
	if w.size > 0 {
		w.doc.Buffers = []buffer{{Length: int64(w.size)}}
	}
	text, err := json.Marshal(&w.doc)
	if err != nil {
		return nil, fmt.Errorf("write GLB of %q: %w", w.s.Name, err)
	}
	for len(text)%4 != 0 {
		text = append(text, ' ')
	}
	total := 12 + 8 + len(text)
	if w.size > 0 {
		total += 8 + w.size
	}
	if total > math.MaxUint32 {
		return nil, fmt.Errorf("write GLB of %q: %d bytes, and a GLB holds at most %d; split the asset",
			w.s.Name, total, uint32(math.MaxUint32))
	}
	out := make([]byte, 0, total)
	out = append(out, "glTF"...)
	out = binary.LittleEndian.AppendUint32(out, 2)
	out = binary.LittleEndian.AppendUint32(out, uint32(total))
	out = binary.LittleEndian.AppendUint32(out, uint32(len(text)))
	out = append(out, "JSON"...)
	out = append(out, text...)
	if w.size > 0 {
		out = binary.LittleEndian.AppendUint32(out, uint32(w.size))
		out = append(out, "BIN\x00"...)
		for _, c := range w.chunks {
			out = append(out, c...)
			for len(out)%4 != 0 { // the binary chunk begins at a multiple of four
				out = append(out, 0)
			}
		}
	}
	return out, nil
}
