package x3d

import (
	"bytes"
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/format"
	"excavate/core/format/corner"
	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// Formats are the readers for the registry.
func Formats() []format.Reader {
	return []format.Reader{
		{Name: "vrml", Title: "VRML97", Probe: func(head []byte) bool {
			head = format.UTF8(head)
			return bytes.HasPrefix(head, []byte("#VRML V2.0")) || bytes.HasPrefix(head, []byte("#X3D V"))
		}, Read: readClassic},
		{Name: "x3d", Title: "X3D", Probe: func(head []byte) bool {
			head = bytes.TrimLeft(format.UTF8(head), " \t\r\n")
			return bytes.HasPrefix(head, []byte("<X3D")) || bytes.HasPrefix(head, []byte("<?xml")) && (bytes.Contains(head, []byte("<X3D")) || bytes.Contains(head, []byte("<!DOCTYPE X3D")))
		}, Read: readXML},
	}
}

func readClassic(ctx context.Context, f format.File) (*scene.Scene, error) {
	p := &classic{routes: &[]*route{}, b: append(append([]byte{}, format.UTF8(f.Data)...), "\n}"...), line: 1, defs: map[string]*node{}, protos: map[string]*proto{}, lost: &format.Losses{}}
	roots, err := p.scene("}")
	if err != nil {
		return nil, err
	}
	line := p.line
	if p.space(); p.at < len(p.b) {
		p.line = line
		return nil, p.errorf("a } closes nothing")
	}
	return newBuilder(ctx, f, p.metres, p.lost, bytes.HasPrefix(p.b, []byte("#VRML"))).build(roots, *p.routes)
}

func readXML(ctx context.Context, f format.File) (*scene.Scene, error) {
	roots, m, err := parseXML(format.UTF8(f.Data))
	if err != nil {
		return nil, err
	}
	return newBuilder(ctx, f, m.metres, m.lost, false).build(roots, m.routes)
}

var geometries = []string{"IndexedFaceSet", "IndexedTriangleSet", "TriangleSet", "IndexedTriangleStripSet", "TriangleStripSet", "IndexedTriangleFanSet", "TriangleFanSet", "IndexedQuadSet", "QuadSet",
	"Box", "Sphere", "Cone", "Cylinder", "ElevationGrid", "Extrusion", "Text", "PointSet", "IndexedLineSet", "LineSet"}

// mesh makes the mesh of a shape, once for all its uses; below 0 is one that
// shows nothing.
func (b *builder) mesh(n *node, name string) (int, error) {
	g := n.child("geometry", geometries...)
	if g == nil {
		return scene.None, nil
	}
	if b.shapes++; b.shapes > mostShapes {
		return 0, n.errorf("more than %d shapes, counting each use", mostShapes)
	}
	count := func(corners int) error {
		if b.corners += corners; b.corners > b.most {
			return n.errorf("more than %d corners of faces, lines and points, counting each use", b.most)
		}
		return nil
	}
	if old, ok := b.meshes[n]; ok {
		return old.mesh, count(old.corners)
	}
	f, err := faces(g)
	if err != nil {
		return 0, err
	}
	if f == nil {
		b.Lose("a node of the kind %s was left out", g.typ)
		return scene.None, nil
	}
	corners := len(f.lines) + len(f.points)
	for _, face := range f.faces {
		corners += len(face)
	}
	if err := count(corners); err != nil || corners == 0 {
		return scene.None, err
	}
	look := n.child("appearance", "Appearance")
	material := b.material(look)
	if material >= 0 && len(b.s.Materials[material].Textures) > 0 && len(f.src.UVs) == 0 {
		f.unfold()
	}
	part, err := f.part()
	if err != nil || part.Empty() {
		return scene.None, err
	}
	part.Material = material
	if look != nil {
		moveUVs(part, look.child("textureTransform", "TextureTransform"))
	}
	if !f.solid && material >= 0 {
		b.s.Materials[material].TwoSided = true
	}
	mesh := len(b.s.Meshes)
	b.s.Meshes = append(b.s.Meshes, scene.Mesh{Name: name, Parts: []scene.Part{*part}})
	b.meshes[n] = built{mesh, corners}
	if f.far != [3]float64{} {
		b.far[mesh] = f.far
	}
	return mesh, nil
}

func (b *builder) material(a *node) int {
	if a == nil {
		return scene.None
	}
	if k, ok := b.materials[materialKey{a}]; ok {
		return k
	}
	name := a.def
	m := scene.NewMaterial(name)
	colour := func(n *node, field string, usual float64) (c [3]float32) {
		for k, v := range n.vec(field, usual, usual, usual) {
			c[k] = format.Linear(v)
		}
		return c
	}
	mat := a.child("material", "Material", "PhysicalMaterial", "UnlitMaterial", "TwoSidedMaterial")
	switch {
	case mat == nil:
		m.Unlit = true // X3D 12.2.2: no material, no lighting
	case mat.typ == "PhysicalMaterial":
		c := colour(mat, "baseColor", 1)
		copy(m.BaseColour[:3], c[:])
		m.Metallic, m.Roughness = float32(mat.num("metallic", 1)), float32(mat.num("roughness", 1))
		m.Emissive = colour(mat, "emissiveColor", 0)
	case mat.typ == "UnlitMaterial":
		c := colour(mat, "emissiveColor", 1)
		copy(m.BaseColour[:3], c[:])
		m.Unlit = true
	default:
		c := colour(mat, "diffuseColor", 0.8)
		copy(m.BaseColour[:3], c[:])
		m.Emissive = colour(mat, "emissiveColor", 0)
		// The exponent of the highlight is 128 * shininess.
		m.Roughness = float32(math.Pow(2/(128*math.Max(0, math.Min(1, mat.num("shininess", 0.2)))+2), 0.25))
	}
	if mat != nil {
		if name == "" {
			m.Name = mat.def
		}
		if t := mat.num("transparency", 0); t > 0 {
			m.Alpha, m.BaseColour[3] = scene.Blend, float32(math.Max(0, 1-t))
		}
	}
	b.textures(&m, a, mat)
	switch a.text("alphaMode") { // X3D 4.0, 12.4.1
	case "MASK":
		m.Alpha, m.Cutoff = scene.Cutout, float32(a.num("alphaCutoff", 0.5))
	case "BLEND":
		m.Alpha = scene.Blend
	}
	if m.Name == "" {
		m.Name = fmt.Sprintf("material %d", len(b.s.Materials)+1)
	}
	k := len(b.s.Materials)
	b.materials[materialKey{a}] = k
	b.s.Materials = append(b.s.Materials, m)
	return k
}

// moveUVs applies a TextureTransform (X3D 18.4.8): -C S R C T.
func moveUVs(p *scene.Part, t *node) {
	if t == nil {
		return
	}
	c, scale, move := t.vec("center", 0, 0), t.vec("scale", 1, 1), t.vec("translation", 0, 0)
	sin, cos := math.Sincos(t.num("rotation", 0))
	for i := range p.UVs {
		d := p.UVs[i].Data
		for k := 0; k+1 < len(d); k += 2 { // v counts from above here
			x, y := float64(d[k])+move[0]+c[0], 1-float64(d[k+1])+move[1]+c[1]
			u, _ := format.Finite32((x*cos-y*sin)*scale[0] - c[0])
			v, _ := format.Finite32(1 - ((x*sin+y*cos)*scale[1] - c[1]))
			d[k], d[k+1] = u, v
		}
	}
}

func base(url string) string {
	for i := len(url) - 1; i >= 0; i-- {
		if url[i] == '/' || url[i] == '\\' {
			return url[i+1:]
		}
	}
	return url
}

// faceSet is a geometry as faces whose corners have an index for each
// attribute.
type faceSet struct {
	line   int
	src    corner.Source
	faces  [][]corner.Ref
	lines  []corner.Ref // two each
	points []corner.Ref
	stroke bool // of lines or points
	ccw    bool
	solid  bool
	crease float64
	far    [3]float64 // what the positions are relative to

	uvMade bool // the file states no texture coordinates: these are the usual ones
}

// faces reads a geometry; nil is one without a surface that is read.
func faces(g *node) (*faceSet, error) {
	f := &faceSet{line: g.line, ccw: g.flag("ccw", true), solid: g.flag("solid", true), crease: g.num("creaseAngle", 0)}
	switch g.typ {
	case "Box", "Sphere", "Cone", "Cylinder":
		f.primitive(g)
		return f, nil
	case "Extrusion":
		return f, f.extrusion(g)
	case "Text":
		return nil, nil
	}
	var err error
	if g.typ == "ElevationGrid" {
		if err = f.attributes(g); err == nil {
			err = f.elevation(g)
		}
		return f, err
	}
	coord := g.child("coord", "Coordinate", "CoordinateDouble")
	if coord == nil {
		return f, nil
	}
	points := coord.nums("point")
	if f.far = format.FarMesh(points); f.far != [3]float64{} {
		points = slices.Clone(points)
		for i := range points {
			points[i] -= f.far[i%3]
		}
	}
	if f.src.Positions, err = f.floats(points, 3); err != nil {
		return nil, err
	}
	if err := f.attributes(g); err != nil {
		return nil, err
	}
	switch g.typ {
	case "IndexedFaceSet":
		return f, f.indexed(g)
	case "PointSet", "IndexedLineSet", "LineSet":
		return f, f.strokes(g)
	}
	return f, f.triangles(g)
}

// attributes reads the texture coordinates, normals and colours that a geometry
// has.
func (f *faceSet) attributes(g *node) (err error) {
	if t := g.child("texCoord", "TextureCoordinate"); t != nil {
		if f.src.UVs, err = f.floats(t.nums("point"), 2); err != nil {
			return err
		}
		for i := 1; i < len(f.src.UVs); i += 2 {
			f.src.UVs[i] = 1 - f.src.UVs[i] // t is counted from below
		}
	}
	if n := g.child("normal", "Normal"); n != nil {
		if f.src.Normals, err = f.floats(n.nums("vector"), 3); err != nil {
			return err
		}
		for i := 0; i+2 < len(f.src.Normals); i += 3 {
			v := geom.Vec3{float64(f.src.Normals[i]), float64(f.src.Normals[i+1]), float64(f.src.Normals[i+2])}.Norm()
			for k := range 3 {
				f.src.Normals[i+k] = float32(v[k])
			}
		}
	}
	if c := g.child("color", "Color", "ColorRGBA"); c != nil {
		each := 3
		if c.typ == "ColorRGBA" {
			each = 4
		}
		d := c.nums("color")
		for i := 0; i+each <= len(d); i += each {
			a := float32(1)
			if each == 4 {
				a = float32(math.Max(0, math.Min(1, d[i+3])))
			}
			f.src.Colours = append(f.src.Colours, format.Linear(d[i]), format.Linear(d[i+1]), format.Linear(d[i+2]), a)
		}
	}
	return nil
}

func (f *faceSet) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", f.line), msg, a...)
}

func (f *faceSet) user() string {
	if f.stroke {
		return "a line"
	}
	return "a face"
}

func (f *faceSet) floats(d []float64, each int) ([]float32, error) {
	out := make([]float32, len(d)/each*each)
	for i := range out {
		x, ok := format.Finite32(d[i])
		if !ok {
			return nil, f.errorf("a number of %g", d[i])
		}
		out[i] = x
	}
	return out, nil
}

func (f *faceSet) index(v float64, n int, what string) (int32, error) {
	if v < 0 || v >= float64(n) || v != math.Trunc(v) {
		return 0, f.errorf("%s uses %s %g, and there are %d", f.user(), what, v, n)
	}
	return int32(v), nil
}

// indexed reads an IndexedFaceSet (X3D 13.3.6).
func (f *faceSet) indexed(g *node) error {
	index := g.nums("coordIndex")
	tex, normal, colour := g.nums("texCoordIndex"), g.nums("normalIndex"), g.nums("colorIndex")
	perVertex, colourPerVertex := g.flag("normalPerVertex", true), g.flag("colorPerVertex", true)
	nv, nt, nn, nc := len(f.src.Positions)/3, len(f.src.UVs)/2, len(f.src.Normals)/3, len(f.src.Colours)/4
	refs := make([]corner.Ref, 0, len(index)) // of all faces
	first, count := 0, 0
	flush := func() {
		if n := len(refs); n-first >= 3 {
			f.faces = append(f.faces, refs[first:n:n])
		}
		first = len(refs)
		count++
	}
	pick := func(list []float64, at int, usual int32, n int, what string) (int32, error) {
		if n == 0 {
			return -1, nil
		}
		if len(list) == 0 {
			if int(usual) >= n {
				return 0, f.errorf("%s %d is wanted, and there are %d", what, usual, n)
			}
			return usual, nil
		}
		if at >= len(list) {
			return 0, f.errorf("the indices of %ss end before those of coordinates", what)
		}
		return f.index(list[at], n, what)
	}
	for i, v := range index {
		if v < 0 {
			flush()
			continue
		}
		c := corner.Ref{T: -1, N: -1, C: -1}
		var err error
		if c.V, err = f.index(v, nv, "coordinate"); err != nil {
			return err
		}
		if c.T, err = pick(tex, i, c.V, nt, "texture coordinate"); err != nil {
			return err
		}
		at, usual := i, c.V
		if !perVertex {
			at, usual = count, int32(count)
		}
		if c.N, err = pick(normal, at, usual, nn, "normal"); err != nil {
			return err
		}
		at, usual = i, c.V
		if !colourPerVertex {
			at, usual = count, int32(count)
		}
		if c.C, err = pick(colour, at, usual, nc, "colour"); err != nil {
			return err
		}
		refs = append(refs, c)
	}
	flush()
	return nil
}

// strokes reads points and lines (X3D 11.4), with the colours of their
// vertices or of whole lines.
func (f *faceSet) strokes(g *node) error {
	n, nc := len(f.src.Positions)/3, len(f.src.Colours)/4
	f.stroke = true
	index, perVertex := g.nums("colorIndex"), g.flag("colorPerVertex", true)
	rows := 0
	join := func(row []corner.Ref) {
		for i := 1; i < len(row); i++ {
			f.lines = append(f.lines, row[i-1], row[i])
		}
		rows++
	}
	// at is a vertex; place is where it stands in the list of indices.
	at := func(v float64, place int) (r corner.Ref, err error) {
		if r.V, err = f.index(v, n, "coordinate"); err != nil || nc == 0 {
			return corner.Ref{V: r.V, T: corner.None, N: corner.None, C: corner.None}, err
		}
		r.T, r.N = corner.None, corner.None
		c := v
		switch {
		case perVertex && place < len(index):
			c = index[place]
		case !perVertex && rows < len(index):
			c = index[rows]
		case !perVertex:
			c = float64(rows)
		}
		r.C, err = f.index(c, nc, "colour")
		return r, err
	}
	switch g.typ {
	case "PointSet":
		for i := range n {
			r, err := at(float64(i), i)
			if err != nil {
				return err
			}
			f.points = append(f.points, r)
		}
	case "IndexedLineSet":
		var row []corner.Ref
		for i, v := range append(slices.Clip(g.nums("coordIndex")), -1) {
			if v < 0 {
				join(row)
				row = row[:0]
				continue
			}
			r, err := at(v, i)
			if err != nil {
				return err
			}
			row = append(row, r)
		}
	case "LineSet":
		from := 0
		for _, c := range g.nums("vertexCount") {
			if c < 0 || float64(from)+c > float64(n) {
				return f.errorf("a line of %g vertices from %d on, and there are %d", c, from, n)
			}
			var row []corner.Ref
			for k := range int(c) {
				r, err := at(float64(from+k), from+k)
				if err != nil {
					return err
				}
				row = append(row, r)
			}
			from += int(c)
			join(row)
		}
	}
	return nil
}

// triangles reads the sets of triangles, strips, fans and quads (X3D 11.4).
func (f *faceSet) triangles(g *node) error {
	var order [][]float64 // rows of indices
	each := 3
	switch g.typ {
	case "IndexedTriangleSet", "IndexedQuadSet":
		order = [][]float64{g.nums("index")}
	case "IndexedTriangleStripSet", "IndexedTriangleFanSet":
		var row []float64
		for _, v := range append(g.nums("index"), -1) {
			if v >= 0 {
				row = append(row, v)
				continue
			}
			order, row = append(order, row), nil
		}
	case "TriangleStripSet", "TriangleFanSet":
		at := 0.0
		field := "stripCount"
		if g.typ == "TriangleFanSet" {
			field = "fanCount"
		}
		for _, n := range g.nums(field) {
			if n < 0 || at+n > float64(len(f.src.Positions)/3) {
				return f.errorf("a strip of %g vertices from %g on, and there are %d", n, at, len(f.src.Positions)/3)
			}
			var row []float64
			for k := range int(n) {
				row = append(row, at+float64(k))
			}
			at += n
			order = append(order, row)
		}
	default:
		row := make([]float64, len(f.src.Positions)/3)
		for i := range row {
			row[i] = float64(i)
		}
		order = [][]float64{row}
	}
	if g.typ == "QuadSet" || g.typ == "IndexedQuadSet" {
		each = 4
	}
	has := func(d []float32, n int, k int32) int32 {
		if int(k) < len(d)/n {
			return k
		}
		return -1
	}
	ref := func(v float64) (corner.Ref, error) {
		k, err := f.index(v, len(f.src.Positions)/3, "coordinate")
		return corner.Ref{V: k, T: has(f.src.UVs, 2, k), N: has(f.src.Normals, 3, k), C: has(f.src.Colours, 4, k)}, err
	}
	for _, row := range order {
		refs := make([]corner.Ref, len(row))
		for i, v := range row {
			var err error
			if refs[i], err = ref(v); err != nil {
				return err
			}
		}
		switch g.typ {
		case "IndexedTriangleStripSet", "TriangleStripSet":
			for i := 2; i < len(refs); i++ {
				a, b := refs[i-2], refs[i-1]
				if i%2 == 1 {
					a, b = b, a
				}
				f.faces = append(f.faces, []corner.Ref{a, b, refs[i]})
			}
		case "IndexedTriangleFanSet", "TriangleFanSet":
			for i := 2; i < len(refs); i++ {
				f.faces = append(f.faces, []corner.Ref{refs[0], refs[i-1], refs[i]})
			}
		default:
			for i := 0; i+each <= len(refs); i += each {
				f.faces = append(f.faces, refs[i:i+each])
			}
		}
	}
	return nil
}

// part makes a part of the faces, with normals where there are none, or of
// lines and points.
func (f *faceSet) part() (*scene.Part, error) {
	p := &corner.Part{Material: scene.None}
	if len(f.src.Colours) == 0 {
		f.src.Colours = nil
	}
	if f.stroke {
		for _, r := range f.lines {
			p.Lines = append(p.Lines, p.Vertex(r))
		}
		for _, r := range f.points {
			p.Points = append(p.Points, p.Vertex(r))
		}
		out, _, _ := p.Scene(&f.src)
		return &out, nil
	}
	stated := len(f.src.Normals) > 0
	if !stated && f.crease > 0 && f.crease < math.Pi {
		f.creased()
	}
	group := 0
	if f.crease >= math.Pi {
		group = 1
	}
	for _, face := range f.faces {
		if !f.ccw {
			for a, b := 0, len(face)-1; a < b; a, b = a+1, b-1 {
				face[a], face[b] = face[b], face[a]
			}
		}
		p.Face(&f.src, face, group)
	}
	out, _, _ := p.Scene(&f.src)
	out.NormalsMade = out.Normals != nil && !stated
	for i := range out.UVs {
		out.UVs[i].Made = f.uvMade
	}
	return &out, nil
}

// unfold gives faces the texture coordinates that they have where the file
// states none: s along the longest side of their bounds, t along the second
// longest, at the same scale (X3D 13.3.6).
func (f *faceSet) unfold() {
	box := geom.EmptyBox()
	for _, face := range f.faces {
		for _, c := range face {
			box.Add(geom.At(f.src.Positions, uint32(c.V)))
		}
	}
	size := box.Size()
	order := []int{0, 1, 2}
	slices.SortStableFunc(order, func(a, b int) int { return cmp.Compare(size[b], size[a]) })
	s, t := order[0], order[1]
	if !(size[s] > 0) {
		return
	}
	f.uvMade = true
	f.src.UVs = make([]float32, len(f.src.Positions)/3*2)
	for i := range len(f.src.Positions) / 3 {
		p := geom.At(f.src.Positions, uint32(i))
		f.src.UVs[2*i], f.src.UVs[2*i+1] = float32((p[s]-box.Min[s])/size[s]), float32(1-(p[t]-box.Min[t])/size[s])
	}
	for _, face := range f.faces {
		for k := range face {
			face[k].T = face[k].V
		}
	}
}

// creased makes normals that are smooth across edges whose faces meet at less
// than the crease angle (X3D 11.2.3).
func (f *faceSet) creased() {
	at := func(v int32) geom.Vec3 {
		p := f.src.Positions[3*v:]
		return geom.Vec3{float64(p[0]), float64(p[1]), float64(p[2])}
	}
	normals := make([]geom.Vec3, len(f.faces))
	around := map[int32][]int32{} // faces of each coordinate
	for i, face := range f.faces {
		var n geom.Vec3
		for k := range face {
			a, b := at(face[k].V).Sub(at(face[0].V)), at(face[(k+1)%len(face)].V).Sub(at(face[0].V))
			n = n.Add(a.Cross(b))
		}
		normals[i] = n.Norm()
		for _, c := range face {
			around[c.V] = append(around[c.V], int32(i))
		}
	}
	cos := math.Cos(f.crease)
	seen := map[[3]float32]int32{}
	for i, face := range f.faces {
		for k := range face {
			var n geom.Vec3
			list := around[face[k].V]
			for _, o := range list[:min(len(list), 256)] {
				if normals[o].Dot(normals[i]) >= cos-1e-9 {
					n = n.Add(normals[o])
				}
			}
			n = n.Norm()
			key := [3]float32{float32(n[0]), float32(n[1]), float32(n[2])}
			j, ok := seen[key]
			if !ok {
				j = int32(len(f.src.Normals) / 3)
				seen[key] = j
				f.src.Normals = append(f.src.Normals, key[:]...)
			}
			face[k].N = j
		}
	}
}

// add adds a vertex with a UV, counted from above.
func (f *faceSet) add(x, y, z, u, v float64) corner.Ref {
	k := int32(len(f.src.Positions) / 3)
	f.uvMade = true
	f.src.Positions = append(f.src.Positions, float32(x), float32(y), float32(z))
	f.src.UVs = append(f.src.UVs, float32(u), float32(v))
	return corner.Ref{V: k, T: k, N: -1, C: -1}
}

// primitive makes a Box, Sphere, Cone or Cylinder (X3D 13.3).
func (f *faceSet) primitive(g *node) {
	const round = 32
	f.crease = math.Pi / 3
	circle := func(i int) (s, c float64) { return math.Sincos(2 * math.Pi * float64(i) / round) }
	switch g.typ {
	case "Box":
		s := g.vec("size", 2, 2, 2)
		for axis := range 3 {
			for _, side := range []float64{-1, 1} {
				a, b := (axis+1)%3, (axis+2)%3
				var face []corner.Ref
				for _, c := range [][2]float64{{-1, -1}, {1, -1}, {1, 1}, {-1, 1}} {
					var p [3]float64
					p[axis], p[a], p[b] = side*s[axis]/2, side*c[0]*s[a]/2, c[1]*s[b]/2
					face = append(face, f.add(p[0], p[1], p[2], (c[0]+1)/2, (1-c[1])/2))
				}
				f.faces = append(f.faces, face)
			}
		}
	case "Sphere":
		r := g.num("radius", 1)
		const rings = 16
		f.crease = math.Pi
		var grid [rings + 1][round + 1]corner.Ref
		for y := range rings + 1 {
			sy, cy := math.Sincos(math.Pi * float64(y) / rings)
			for x := range round + 1 {
				s, c := circle(x)
				grid[y][x] = f.add(-r*sy*s, r*cy, -r*sy*c, float64(x)/round, float64(y)/rings)
			}
		}
		for y := range rings {
			for x := range round {
				a, b, c, d := grid[y][x], grid[y+1][x], grid[y+1][x+1], grid[y][x+1]
				switch y {
				case 0:
					f.faces = append(f.faces, []corner.Ref{a, b, c})
				case rings - 1:
					f.faces = append(f.faces, []corner.Ref{a, b, d})
				default:
					f.faces = append(f.faces, []corner.Ref{a, b, c, d})
				}
			}
		}
	case "Cone", "Cylinder":
		h, r := g.num("height", 2), g.num("radius", 1)
		top := r
		bottom, lid, side := g.flag("bottom", true), g.flag("top", true), g.flag("side", true)
		if g.typ == "Cone" {
			r, top, lid = g.num("bottomRadius", 1), 0, false
		}
		var lower, upper [round + 1]corner.Ref
		for x := range round + 1 {
			s, c := circle(x)
			lower[x] = f.add(-r*s, -h/2, -r*c, float64(x)/round, 1)
			upper[x] = f.add(-top*s, h/2, -top*c, float64(x)/round, 0)
		}
		for x := 0; side && x < round; x++ {
			if top == 0 {
				f.faces = append(f.faces, []corner.Ref{lower[x], lower[x+1], upper[x]})
			} else {
				f.faces = append(f.faces, []corner.Ref{lower[x], lower[x+1], upper[x+1], upper[x]})
			}
		}
		disc := func(y, r float64, up bool) {
			var face []corner.Ref
			for x := range round {
				s, c := circle(x)
				face = append(face, f.add(-r*s, y, -r*c, 0.5-s/2, 0.5-c/2))
			}
			if !up {
				for a, b := 0, len(face)-1; a < b; a, b = a+1, b-1 {
					face[a], face[b] = face[b], face[a]
				}
			}
			f.faces = append(f.faces, face)
		}
		if bottom {
			disc(-h/2, r, false)
		}
		if lid {
			disc(h/2, top, true)
		}
	}
}

// elevation reads an ElevationGrid (X3D 13.3.4).
func (f *faceSet) elevation(g *node) error {
	nx, nz := int(g.num("xDimension", 0)), int(g.num("zDimension", 0))
	sx, sz := g.num("xSpacing", 1), g.num("zSpacing", 1)
	h := g.nums("height")
	if nx < 2 || nz < 2 {
		return nil
	}
	if nx > limit.Vertices || nz > limit.Vertices/nx || len(h) < nx*nz {
		return f.errorf("a grid of %d x %d heights has %d", nx, nz, len(h))
	}
	nt, nn, nc := len(f.src.UVs)/2, len(f.src.Normals)/3, len(f.src.Colours)/4
	perVertex, colourPerVertex := g.flag("normalPerVertex", true), g.flag("colorPerVertex", true)
	count := func(have int, perVertex bool, what string) error {
		want := nx * nz
		if !perVertex {
			want = (nx - 1) * (nz - 1)
		}
		if have > 0 && have < want {
			return f.errorf("a grid of %d x %d heights has %d %s", nx, nz, have, what)
		}
		return nil
	}
	for _, err := range []error{count(nt, true, "texture coordinates"), count(nn, perVertex, "normals"), count(nc, colourPerVertex, "colours")} {
		if err != nil {
			return err
		}
	}
	refs := make([]corner.Ref, nx*nz)
	for i := range refs {
		if _, ok := format.Finite32(h[i]); !ok {
			return f.errorf("a height of %g", h[i])
		}
		x, z := i%nx, i/nx
		refs[i] = corner.Ref{V: int32(i), T: int32(i), N: corner.None, C: corner.None}
		f.src.Positions = append(f.src.Positions, float32(float64(x)*sx), float32(h[i]), float32(float64(z)*sz))
		if nt == 0 {
			f.uvMade = true
			f.src.UVs = append(f.src.UVs, float32(x)/float32(nx-1), 1-float32(z)/float32(nz-1))
		}
		if nn > 0 && perVertex {
			refs[i].N = int32(i)
		}
		if nc > 0 && colourPerVertex {
			refs[i].C = int32(i)
		}
	}
	for z := range nz - 1 {
		for x := range nx - 1 {
			a := z*nx + x
			face := []corner.Ref{refs[a], refs[a+nx], refs[a+nx+1], refs[a+1]}
			for k := range face {
				if nn > 0 && !perVertex {
					face[k].N = int32(z*(nx-1) + x)
				}
				if nc > 0 && !colourPerVertex {
					face[k].C = int32(z*(nx-1) + x)
				}
			}
			f.faces = append(f.faces, face)
		}
	}
	return nil
}
