package layout

import (
	"fmt"
	"math"
	"sort"
	"strings"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/scene"
)

// nodeMap is a table of nodes: bones, helpers, cameras. A node's place is its
// translation, rotation and scale, or a matrix; its parent is a number, a
// name, or follows from how deep it is nested.
type nodeMap struct {
	each                *each
	name                *formula
	parent, parentName  *formula
	depth               *formula
	kind                *choice[string] // bone, helper, camera
	translation, scale  *formula
	rotation            *rotationMap
	matrix, inverseBind *formula
	byColumns           bool
	inModelSpace        bool
	fovY                *formula
	parentsIn           string // bones or nodes: what parent counts
}

// rotationMap is a rotation as a formula gives it.
type rotationMap struct {
	f    *formula
	kind string // xyzw or wxyz: a quaternion; xyz, zyx, ...: Euler angles
}

var eulerOrders = []string{"xyz", "xzy", "yxz", "yzx", "zxy", "zyx"}

func (c *compiler) nodes(n *node, sc *scope) *nodeMap {
	c.keys(n, "each", "as", "name", "parent", "parent_name", "depth", "parents_in", "kind", "translation", "rotation", "rotation_order", "scale", "matrix", "matrix_order", "inverse_bind", "space", "fov_y")
	if c.err != nil {
		return nil
	}
	m := &nodeMap{each: c.each(n, sc)}
	sc = m.each.scope
	m.name, m.parent = c.needFormula(n, "name", sc), c.optionalFormula(n, "parent", sc)
	m.parentName, m.depth = c.optionalFormula(n, "parent_name", sc), c.optionalFormula(n, "depth", sc)
	ways := 0
	for _, f := range []*formula{m.parent, m.parentName, m.depth} {
		if f != nil {
			ways++
		}
	}
	if ways > 1 {
		c.fail(n, "a node's parent is told by parent, by parent_name or by depth, not by several")
	}
	m.parentsIn = c.optionalOf(n, "parents_in", "nodes", "nodes", "same")
	m.kind = chooser(c, c.need(n, "kind"), sc, func(n *node) string { return c.oneOf(n, "bone", "helper", "camera") })
	m.translation, m.scale = c.optionalFormula(n, "translation", sc), c.optionalFormula(n, "scale", sc)
	if x := n.get("rotation"); x != nil {
		m.rotation = &rotationMap{f: c.formula(x, sc), kind: c.optionalOf(n, "rotation_order", "xyzw", append([]string{"xyzw", "wxyz"}, eulerOrders...)...)}
	}
	m.matrix, m.inverseBind = c.optionalFormula(n, "matrix", sc), c.optionalFormula(n, "inverse_bind", sc)
	if m.matrix != nil && (m.translation != nil || m.rotation != nil || m.scale != nil) {
		c.fail(n, "a node has a matrix, or translation, rotation and scale")
	}
	m.byColumns = c.optionalOf(n, "matrix_order", "rows", "rows", "columns") == "columns"
	m.inModelSpace = c.optionalOf(n, "space", "local", "local", "model") == "model"
	m.fovY = c.optionalFormula(n, "fov_y", sc)
	return m
}

// quat makes a unit quaternion x, y, z, w of the numbers of a rotation.
// Euler angles are radians; the order names the axes in the order in which
// the turns are made, each about the file's own fixed axes.
func quat(kind string, v []float64) geom.Quat {
	switch kind {
	case "xyzw":
		return geom.Quat{v[0], v[1], v[2], v[3]}.Norm()
	case "wxyz":
		return geom.Quat{v[1], v[2], v[3], v[0]}.Norm()
	}
	q := geom.Quat{0, 0, 0, 1}
	for _, axis := range kind {
		k := int(axis - 'x')
		var a geom.Vec3
		a[k] = 1
		q = geom.AxisAngle(a, v[k]).Mul(q)
	}
	return q.Norm()
}

func rotationNumbers(kind string) int {
	if len(kind) == 4 {
		return 4
	}
	return 3
}

// matrix reads 16 numbers, or 12 whose last row (by columns: column's last
// number) is 0, 0, 0, 1. Rows: the translation is the last column.
func matrix(v []float64, byColumns bool) (m geom.Mat4, err error) {
	for _, x := range v {
		if x != x || math.IsInf(x, 0) {
			return m, fmt.Errorf("%g is not a finite number", x)
		}
	}
	switch {
	case len(v) == 16 && byColumns:
		copy(m[:], v)
	case len(v) == 16:
		for r := 0; r < 4; r++ {
			for c := 0; c < 4; c++ {
				m[4*c+r] = v[4*r+c]
			}
		}
	case len(v) == 12 && byColumns:
		for c := 0; c < 4; c++ {
			copy(m[4*c:4*c+3], v[3*c:3*c+3])
		}
		m[15] = 1
	case len(v) == 12:
		for r := 0; r < 3; r++ {
			for c := 0; c < 4; c++ {
				m[4*c+r] = v[4*r+c]
			}
		}
		m[15] = 1
	default:
		return m, fmt.Errorf("a matrix has 16 or 12 numbers, this has %d", len(v))
	}
	return m, nil
}

func (f *formula) matrix(e *env, byColumns bool) (geom.Mat4, error) {
	v, err := f.eval(e)
	if err != nil {
		return geom.Mat4{}, err
	}
	n := 16
	if seq, ok := v.obj.(interface{ Len() int }); ok && v.kind == kObj && seq.Len() == 12 {
		n = 12
	}
	x, err := v.floats(n)
	if err == nil {
		var m geom.Mat4
		if m, err = matrix(x, byColumns); err == nil {
			return m, nil
		}
	}
	return geom.Mat4{}, f.fail(e, err)
}

// rawNode is a node in file order.
type rawNode struct {
	scene.Node
	kind   string
	off    int64
	line   int
	model  bool // its transform is in model space
	parent string
	bind   *geom.Mat4
}

func (b *builder) nodes(e *env) error {
	var list []rawNode
	for _, m := range b.m.nodes {
		first := len(list)
		var path []int // the last node at each depth
		err := m.each.do(e, func(i int, e *env) error {
			if len(list) >= limit.Nodes {
				return b.errorf(m.each.list.line, m.each.list.col, "more than %d nodes", limit.Nodes)
			}
			x, err := b.node(m, e)
			if err != nil {
				return err
			}
			switch {
			case m.parent != nil:
				p, err := m.parent.int(e)
				if err != nil {
					return err
				}
				if m.parentsIn == "same" && p >= 0 {
					p += int64(first)
				}
				x.Parent = int(min(max(p, scene.None), math.MaxInt32))
			case m.parentName != nil:
				if x.parent, err = m.parentName.text(e); err != nil {
					return err
				}
			case m.depth != nil:
				d, err := m.depth.int(e)
				if err != nil {
					return err
				}
				if d < 0 || d > int64(len(path)) {
					return b.errorf(m.depth.line, m.depth.col, "%s %q lies %d deep, after one that lies %d deep", x.kind, x.Name, d, len(path)-1)
				}
				if path = append(path[:d], len(list)); d > 0 {
					x.Parent = path[d-1]
				}
			}
			list = append(list, *x)
			return nil
		})
		if err != nil {
			return err
		}
	}
	byName := map[string]int{}
	for i := range list {
		if _, twice := byName[list[i].Name]; !twice {
			byName[list[i].Name] = i
		}
	}
	for i := range list {
		if p := list[i].parent; p != "" {
			k, ok := byName[p]
			if !ok {
				b.cur, b.at = b.self, list[i].off
				return b.errorf(list[i].line, 1, "%s %d %q hangs on %q, and no node has that name", list[i].kind, i, list[i].Name, p)
			}
			list[i].Parent = k
		}
	}
	return b.place(list)
}

// node reads one node but for its parent.
func (b *builder) node(m *nodeMap, e *env) (*rawNode, error) {
	name, err := m.name.text(e)
	if err != nil {
		return nil, err
	}
	x := &rawNode{Node: scene.NewNode(name), off: b.at, line: m.each.list.line, model: m.inModelSpace}
	if x.kind, err = m.kind.eval(e); err != nil {
		return nil, err
	}
	if m.matrix != nil {
		t, err := m.matrix.matrix(e, m.byColumns)
		if err != nil {
			return nil, err
		}
		x.set(t)
	}
	if err := vector(m.translation, e, x.Translation[:]); err != nil {
		return nil, err
	}
	if m.rotation != nil {
		v, err := m.rotation.f.floats(e, rotationNumbers(m.rotation.kind))
		if err != nil {
			return nil, err
		}
		for i, c := range quat(m.rotation.kind, v) {
			if c != c || math.IsInf(c, 0) {
				return nil, m.rotation.f.fail(e, fmt.Errorf("%v is no rotation", v))
			}
			x.Rotation[i] = float32(c)
		}
	}
	if err := vector(m.scale, e, x.Scale[:]); err != nil {
		return nil, err
	}
	if m.inverseBind != nil {
		t, err := m.inverseBind.matrix(e, m.byColumns)
		if err != nil {
			return nil, err
		}
		x.bind = &t
	}
	if x.kind == "camera" {
		cam := scene.Camera{Name: name, FovY: math.Pi / 4, Near: 0.1, Far: 1000}
		if m.fovY != nil {
			f, err := m.fovY.float(e)
			if err != nil {
				return nil, err
			}
			if f <= 0 || f >= math.Pi || f != f {
				return nil, b.errorf(m.fovY.line, m.fovY.col, "camera %q sees an angle of %g: it lies between 0 and pi", name, f)
			}
			cam.FovY = float32(f)
		}
		x.Camera = len(b.s.Cameras)
		b.s.Cameras = append(b.s.Cameras, cam)
	}
	return x, nil
}

// set takes translation, rotation and scale from a matrix.
func (x *rawNode) set(m geom.Mat4) {
	t, q, s, _ := m.Decompose()
	for k := range 3 {
		x.Translation[k], x.Scale[k] = float32(t[k]), float32(s[k])
	}
	for k := range 4 {
		x.Rotation[k] = float32(q[k])
	}
}

// place puts the nodes into the scene, parents first.
func (b *builder) place(list []rawNode) error {
	fail := func(i int, format string, a ...any) error {
		b.cur, b.at = b.self, list[i].off
		return b.errorf(list[i].line, 1, "%s %d %q %s", list[i].kind, i, list[i].Name, fmt.Sprintf(format, a...))
	}
	// A node that is never reached from a root is in a ring.
	children := make([][]int, len(list))
	var order []int
	inOrder := true
	for i := range list {
		p := list[i].Parent
		inOrder = inOrder && p < i
		if p >= len(list) {
			return fail(i, "has parent %d, and there are %d", p, len(list))
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
				return fail(i, "is its own ancestor")
			}
		}
	}
	// Keep the file's order where it already has parents first.
	if inOrder {
		sort.Ints(order)
	}
	b.nodeAt = make([]int, len(list))
	for at, i := range order {
		b.nodeAt[i] = at
	}
	// Transforms in model space become local: what the parent does is taken off.
	world := make([]geom.Mat4, len(list))
	for _, i := range order {
		x := &list[i]
		world[i] = x.Local()
		if x.Parent < 0 {
			continue
		}
		if !x.model {
			world[i] = world[x.Parent].Mul(world[i])
			continue
		}
		inv, ok := world[x.Parent].Inverse()
		if !ok {
			return fail(i, "hangs on %q, whose scale is zero", list[x.Parent].Name)
		}
		x.set(inv.Mul(world[i]))
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
			var bind [16]float32
			if t := list[i].bind; t != nil {
				for k := range t {
					bind[k] = float32(t[k])
				}
			}
			b.binds = append(b.binds, bind)
		}
	}
	b.at = -1
	return nil
}

// skin binds what hangs on bones. Without a matrix of the file's own, the
// rest pose is the pose in which the mesh was bound.
func (b *builder) skin(*env) error {
	if len(b.bones) == 0 || len(b.skinned) == 0 {
		return nil
	}
	skin := scene.Skin{Name: b.s.Name, Joints: b.bones, Root: scene.None}
	world := b.s.World()
	for i, n := range b.bones {
		if b.binds[i] != [16]float32{} {
			skin.InverseBind = append(skin.InverseBind, b.binds[i][:]...)
			continue
		}
		inv, ok := world[n].Inverse()
		if !ok {
			return b.errorf(b.m.nodes[0].each.list.line, 1, "bone %q has a scale of zero, so nothing can be bound to it", b.s.Nodes[n].Name)
		}
		for _, v := range inv {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	b.s.Skins = append(b.s.Skins, skin)
	for i := range b.s.Nodes {
		if k := b.s.Nodes[i].Mesh; k >= 0 && b.skinned[k] {
			b.s.Nodes[i].Skin = 0
		}
	}
	b.s.Skins[0].Root = b.s.RootBone()
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

// meshNamed is the number of a mesh in the scene, with a node of its own.
func (b *builder) meshNamed(name string) int {
	k, ok := b.meshes[name]
	if !ok {
		k = len(b.s.Meshes)
		b.meshes[name] = k
		b.s.Meshes = append(b.s.Meshes, scene.Mesh{Name: name})
		n := scene.NewNode(strings.TrimSpace(name))
		n.Mesh = k
		b.s.Nodes = append(b.s.Nodes, n)
	}
	return k
}
