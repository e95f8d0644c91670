package layout

import (
	"context"
	"fmt"
	"math"
	"sort"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

type modelMap struct {
	basis     geom.Basis
	name      *formula
	materials *materialMap
	nodes     []*nodeMap
	parts     *partMap
	motions   *motionMap
}

type materialMap struct {
	each     *each
	name     *formula
	pictures []rolePicture
	alpha    *choice[scene.AlphaMode]
	cutoff   *formula
	colour   *formula
	twoSided *formula
}

type rolePicture struct {
	role scene.Role
	name *formula
}

type nodeMap struct {
	each                         *each
	name, parent                 *formula
	kind                         *choice[string] // bone, helper, camera
	translation, rotation, scale *formula
	fovY                         *formula
	parentsIn                    string // bones or nodes: what parent counts
}

type partMap struct {
	each              *each
	mesh, material    *formula
	at, count, stride *formula
	attrs             []attrMap
	triAt, triCount   *formula
	triFormat         *choice[element]
	clockwise         bool
	n                 *node
}

type attrMap struct {
	n      *node
	is     string
	name   string
	at     *formula
	format *choice[element]
	scale  *formula
	add    *formula
	when   *formula
}

type motionMap struct {
	each   *each
	name   *formula
	tracks *trackMap
}

type trackMap struct {
	each                  *each
	node, count           *formula
	path                  *choice[scene.Path]
	interp                *choice[scene.Interp]
	timesAt, timesScale   *formula
	timesFormat           *choice[element]
	valuesAt, valuesScale *formula
	valuesFormat          *choice[element]
}

func (c *compiler) model(n *node) {
	c.keys(n, "basis", "name", "materials", "nodes", "parts", "motions")
	if c.err != nil {
		return
	}
	sc := c.topScope
	m := &modelMap{basis: c.basis(n.get("basis")), name: c.optionalFormula(n, "name", sc)}
	if x := n.get("materials"); x != nil {
		m.materials = c.materials(x, sc)
	}
	if x := n.get("nodes"); x != nil && c.err == nil {
		if len(x.items) == 0 {
			c.fail(x, "nodes is a list of maps, each with its own records")
		}
		for _, it := range x.items {
			m.nodes = append(m.nodes, c.nodes(it, sc))
		}
	}
	if x := c.need(n, "parts"); x != nil && c.err == nil {
		m.parts = c.parts(x, sc)
	}
	if x := n.get("motions"); x != nil && c.err == nil {
		m.motions = c.motions(x, sc)
	}
	c.Layout.model = m
}

func (c *compiler) materials(n *node, sc *scope) *materialMap {
	c.keys(n, "each", "as", "name", "pictures", "alpha", "cutoff", "colour", "two_sided")
	if c.err != nil {
		return nil
	}
	m := &materialMap{each: c.each(n, sc)}
	sc = m.each.scope
	m.name = c.needFormula(n, "name", sc)
	m.cutoff, m.colour, m.twoSided = c.optionalFormula(n, "cutoff", sc), c.optionalFormula(n, "colour", sc), c.optionalFormula(n, "two_sided", sc)
	m.alpha = chooser(c, n.get("alpha"), sc, func(n *node) scene.AlphaMode {
		return scene.AlphaMode(c.oneOf(n, "opaque", "cutout", "blend"))
	})
	if p := n.get("pictures"); p != nil {
		c.keys(p, "colour", "metallic-roughness", "normal", "occlusion", "emission")
		for _, r := range scene.Roles {
			if x := p.get(string(r)); x != nil {
				m.pictures = append(m.pictures, rolePicture{r, c.formula(x, sc)})
			}
		}
	}
	return m
}

func (c *compiler) nodes(n *node, sc *scope) *nodeMap {
	c.keys(n, "each", "as", "name", "parent", "parents_in", "kind", "translation", "rotation", "scale", "fov_y")
	if c.err != nil {
		return nil
	}
	m := &nodeMap{each: c.each(n, sc)}
	sc = m.each.scope
	m.name, m.parent = c.needFormula(n, "name", sc), c.optionalFormula(n, "parent", sc)
	m.parentsIn = c.optionalOf(n, "parents_in", "nodes", "nodes", "same")
	m.kind = chooser(c, c.need(n, "kind"), sc, func(n *node) string { return c.oneOf(n, "bone", "helper", "camera") })
	m.translation, m.rotation, m.scale = c.optionalFormula(n, "translation", sc), c.optionalFormula(n, "rotation", sc), c.optionalFormula(n, "scale", sc)
	m.fovY = c.optionalFormula(n, "fov_y", sc)
	return m
}

func (c *compiler) element(n *node) element {
	e, err := parseElement(c.word(n))
	if err != nil {
		c.fail(n, "%v", err)
	}
	return e
}

func (c *compiler) parts(n *node, sc *scope) *partMap {
	c.keys(n, "each", "as", "mesh", "material", "vertices", "attributes", "triangles")
	if c.err != nil {
		return nil
	}
	m := &partMap{each: c.each(n, sc), n: n}
	sc = m.each.scope
	m.mesh, m.material = c.needFormula(n, "mesh", sc), c.optionalFormula(n, "material", sc)
	if v := c.need(n, "vertices"); v != nil {
		c.keys(v, "at", "count", "stride")
		m.at, m.count, m.stride = c.needFormula(v, "at", sc), c.needFormula(v, "count", sc), c.needFormula(v, "stride", sc)
	}
	if v := c.need(n, "attributes"); v != nil {
		hasPosition := false
		for _, it := range v.items {
			c.keys(it, "is", "name", "at", "format", "scale", "add", "when")
			if c.err != nil {
				return nil
			}
			a := attrMap{n: it}
			if x := c.need(it, "is"); x != nil {
				a.is = c.oneOf(x, "position", "normal", "tangent", "uv", "colour", "joints", "weights")
			}
			a.name = c.optional(it, "name", "")
			a.at, a.scale, a.add, a.when = c.needFormula(it, "at", sc), c.optionalFormula(it, "scale", sc), c.optionalFormula(it, "add", sc), c.optionalFormula(it, "when", sc)
			a.format = chooser(c, c.need(it, "format"), sc, c.element)
			hasPosition = hasPosition || a.is == "position"
			m.attrs = append(m.attrs, a)
		}
		if !hasPosition && c.err == nil {
			c.fail(v, "attributes name no position")
		}
	}
	if v := c.need(n, "triangles"); v != nil && c.err == nil {
		c.keys(v, "at", "count", "format", "winding")
		m.triAt, m.triCount = c.needFormula(v, "at", sc), c.needFormula(v, "count", sc)
		m.triFormat = chooser(c, c.need(v, "format"), sc, func(n *node) element {
			e := c.element(n)
			if c.err == nil && (!e.whole() || e.n != 1) {
				c.fail(n, "indices are u8, u16 or u32")
			}
			return e
		})
		m.clockwise = c.optionalOf(v, "winding", "counter-clockwise", "counter-clockwise", "clockwise") == "clockwise"
	}
	return m
}

func (c *compiler) motions(n *node, sc *scope) *motionMap {
	c.keys(n, "each", "as", "name", "tracks")
	if c.err != nil {
		return nil
	}
	m := &motionMap{each: c.each(n, sc)}
	sc = m.each.scope
	m.name = c.needFormula(n, "name", sc)
	tn := c.need(n, "tracks")
	if tn == nil {
		return m
	}
	c.keys(tn, "each", "as", "node", "path", "count", "interpolation", "times", "values")
	if c.err != nil {
		return m
	}
	t := &trackMap{each: c.each(tn, sc)}
	sc = t.each.scope
	t.node, t.count = c.needFormula(tn, "node", sc), c.needFormula(tn, "count", sc)
	t.path = chooser(c, c.need(tn, "path"), sc, func(n *node) scene.Path {
		return scene.Path(c.oneOf(n, "translation", "rotation", "scale"))
	})
	t.interp = chooser(c, tn.get("interpolation"), sc, func(n *node) scene.Interp {
		return scene.Interp(c.oneOf(n, "linear", "step"))
	})
	for _, k := range []string{"times", "values"} {
		x := c.need(tn, k)
		if x == nil {
			return m
		}
		c.keys(x, "at", "format", "scale")
		at, f, s := c.needFormula(x, "at", sc), chooser(c, c.need(x, "format"), sc, c.element), c.optionalFormula(x, "scale", sc)
		if k == "times" {
			t.timesAt, t.timesFormat, t.timesScale = at, f, s
		} else {
			t.valuesAt, t.valuesFormat, t.valuesScale = at, f, s
		}
	}
	m.tracks = t
	return m
}

// Scene decodes the model that the layout describes. Its pictures are named,
// not yet found.
func (l *Layout) Scene(ctx context.Context, in Input) (*scene.Scene, error) {
	if l.model == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a model", l.Kind)}
	}
	l = l.inOrder(in)
	r := newRun(ctx, l, in)
	e, err := r.fields()
	if err != nil {
		return nil, err
	}
	b := &builder{run: r, m: l.model, s: &scene.Scene{Basis: l.model.basis}}
	if l.model.name != nil {
		if b.s.Name, err = l.model.name.text(e); err != nil {
			return nil, err
		}
	}
	for _, step := range []func(*env) error{b.materials, b.nodes, b.parts, b.motions} {
		if err := step(e); err != nil {
			return nil, err
		}
	}
	if err := b.s.Validate(); err != nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the file makes no sound model: %v", err)}
	}
	return b.s, nil
}

type builder struct {
	*run
	m      *modelMap
	s      *scene.Scene
	nodeAt []int // scene node of each node in file order
	bones  []int // scene nodes of the bones in file order
}

func (b *builder) materials(e *env) error {
	m := b.m.materials
	if m == nil {
		return nil
	}
	pictures := map[string]int{}
	return m.each.do(e, func(i int, e *env) error {
		name, err := m.name.text(e)
		if err != nil {
			return err
		}
		mat := scene.NewMaterial(name)
		if m.alpha != nil {
			if mat.Alpha, err = m.alpha.eval(e); err != nil {
				return err
			}
		}
		if m.cutoff != nil {
			x, err := m.cutoff.float(e)
			if err != nil {
				return err
			}
			mat.Cutoff = float32(x)
		}
		if m.colour != nil {
			x, err := m.colour.floats(e, 4)
			if err != nil {
				return err
			}
			for k := range x {
				mat.BaseColour[k] = float32(x[k])
			}
		}
		if m.twoSided != nil {
			x, err := m.twoSided.eval(e)
			if err != nil {
				return err
			}
			mat.TwoSided = x.truth()
		}
		for _, p := range m.pictures {
			ref, err := p.name.text(e)
			if err != nil {
				return err
			}
			if ref == "" {
				continue
			}
			k, ok := pictures[ref]
			if !ok {
				k = len(b.s.Pictures)
				pictures[ref] = k
				b.s.Pictures = append(b.s.Pictures, scene.Picture{Name: baseName(ref), Ref: ref})
			}
			mat.Textures = append(mat.Textures, scene.Texture{Role: p.role, Picture: k, Scale: 1})
		}
		b.s.Materials = append(b.s.Materials, mat)
		return nil
	})
}

func baseName(ref string) string {
	for i := len(ref) - 1; i >= 0; i-- {
		if ref[i] == '/' || ref[i] == '\\' {
			return ref[i+1:]
		}
	}
	return ref
}

func (b *builder) nodes(e *env) error {
	type raw struct {
		scene.Node
		kind string
		off  int64
		line int
	}
	var list []raw
	for _, m := range b.m.nodes {
		first := len(list)
		err := m.each.do(e, func(i int, e *env) error {
			if len(list) >= limit.Nodes {
				return b.errorf(m.each.list.line, m.each.list.col, "more than %d nodes", limit.Nodes)
			}
			name, err := m.name.text(e)
			if err != nil {
				return err
			}
			x := raw{Node: scene.NewNode(name), off: b.at, line: m.each.list.line}
			if x.kind, err = m.kind.eval(e); err != nil {
				return err
			}
			if m.parent != nil {
				p, err := m.parent.int(e)
				if err != nil {
					return err
				}
				if m.parentsIn == "same" && p >= 0 {
					p += int64(first)
				}
				x.Parent = int(min(max(p, scene.None), math.MaxInt32))
			}
			if err := vector(m.translation, e, x.Translation[:]); err != nil {
				return err
			}
			if err := vector(m.rotation, e, x.Rotation[:]); err != nil {
				return err
			}
			if err := vector(m.scale, e, x.Scale[:]); err != nil {
				return err
			}
			unit(x.Rotation[:])
			if x.kind == "camera" {
				cam := scene.Camera{Name: name, FovY: math.Pi / 4, Near: 0.1, Far: 1000}
				if m.fovY != nil {
					f, err := m.fovY.float(e)
					if err != nil {
						return err
					}
					if f <= 0 || f >= math.Pi || f != f {
						return b.errorf(m.fovY.line, m.fovY.col, "camera %q sees an angle of %g: it lies between 0 and pi", name, f)
					}
					cam.FovY = float32(f)
				}
				x.Camera = len(b.s.Cameras)
				b.s.Cameras = append(b.s.Cameras, cam)
			}
			list = append(list, x)
			return nil
		})
		if err != nil {
			return err
		}
	}
	// Parents first. A node that is never reached from a root is in a ring.
	children := make([][]int, len(list))
	var order []int
	for i := range list {
		p := list[i].Parent
		if p >= len(list) {
			b.at = list[i].off
			return b.errorf(list[i].line, 1, "%s %d %q has parent %d, and there are %d", list[i].kind, i, list[i].Name, p, len(list))
		}
		if p < 0 {
			order = append(order, i)
		} else {
			children[p] = append(children[p], i)
		}
	}
	for k := 0; k < len(order); k++ {
		order = append(order, children[order[k]]...)
	}
	if len(order) < len(list) {
		reached := make([]bool, len(list))
		for _, i := range order {
			reached[i] = true
		}
		for i := range list {
			if !reached[i] {
				b.at = list[i].off
				return b.errorf(list[i].line, 1, "%s %d %q is its own ancestor", list[i].kind, i, list[i].Name)
			}
		}
	}
	// Keep the file's order where it already has parents first.
	if inOrder := func() bool {
		for i := range list {
			if list[i].Parent >= i {
				return false
			}
		}
		return true
	}(); inOrder {
		sort.Ints(order)
	}
	b.nodeAt = make([]int, len(list))
	for at, i := range order {
		b.nodeAt[i] = at
	}
	b.s.Nodes = make([]scene.Node, len(list))
	for i := range list {
		n := list[i].Node
		if n.Parent >= 0 {
			n.Parent = b.nodeAt[n.Parent]
		}
		b.s.Nodes[b.nodeAt[i]] = n
		if list[i].kind == "bone" {
			b.bones = append(b.bones, b.nodeAt[i])
		}
	}
	b.at = -1
	return nil
}

// vector reads a formula that gives len(dst) numbers; without one dst stays.
func vector(f *formula, e *env, dst []float32) error {
	if f == nil {
		return nil
	}
	x, err := f.floats(e, len(dst))
	if err != nil {
		return err
	}
	for i, v := range x {
		if v != v || math.Abs(v) > math.MaxFloat32 {
			return f.fail(e, fmt.Errorf("%g is not a finite number", v))
		}
		dst[i] = float32(v)
	}
	return nil
}

func unit(q []float32) {
	n := geom.Quat{float64(q[0]), float64(q[1]), float64(q[2]), float64(q[3])}.Norm()
	for i := range n {
		q[i] = float32(n[i])
	}
}

func (b *builder) parts(e *env) error {
	m := b.m.parts
	meshes := map[string]int{}
	skinned := map[int]bool{}
	err := m.each.do(e, func(i int, e *env) error {
		name, err := m.mesh.text(e)
		if err != nil {
			return err
		}
		part, err := b.part(i, e)
		if err != nil {
			return prefix(err, fmt.Sprintf("part %d %q: ", i, short(name)))
		}
		k, ok := meshes[name]
		if !ok {
			k = len(b.s.Meshes)
			meshes[name] = k
			b.s.Meshes = append(b.s.Meshes, scene.Mesh{Name: name})
			n := scene.NewNode(name)
			n.Mesh = k
			b.s.Nodes = append(b.s.Nodes, n)
		}
		skinned[k] = skinned[k] || part.Joints != nil
		b.s.Meshes[k].Parts = append(b.s.Meshes[k].Parts, *part)
		return nil
	})
	if err != nil || len(b.bones) == 0 {
		return err
	}
	// One skin: the rest pose is the pose in which the mesh was bound.
	skin := scene.Skin{Name: b.s.Name, Joints: b.bones, Root: scene.None}
	world := b.s.World()
	for _, n := range b.bones {
		inv, ok := world[n].Inverse()
		if !ok {
			return b.errorf(b.m.parts.n.line, 1, "bone %q has a scale of zero, so nothing can be bound to it", b.s.Nodes[n].Name)
		}
		for _, v := range inv {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	b.s.Skins = append(b.s.Skins, skin)
	for i := range b.s.Nodes {
		if k := b.s.Nodes[i].Mesh; k >= 0 && skinned[k] {
			b.s.Nodes[i].Skin = 0
		}
	}
	b.s.Skins[0].Root = b.s.RootBone()
	return nil
}

func (b *builder) part(i int, e *env) (*scene.Part, error) {
	m := b.m.parts
	p := &scene.Part{Material: scene.None}
	if m.material != nil {
		k, err := m.material.int(e)
		if err != nil {
			return nil, err
		}
		if k < scene.None || k >= int64(len(b.s.Materials)) {
			return nil, b.errorf(m.material.line, m.material.col, "material %d: there are %d", k, len(b.s.Materials))
		}
		p.Material = int(k)
	}
	at, err := m.at.int(e)
	if err != nil {
		return nil, err
	}
	declared, err := m.count.int(e)
	if err != nil {
		return nil, err
	}
	stride, err := m.stride.int(e)
	if err != nil {
		return nil, err
	}
	recOff := b.at
	if declared < 0 || declared > limit.Vertices || stride < 1 || stride > 1<<16 {
		return nil, b.errorf(m.count.line, m.count.col, "%d vertices %d bytes apart", declared, stride)
	}
	n := int(declared)
	b.at = at
	defer func() { b.at = recOff }()
	block := func(a *attrMap, off int64, el element) ([]byte, error) {
		if n == 0 {
			return nil, nil
		}
		src, err := b.in.Bytes(at+off, int64(n-1)*stride+int64(el.bytes()))
		if err != nil || off < 0 {
			return nil, b.errorf(a.n.line, a.n.col, "%s of %d vertices, %d bytes apart: %v", a.is, n, stride, err)
		}
		return src, nil
	}
	for k := range m.attrs {
		a := &m.attrs[k]
		if a.when != nil {
			if v, err := a.when.eval(e); err != nil {
				return nil, err
			} else if !v.truth() {
				continue
			}
		}
		off, err := a.at.int(e)
		if err != nil {
			return nil, err
		}
		el, err := a.format.eval(e)
		if err != nil {
			return nil, err
		}
		scale := 1.0
		if a.scale != nil {
			if scale, err = a.scale.float(e); err != nil {
				return nil, err
			}
		}
		var add []float64
		if a.add != nil {
			if add, err = a.add.floats(e, 3); err != nil {
				return nil, err
			}
		}
		src, err := block(a, off, el)
		if err != nil {
			return nil, err
		}
		want := map[string]int{"position": 3, "normal": 3, "tangent": 4, "uv": 2, "colour": 4, "weights": el.n, "joints": el.n}[a.is]
		if el.n < want && !(a.is == "colour" && el.n == 3) {
			return nil, b.errorf(a.n.line, a.n.col, "%s needs %d numbers, %s has %d", a.is, want, el.comp, el.n)
		}
		order := b.layout.order
		switch a.is {
		case "joints":
			if !el.whole() {
				return nil, b.errorf(a.n.line, a.n.col, "joints are u8, u16 or u32")
			}
			idx := el.ints(src, int(stride), n, order)
			p.Joints, p.Influences = make([]uint16, len(idx)), el.n
			for j, v := range idx {
				p.Joints[j] = uint16(min(v, math.MaxUint16))
			}
		case "weights":
			p.Weights = el.decode(src, int(stride), n, el.n, order, scale, nil)
		case "colour":
			d := el.decode(src, int(stride), n, min(el.n, 4), order, scale, nil)
			if el.n == 3 {
				d = withAlpha(d)
			}
			p.Colours = append(p.Colours, scene.AttrSet{Name: a.name, Data: d})
		default:
			d := el.decode(src, int(stride), n, want, order, scale, add)
			switch a.is {
			case "position":
				p.Positions = d
			case "normal":
				unitNormals(d)
				p.Normals = d
			case "tangent":
				p.Tangents = d
			case "uv":
				p.UVs = append(p.UVs, scene.AttrSet{Name: a.name, Data: d})
			}
		}
	}
	if (p.Joints == nil) != (p.Weights == nil) || len(p.Joints) != len(p.Weights) {
		return nil, b.errorf(m.n.line, m.n.col, "joints and weights belong together: %d joints, %d weights", len(p.Joints), len(p.Weights))
	}
	if err := b.weights(p, at, stride); err != nil {
		return nil, err
	}
	return p, b.triangles(p, e)
}

// weights brings each vertex' weights to a sum of one and checks its joints.
func (b *builder) weights(p *scene.Part, at, stride int64) error {
	k := p.Influences
	loose := 0
	for v := 0; k > 0 && v < p.Vertices(); v++ {
		sum := float32(0)
		for i := v * k; i < v*k+k; i++ {
			w := p.Weights[i]
			if w < 0 || w != w {
				b.at = at + int64(v)*stride
				return b.errorf(b.m.parts.n.line, b.m.parts.n.col, "vertex %d has a weight of %g", v, w)
			}
			if w == 0 {
				p.Joints[i] = 0
			} else if int(p.Joints[i]) >= len(b.bones) {
				b.at = at + int64(v)*stride
				return b.errorf(b.m.parts.n.line, b.m.parts.n.col, "vertex %d hangs on bone %d, and there are %d", v, p.Joints[i], len(b.bones))
			}
			sum += w
		}
		if sum == 0 {
			loose++
			p.Weights[v*k] = 1
			continue
		}
		for i := v * k; i < v*k+k; i++ {
			p.Weights[i] /= sum
		}
	}
	if loose > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: fmt.Sprintf("%d vertices had no weight and now follow the first bone", loose)})
	}
	return nil
}

func (b *builder) triangles(p *scene.Part, e *env) error {
	m := b.m.parts
	at, err := m.triAt.int(e)
	if err != nil {
		return err
	}
	count, err := m.triCount.int(e)
	if err != nil {
		return err
	}
	el, err := m.triFormat.eval(e)
	if err != nil {
		return err
	}
	b.at = at
	if count < 0 || count > limit.Vertices {
		return b.errorf(m.triCount.line, m.triCount.col, "%d triangles", count)
	}
	src, err := b.in.Bytes(at, 3*count*int64(el.size))
	if err != nil {
		return b.errorf(m.triAt.line, m.triAt.col, "%d triangles: %v", count, err)
	}
	p.Triangles = el.ints(src, el.size, int(3*count), b.layout.order)
	n := uint32(p.Vertices())
	for i, v := range p.Triangles {
		if v >= n {
			b.at = at + int64(i*el.size)
			return b.errorf(m.triAt.line, m.triAt.col, "triangle %d uses vertex %d, and there are %d", i/3, v, n)
		}
	}
	// Our winding: (b-a) x (c-a), computed from the coordinates, points to the
	// front. That is counter-clockwise in a right-handed system and clockwise
	// in a left-handed one.
	if m.clockwise != (b.s.Basis.Handed == geom.Left) {
		for i := 0; i+2 < len(p.Triangles); i += 3 {
			p.Triangles[i+1], p.Triangles[i+2] = p.Triangles[i+2], p.Triangles[i+1]
		}
	}
	return nil
}

func (b *builder) motions(e *env) error {
	m := b.m.motions
	if m == nil {
		return nil
	}
	return m.each.do(e, func(i int, e *env) error {
		name, err := m.name.text(e)
		if err != nil {
			return err
		}
		mo := scene.Motion{Name: name}
		err = m.tracks.each.do(e, func(j int, e *env) error {
			ch, err := b.track(m.tracks, e)
			if err != nil {
				return prefix(err, fmt.Sprintf("motion %q track %d: ", short(name), j))
			}
			mo.Channels = append(mo.Channels, *ch)
			return nil
		})
		b.s.Motions = append(b.s.Motions, mo)
		return err
	})
}

func (b *builder) track(t *trackMap, e *env) (*scene.Channel, error) {
	ch := &scene.Channel{Interp: scene.Linear}
	node, err := t.node.int(e)
	if err != nil {
		return nil, err
	}
	if node < 0 || node >= int64(len(b.nodeAt)) {
		return nil, b.errorf(t.node.line, t.node.col, "it moves node %d, and there are %d", node, len(b.nodeAt))
	}
	ch.Node = b.nodeAt[node]
	if ch.Path, err = t.path.eval(e); err != nil {
		return nil, err
	}
	if t.interp != nil {
		if ch.Interp, err = t.interp.eval(e); err != nil {
			return nil, err
		}
	}
	count, err := t.count.int(e)
	if err != nil {
		return nil, err
	}
	if count < 0 || count > limit.Vertices {
		return nil, b.errorf(t.count.line, t.count.col, "%d keys", count)
	}
	read := func(atF *formula, f *choice[element], scaleF *formula, want int, what string) ([]float32, error) {
		at, err := atF.int(e)
		if err != nil {
			return nil, err
		}
		el, err := f.eval(e)
		if err != nil {
			return nil, err
		}
		if el.n < want {
			return nil, b.errorf(f.n.line, f.n.col, "%s need %d numbers a key, the format has %d", what, want, el.n)
		}
		scale := 1.0
		if scaleF != nil {
			if scale, err = scaleF.float(e); err != nil {
				return nil, err
			}
		}
		src, err := b.in.Bytes(at, count*int64(el.bytes()))
		if err != nil {
			return nil, b.errorf(atF.line, atF.col, "%s of %d keys: %v", what, count, err)
		}
		return el.decode(src, el.bytes(), int(count), want, b.layout.order, scale, nil), nil
	}
	if ch.Times, err = read(t.timesAt, t.timesFormat, t.timesScale, 1, "times"); err != nil {
		return nil, err
	}
	for i, x := range ch.Times {
		if x != x || i > 0 && x < ch.Times[i-1] {
			return nil, b.errorf(t.timesAt.line, t.timesAt.col, "key %d has time %g after %g", i, x, ch.Times[max(i-1, 0)])
		}
	}
	want := 3
	if ch.Path == scene.PathRotation {
		want = 4
	}
	if ch.Values, err = read(t.valuesAt, t.valuesFormat, t.valuesScale, want, "values"); err != nil {
		return nil, err
	}
	if want == 4 {
		for i := 0; i+3 < len(ch.Values); i += 4 {
			unit(ch.Values[i : i+4])
		}
	}
	return ch, nil
}

func unitNormals(d []float32) {
	for i := 0; i+2 < len(d); i += 3 {
		x, y, z := d[i], d[i+1], d[i+2]
		if l := float32(math.Sqrt(float64(x*x + y*y + z*z))); l > 0 {
			d[i], d[i+1], d[i+2] = x/l, y/l, z/l
		}
	}
}

func withAlpha(rgb []float32) []float32 {
	out := make([]float32, len(rgb)/3*4)
	for i, o := 0, 0; i+2 < len(rgb); i, o = i+3, o+4 {
		out[o], out[o+1], out[o+2], out[o+3] = rgb[i], rgb[i+1], rgb[i+2], 1
	}
	return out
}
