package usd

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"math"
	"path"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/numlist"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Formats are the readers for the registry.
func Formats() []format.Reader {
	return []format.Reader{
		{Name: "usda", Title: "USD, text", Read: readText, Probe: func(head []byte) bool { return bytes.HasPrefix(head, []byte("#usda ")) }},
		{Name: "usdz", Title: "USD, packed", Read: readPacked, Probe: func(head []byte) bool {
			if len(head) < 30 || !bytes.HasPrefix(head, []byte("PK\x03\x04")) {
				return false
			}
			n := int(head[26]) | int(head[27])<<8
			name := string(head[30:min(30+n, len(head))])
			return strings.HasSuffix(name, ".usda") || strings.HasSuffix(name, ".usdc") || strings.HasSuffix(name, ".usd")
		}},
	}
}

type reader struct {
	ctx       context.Context
	open      func(ref string) ([]byte, string, error) // pictures within a package; nil leaves them to be looked for
	s         *scene.Scene
	prims     map[string]*prim
	materials map[string]int
	pictures  map[string]int
	format.Losses
}

func readText(ctx context.Context, f format.File) (*scene.Scene, error) {
	return read(ctx, f.Name, f.Data, nil)
}

func readPacked(ctx context.Context, f format.File) (*scene.Scene, error) {
	p, err := format.OpenPackage(f.Data)
	if err != nil {
		return nil, err
	}
	main := p.Names()[0]
	b, err := p.Open(main)
	if err != nil {
		return nil, format.Errorf(main, "%v", err)
	}
	if !bytes.HasPrefix(b, []byte("#usda ")) {
		return nil, format.Errorf(main, "the package holds USD in its binary form, which is not read; save it as text (.usda) first")
	}
	return read(ctx, f.Name, b, func(ref string) ([]byte, string, error) {
		b, err := p.Open(path.Join(path.Dir(main), ref))
		return b, "inside the file", err
	})
}

func read(ctx context.Context, name string, b []byte, open func(string) ([]byte, string, error)) (*scene.Scene, error) {
	p := &parser{b: b}
	root, err := p.layer()
	if err != nil {
		return nil, err
	}
	base := name[strings.LastIndexAny(name, "/\\")+1:]
	r := &reader{ctx: ctx, open: open, s: &scene.Scene{Name: strings.TrimSuffix(base, path.Ext(base))}, prims: map[string]*prim{}, materials: map[string]int{}, pictures: map[string]int{}}
	// UsdGeom: y up and centimetres where the layer says nothing.
	basis := geom.Basis{Up: geom.PlusY, Front: geom.PlusZ, Handed: geom.Right, MetresPerUnit: 0.01}
	if root.meta["upAxis"].word() == "Z" {
		basis.Up, basis.Front = geom.PlusZ, -geom.PlusY
	}
	if v := root.meta["metersPerUnit"]; len(v.nums) == 1 && v.nums[0] > 0 {
		basis.MetresPerUnit = float64(v.nums[0])
		// Written with few digits, a unit such as 0.01 is meant to be exact.
		basis.MetresPerUnit = math.Round(basis.MetresPerUnit*1e7) / 1e7
		if basis.MetresPerUnit == 0 {
			basis.MetresPerUnit = float64(v.nums[0])
		}
	}
	r.s.Basis = basis
	if len(root.meta["subLayers"].words) > 0 {
		r.Lose("layers below this one were left out")
	}
	var index func(p *prim)
	index = func(p *prim) {
		r.prims[p.path] = p
		for _, c := range p.children {
			if c.specifier == "def" {
				index(c)
			}
		}
	}
	index(root)
	for _, c := range root.children {
		if err := r.prim(c, scene.None, ""); err != nil {
			return nil, err
		}
	}
	r.s.Notes = append(r.s.Notes, r.Notes()...)
	if err := r.s.Validate(); err != nil {
		return nil, format.Errorf("", "the file makes no sound model: %v", err)
	}
	return r.s, nil
}

func at(p *prim, msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", p.line), p.path+": "+msg, a...)
}

// called is what the prim is called for people.
func (p *prim) called() string {
	if v := p.meta["displayName"].word(); v != "" {
		return v
	}
	return p.name
}

// binding is the path of the material that is bound to the prim for all
// purposes, or else for one (UsdShadeMaterialBindingAPI).
func (p *prim) binding() string {
	for _, purpose := range []string{"", ":full", ":preview"} {
		if b := p.props["material:binding"+purpose].word(); b != "" {
			return b
		}
	}
	return ""
}

// prim makes a node of a prim and what lies in it. bound is the material that
// is bound above.
func (r *reader) prim(p *prim, parent int, bound string) error {
	if err := r.ctx.Err(); err != nil {
		return err
	}
	for _, k := range []string{"references", "payload", "inherits", "specializes"} {
		if len(p.meta[k].words) > 0 {
			r.Lose("%s of other prims were left out", k)
		}
	}
	if len(p.props["variantSet"].words) > 0 {
		r.Lose("variant sets were left out")
	}
	switch p.specifier {
	case "over":
		r.Lose("a prim that is only written over was left out")
		return nil
	case "class":
		r.Lose("a class of prims was left out")
		return nil
	}
	if b := p.binding(); b != "" {
		bound = b
	}
	switch p.kind {
	case "Material", "Shader", "NodeGraph", "GeomSubset":
		return nil
	case "Scope", "Xform", "Mesh", "Points", "BasisCurves", "", "SkelRoot":
	case "Camera":
		return r.camera(p, parent)
	default:
		r.Lose("prims of the kind %s were left out", p.kind)
		return nil
	}
	if p.kind == "SkelRoot" {
		r.Lose("a skeleton was left out; its meshes stand as they lie in the file")
	}
	if p.sampled > 0 {
		r.Lose("a moving prim stands as it does at its first time")
	}
	if p.props["visibility"].word() == "invisible" {
		r.Lose("a hidden prim is shown")
	}
	n := scene.NewNode(p.called())
	n.Parent = parent
	if err := r.place(p, &n); err != nil {
		return err
	}
	if p.kind == "Mesh" || p.kind == "Points" || p.kind == "BasisCurves" {
		m, err := r.mesh(p, bound)
		if err != nil {
			return err
		}
		n.Mesh = m
	}
	i := len(r.s.Nodes)
	r.s.Nodes = append(r.s.Nodes, n)
	materialsOnly := len(p.children) > 0
	for _, c := range p.children {
		if c.kind != "Material" {
			materialsOnly = false
		}
		if err := r.prim(c, i, bound); err != nil {
			return err
		}
	}
	if p.kind == "Scope" && materialsOnly && len(r.s.Nodes) == i+1 {
		r.s.Nodes = r.s.Nodes[:i]
	}
	return nil
}

// place gives the node, which is the next, its transform, of its xformOps (UsdGeomXformable): the
// first in the order is the outermost.
func (r *reader) place(p *prim, n *scene.Node) error {
	m := geom.Identity
	one := geom.Vec3{1, 1, 1}
	for _, op := range p.props["xformOpOrder"].words {
		if op == "!resetXformStack!" {
			r.Lose("a transform that forgets those above it was put below them")
			continue
		}
		name, inverse := strings.CutPrefix(op, "!invert!")
		v := p.props[name].nums
		kind, _, _ := strings.Cut(strings.TrimPrefix(name, "xformOp:"), ":")
		f := func(i int) float64 {
			if i < len(v) {
				return float64(v[i])
			}
			return 0
		}
		axis := func(k int) geom.Mat4 {
			var a geom.Vec3
			a[k] = 1
			return geom.TRS(geom.Vec3{}, geom.AxisAngle(a, f(map[bool]int{true: k, false: 0}[len(v) == 3])*math.Pi/180), one)
		}
		if len(v) == 0 {
			r.Lose("a transform without a value was left out")
			continue
		}
		var x geom.Mat4
		switch kind {
		case "translate":
			x = geom.TRS(geom.Vec3{f(0), f(1), f(2)}, geom.IdentityQuat, one)
		case "scale":
			x = geom.TRS(geom.Vec3{}, geom.IdentityQuat, geom.Vec3{f(0), f(1), f(2)})
		case "orient": // real part first
			x = geom.TRS(geom.Vec3{}, geom.Quat{f(1), f(2), f(3), f(0)}.Norm(), one)
		case "rotateX", "rotateY", "rotateZ":
			x = axis(int(kind[6] - 'X'))
		case "rotateXYZ", "rotateXZY", "rotateYXZ", "rotateYZX", "rotateZXY", "rotateZYX":
			// The first letter turns first, so it stands innermost.
			x = axis(int(kind[8] - 'X')).Mul(axis(int(kind[7] - 'X'))).Mul(axis(int(kind[6] - 'X')))
		case "transform":
			if len(v) != 16 {
				return at(p, "a transform of %d numbers; there are 16", len(v))
			}
			for i := range x { // rows for row vectors are columns for ours
				x[i] = f(i)
			}
		default:
			r.Lose("a transform %s was left out", kind)
			continue
		}
		if inverse {
			inv, ok := x.Inverse()
			if !ok {
				return at(p, "%s has no inverse", name)
			}
			x = inv
		}
		m = m.Mul(x)
	}
	if above := n.Place(m); above != nil {
		n.Parent = len(r.s.Nodes)
		r.s.Nodes = append(r.s.Nodes, *above)
	}
	return nil
}

func (r *reader) camera(p *prim, parent int) error {
	n := scene.NewNode(p.called())
	n.Parent = parent
	if err := r.place(p, &n); err != nil {
		return err
	}
	// It looks along -Z with Y up, whatever the stage's axes (UsdGeomCamera).
	var q geom.Quat
	for i := range q {
		q[i] = float64(n.Rotation[i])
	}
	for i, v := range q.Mul(r.s.Basis.View()) {
		n.Rotation[i] = float32(v)
	}
	num := func(name string, usual float32) float32 {
		if v := p.props[name].nums; len(v) > 0 {
			return v[0]
		}
		return usual
	}
	c := scene.Camera{Name: p.called(), Near: 1, Far: 1e6}
	if v := p.props["clippingRange"].nums; len(v) == 2 {
		c.Near, c.Far = v[0], v[1]
	}
	w, h, focal := num("horizontalAperture", 20.955), num("verticalAperture", 15.2908), num("focalLength", 50)
	switch {
	case h <= 0:
	case p.props["projection"].word() == "orthographic": // apertures are tenths of the unit, and a height is a half
		c.Orthographic, c.Height, c.Aspect = true, h/20, w/h
	case focal > 0:
		c.FovY, c.Aspect = float32(2*math.Atan(float64(h/focal/2))), w/h
	}
	n.Camera = len(r.s.Cameras)
	r.s.Cameras = append(r.s.Cameras, c)
	r.s.Nodes = append(r.s.Nodes, n)
	return nil
}

// primvar is data of a mesh with how it lies on it.
type primvar struct {
	data   []float32
	width  int
	interp string
	index  []int32
}

func (p *prim) primvar(name string, usual string) *primvar {
	v, ok := p.props[name]
	if !ok || len(v.nums) == 0 {
		return nil
	}
	out := &primvar{data: v.nums, width: v.width, interp: usual}
	if i := p.propMeta[name]["interpolation"].word(); i != "" {
		out.interp = i
	}
	for _, f := range p.props[name+":indices"].nums {
		out.index = append(out.index, int32(f))
	}
	return out
}

// of is the element for a corner; false where the data has none.
func (v *primvar) of(point, corner, face int) ([]float32, bool) {
	i := 0
	switch v.interp {
	case "vertex", "varying":
		i = point
	case "faceVarying":
		i = corner
	case "uniform":
		i = face
	}
	if v.index != nil {
		if i >= len(v.index) {
			return nil, false
		}
		i = int(v.index[i])
	}
	if i < 0 || (i+1)*v.width > len(v.data) {
		return nil, false
	}
	return v.data[i*v.width : (i+1)*v.width], true
}

// mesh reads a UsdGeomMesh, or what is drawn by points and curves, and returns
// the place of the new mesh. Each material that its faces are bound to is a part.
func (r *reader) mesh(p *prim, bound string) (int, error) {
	pts := p.props["points"]
	if len(pts.nums) == 0 {
		r.Lose("a mesh without points was left out")
		return scene.None, nil
	}
	if pts.width != 3 || len(pts.nums)%3 != 0 {
		return 0, at(p, "points of %d numbers; there are three", pts.width)
	}
	n := len(pts.nums) / 3
	if p.kind != "Mesh" {
		return r.strokes(p, pts.nums, bound)
	}
	if n > 1<<24 {
		return 0, at(p, "more than %d points", 1<<24)
	}
	counts, idx := p.whole("faceVertexCounts"), p.whole("faceVertexIndices")
	for i, v := range idx {
		if v < 0 || v >= n {
			return 0, at(p, "corner %d is point %d, and there are %d", i, v, n)
		}
	}
	if s := p.props["subdivisionScheme"].word(); s != "none" && s != "" {
		r.Lose("a surface to be subdivided is shown as the mesh that controls it")
	}
	f := newFaces(p, pts.nums, bound)
	corner := 0
	for k, count := range counts {
		if count < 0 || count > len(idx)-corner {
			return 0, at(p, "face %d has %d corners, and %d are left", k, count, len(idx)-corner)
		}
		if count >= 3 && !f.hole[k] {
			b, err := f.partOf(r, k)
			if err != nil {
				return 0, err
			}
			f.cut(b, k, corner, idx[corner:corner+count])
		}
		corner += count
	}
	m := scene.Mesh{Name: p.called()}
	for _, b := range f.order {
		if v := p.props["doubleSided"].nums; len(v) > 0 && v[0] == 1 && b.part.Material >= 0 {
			r.s.Materials[b.part.Material].TwoSided = true
		}
		m.Parts = append(m.Parts, b.part)
	}
	r.s.Meshes = append(r.s.Meshes, m)
	return len(r.s.Meshes) - 1, nil
}

// whole is a list of whole numbers.
func (p *prim) whole(name string) []int {
	out := make([]int, len(p.props[name].nums))
	for i, f := range p.props[name].nums {
		out[i] = int(f)
	}
	return out
}

// faces is the building of parts out of a mesh's faces. In USD a value may stand
// for each point, corner or face, or for all ("interpolation", UsdGeomPrimvar);
// in a part all stand for vertices, so that corners that differ in any become
// vertices of their own.
type faces struct {
	points           []float32
	bound            string         // the mesh's own material
	subsets          map[int]string // materials of faces that have another
	hole             map[int]bool
	left             bool // corners go round the other way
	uvs              []*primvar
	uvNames          []string
	normals          *primvar
	colours, opacity *primvar

	parts  map[string]*building // by material
	order  []*building
	cutter geom.Cutter
	corner []float32 // the values of a corner, reused
}

// building is a part that is being built.
type building struct {
	part scene.Part
	seen map[string]uint32 // vertices by all that they have
	key  []byte
}

// mostUVSets bounds the UV sets that are read of a mesh.
const mostUVSets = 8

func newFaces(p *prim, points []float32, bound string) *faces {
	f := &faces{points: points, bound: bound, subsets: map[int]string{}, hole: map[int]bool{},
		parts: map[string]*building{},
		left:  p.props["orientation"].word() == "leftHanded"}
	for _, k := range p.whole("holeIndices") {
		f.hole[k] = true
	}
	for _, c := range p.children {
		if b := c.binding(); c.kind == "GeomSubset" && b != "" {
			for _, k := range c.props["indices"].nums {
				f.subsets[int(k)] = b
			}
		}
	}
	for _, name := range p.order {
		short, ok := strings.CutPrefix(name, "primvars:")
		if ok && !strings.HasSuffix(name, ":indices") && p.props[name].width == 2 && len(f.uvs) < mostUVSets {
			f.uvs = append(f.uvs, p.primvar(name, "constant"))
			f.uvNames = append(f.uvNames, short)
		}
	}
	if f.normals = p.primvar("primvars:normals", "vertex"); f.normals == nil {
		f.normals = p.primvar("normals", "vertex")
	}
	if f.normals != nil && f.normals.width != 3 {
		f.normals = nil
	}
	f.colours, f.opacity = p.primvar("primvars:displayColor", "constant"), p.primvar("primvars:displayOpacity", "constant")
	if c := f.colours; c != nil && (c.width != 3 || c.interp == "constant" && bound != "") {
		f.colours = nil // the material's own colour stands above one for the whole mesh
	}
	return f
}

// partOf is the part that a face belongs to.
func (f *faces) partOf(r *reader, face int) (*building, error) {
	mat := f.bound
	if m, ok := f.subsets[face]; ok {
		mat = m
	}
	if b := f.parts[mat]; b != nil {
		return b, nil
	}
	m, err := r.material(mat, f.uvNames)
	if err != nil {
		return nil, err
	}
	b := &building{part: scene.Part{Material: m}, seen: map[string]uint32{}}
	f.parts[mat] = b
	f.order = append(f.order, b)
	return b, nil
}

// cut adds a face whose corners, from first on, are at points.
func (f *faces) cut(b *building, face, first int, points []int) {
	for _, t := range f.cutter.Cut(len(points), func(k int) geom.Vec3 { return geom.At(f.points, uint32(points[k])) }) {
		if f.left {
			t[1], t[2] = t[2], t[1]
		}
		for _, k := range t {
			b.part.Triangles = append(b.part.Triangles, f.vertex(b, points[k], first+k, face))
		}
	}
}

// vertex is the vertex of a corner: the one that is the same in all, or a new one.
func (f *faces) vertex(b *building, point, corner, face int) uint32 {
	v := f.corner[:0]
	add := func(from *primvar, width int) {
		e, ok := from.of(point, corner, face)
		if !ok || len(e) < width {
			e = make([]float32, width)
		}
		v = append(v, e[:width]...)
	}
	if f.normals != nil {
		add(f.normals, 3)
	}
	for _, set := range f.uvs {
		add(set, 2)
	}
	if f.colours != nil {
		add(f.colours, 3)
		if f.opacity != nil {
			add(f.opacity, 1)
		} else {
			v = append(v, 1)
		}
	}
	f.corner = v
	b.key = binary.LittleEndian.AppendUint32(b.key[:0], uint32(point))
	for _, x := range v {
		b.key = binary.LittleEndian.AppendUint32(b.key, math.Float32bits(x))
	}
	if i, ok := b.seen[string(b.key)]; ok {
		return i
	}
	q := &b.part
	i := uint32(len(q.Positions) / 3)
	b.seen[string(b.key)] = i
	q.Positions = append(q.Positions, f.points[3*point:3*point+3]...)
	if f.normals != nil {
		q.Normals, v = append(q.Normals, v[:3]...), v[3:]
	}
	for k := range f.uvs {
		if len(q.UVs) <= k {
			q.UVs = append(q.UVs, scene.AttrSet{Name: f.uvNames[k]})
		}
		q.UVs[k].Data = append(q.UVs[k].Data, v[0], 1-v[1]) // USD counts v from below
		v = v[2:]
	}
	if f.colours != nil {
		if q.Colours == nil {
			q.Colours = []scene.AttrSet{{Name: "colour"}}
		}
		q.Colours[0].Data = append(q.Colours[0].Data, v...) // displayColor is linear
	}
	return i
}

// strokes reads points, or curves of straight pieces.
func (r *reader) strokes(p *prim, points []float32, bound string) (int, error) {
	n := len(points) / 3
	part := scene.Part{Positions: points}
	if p.kind == "Points" {
		part.Points = numlist.Upto(n)
	} else {
		if t := p.props["type"].word(); t != "linear" { // UsdGeomBasisCurves: cubic where nothing is said
			r.Lose("curves that are not straight were left out")
			return scene.None, nil
		}
		from := 0
		for i, v := range p.props["curveVertexCounts"].nums {
			if !(v >= 0 && v <= float32(n-from)) {
				return 0, at(p, "curve %d has %g points, and %d are left", i, v, n-from)
			}
			count := int(v)
			for k := from; k+1 < from+count; k++ {
				part.Lines = append(part.Lines, uint32(k), uint32(k+1))
			}
			if count > 2 && p.props["wrap"].word() == "periodic" {
				part.Lines = append(part.Lines, uint32(from+count-1), uint32(from))
			}
			from += count
		}
	}
	var err error
	if part.Material, err = r.material(bound, nil); err != nil {
		return 0, err
	}
	colours, opacity := p.primvar("primvars:displayColor", "constant"), p.primvar("primvars:displayOpacity", "constant")
	if colours != nil && colours.width == 3 && (colours.interp != "constant" || bound == "") {
		c := make([]float32, 0, 4*n)
		for k := range n {
			rgba := [4]float32{1, 1, 1, 1}
			if v, ok := colours.of(k, k, 0); ok {
				copy(rgba[:], v)
			}
			if opacity != nil {
				if v, ok := opacity.of(k, k, 0); ok {
					rgba[3] = v[0]
				}
			}
			c = append(c, rgba[:]...)
		}
		part.Colours = []scene.AttrSet{{Name: "colour", Data: c}}
	}
	r.s.Meshes = append(r.s.Meshes, scene.Mesh{Name: p.called(), Parts: []scene.Part{part}})
	return len(r.s.Meshes) - 1, nil
}

// material reads a UsdPreviewSurface.
func (r *reader) material(ref string, uvNames []string) (int, error) {
	if ref == "" {
		return scene.None, nil
	}
	if i, ok := r.materials[ref]; ok {
		return i, nil
	}
	p := r.prims[ref]
	if p == nil {
		r.Lose("the material %s is not in the file", ref)
		return scene.None, nil
	}
	m := scene.NewMaterial(p.called())
	m.Roughness = 0.5
	path, _, _ := strings.Cut(p.props["outputs:surface.connect"].word(), ".outputs:")
	sh := r.prims[path]
	if sh == nil || sh.props["info:id"].word() != "UsdPreviewSurface" {
		r.Lose("a material without a preview surface is plain")
	} else {
		r.surface(sh, &m, uvNames)
	}
	r.materials[ref] = len(r.s.Materials)
	r.s.Materials = append(r.s.Materials, m)
	return r.materials[ref], nil
}

func (r *reader) surface(sh *prim, m *scene.Material, uvNames []string) {
	num := func(name string, usual float32) float32 {
		if v := sh.props["inputs:"+name].nums; len(v) > 0 {
			return v[0]
		}
		return usual
	}
	tex := func(name string, role scene.Role) bool {
		path, _, ok := strings.Cut(sh.props["inputs:"+name+".connect"].word(), ".outputs:")
		t := r.prims[path]
		if !ok || t == nil || t.props["info:id"].word() != "UsdUVTexture" {
			return false
		}
		out := scene.Texture{Role: role, Scale: 1, Picture: r.picture(t.props["inputs:file"].word())}
		wrap := func(name string) scene.Wrap {
			switch t.props[name].word() {
			case "clamp", "black":
				return scene.Clamp
			case "mirror":
				return scene.Mirror
			}
			return scene.Repeat
		}
		out.WrapU, out.WrapV = wrap("inputs:wrapS"), wrap("inputs:wrapT")
		factor := [4]float32{1, 1, 1, 1}
		if v := t.props["inputs:scale"].nums; len(v) == 4 {
			factor = [4]float32(v)
		}
		scaled(m, &out, factor)
		path, _, _ = strings.Cut(t.props["inputs:st.connect"].word(), ".outputs:")
		st := r.prims[path]
		if st != nil && st.props["info:id"].word() == "UsdTransform2d" {
			out.Transform = placed(st)
			path, _, _ = strings.Cut(st.props["inputs:in.connect"].word(), ".outputs:")
			st = r.prims[path]
		}
		if st != nil {
			for i, n := range uvNames {
				if n == st.props["inputs:varname"].word() {
					out.UVSet = i
				}
			}
		}
		if m.Texture(role) == nil {
			m.Textures = append(m.Textures, out)
		}
		return true
	}
	if c := sh.props["inputs:diffuseColor"].nums; len(c) == 3 {
		copy(m.BaseColour[:3], c)
	}
	tex("diffuseColor", scene.RoleColour)
	if c := sh.props["inputs:emissiveColor"].nums; len(c) == 3 {
		copy(m.Emissive[:], c)
	}
	tex("emissiveColor", scene.RoleEmission)
	m.Metallic, m.Roughness = num("metallic", 0), num("roughness", 0.5)
	if rough, metal := tex("roughness", scene.RoleMetalRgh), tex("metallic", scene.RoleMetalRgh); rough || metal {
		if !rough {
			m.Roughness = num("roughness", 0.5)
		}
		if !metal {
			m.Metallic = num("metallic", 0)
		}
	}
	tex("normal", scene.RoleNormal)
	tex("occlusion", scene.RoleOcclusion)
	if v := sh.props["inputs:opacity"].nums; len(v) > 0 {
		m.BaseColour[3] = v[0]
	}
	cut := num("opacityThreshold", 0)
	clear := sh.props["inputs:opacity.connect"].word() != "" || m.BaseColour[3] < 1
	switch {
	case clear && cut > 0:
		m.Alpha, m.Cutoff = scene.Cutout, cut
	case clear:
		m.Alpha = scene.Blend
	}
	l := &scene.Layers{}
	if v := sh.props["inputs:ior"].nums; len(v) == 1 && v[0] != 1.5 {
		l.IOR = &v[0]
	}
	if v := num("clearcoat", 0); v > 0 {
		rough := num("clearcoatRoughness", 0.01)
		l.Clearcoat, l.ClearcoatRoughness = &v, &rough
	}
	if *l != (scene.Layers{}) {
		m.Layers = l
	}
}

// scaled puts what a texture's texels are multiplied by where the scene has it.
func scaled(m *scene.Material, t *scene.Texture, k [4]float32) {
	switch t.Role {
	case scene.RoleColour:
		m.BaseColour = k
	case scene.RoleEmission:
		m.Emissive = [3]float32(k[:3])
	case scene.RoleMetalRgh:
		m.Roughness, m.Metallic = k[1], k[2]
	case scene.RoleNormal:
		if k != [4]float32{1, 1, 1, 1} { // left out where texels are signed already
			t.Scale = k[0] / 2
		}
	case scene.RoleOcclusion:
		t.Scale = k[0]
	}
}

// placed is how a UsdTransform2d moves UVs, with V from above: see the writer.
func placed(p *prim) *scene.UVTransform {
	pair := func(name string, usual float32) [2]float32 {
		if v := p.props["inputs:"+name].nums; len(v) == 2 {
			return [2]float32(v)
		}
		return [2]float32{usual, usual}
	}
	x := &scene.UVTransform{Scale: pair("scale", 1)}
	if v := p.props["inputs:rotation"].nums; len(v) == 1 {
		x.Rotation = float32(float64(v[0]) * math.Pi / 180)
	}
	move := pair("translation", 0)
	sin, cos := math.Sincos(float64(x.Rotation))
	sy := float64(x.Scale[1])
	x.Offset = [2]float32{float32(float64(move[0]) - sin*sy), float32(1 - cos*sy - float64(move[1]))}
	return x
}

func (r *reader) picture(ref string) int {
	if i, ok := r.pictures[ref]; ok {
		return i
	}
	p := scene.Picture{Name: path.Base(ref), Ref: strings.TrimPrefix(ref, "./")}
	if r.open != nil {
		b, found, err := r.open(p.Ref)
		if err == nil {
			out, mime, _, w, h, e := pixel.Encoded(b)
			if err = e; e == nil {
				p.Data, p.MIME, p.Width, p.Height, p.Found = out, mime, w, h, found
			}
		}
		if err != nil {
			p.Looked = []string{err.Error()}
		}
	}
	r.pictures[ref] = len(r.s.Pictures)
	r.s.Pictures = append(r.s.Pictures, p)
	return r.pictures[ref]
}
