package dae

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/format/markup"
	"excavate/core/geom"
	"excavate/core/scene"
)

// element is one of a node's transformation elements, with its numbers.
type element struct {
	kind string // matrix, translate, rotate, scale, lookat, skew
	sid  string
	v    []float32
}

var elementNumbers = map[string]int{"matrix": 16, "translate": 3, "rotate": 4, "scale": 3, "lookat": 9, "skew": 7}

func transforms(n *markup.Node, commas *bool) ([]element, error) {
	var out []element
	for _, c := range n.Children {
		want, ok := elementNumbers[c.Name]
		if !ok {
			continue
		}
		v, err := c.Floats(want, commas)
		if err != nil {
			return nil, err
		}
		if len(v) != want {
			return nil, c.Errorf("<%s> has %d numbers, %d are needed", c.Name, len(v), want)
		}
		out = append(out, element{c.Name, c.Attr("sid"), v})
	}
	return out, nil
}

// matrix is the element's transform.
func (e *element) matrix() geom.Mat4 {
	f := func(i int) float64 { return float64(e.v[i]) }
	at := func(i int) geom.Vec3 { return geom.Vec3{f(i), f(i + 1), f(i + 2)} }
	one := geom.Vec3{1, 1, 1}
	switch e.kind {
	case "matrix": // written by rows
		var m geom.Mat4
		for r := range 4 {
			for c := range 4 {
				m[4*c+r] = f(4*r + c)
			}
		}
		return m
	case "translate":
		return geom.TRS(at(0), geom.IdentityQuat, one)
	case "rotate":
		axis := at(0)
		if axis.Len() == 0 {
			return geom.Identity
		}
		return geom.TRS(geom.Vec3{}, geom.AxisAngle(axis.Norm(), f(3)*math.Pi/180), one)
	case "scale":
		return geom.TRS(geom.Vec3{}, geom.IdentityQuat, at(0))
	case "lookat":
		eye, interest, up := at(0), at(3), at(6)
		z := eye.Sub(interest).Norm()
		x := up.Cross(z).Norm()
		y := z.Cross(x)
		return geom.Mat4{x[0], x[1], x[2], 0, y[0], y[1], y[2], 0, z[0], z[1], z[2], 0, eye[0], eye[1], eye[2], 1}
	case "skew": // angle, axis of rotation, axis of translation
		turn, along := at(1).Norm(), at(4).Norm()
		across := turn.Cross(along).Norm()
		k := math.Tan(f(0) * math.Pi / 180)
		m := geom.Identity
		for c := range 3 {
			for r := range 3 {
				m[4*c+r] += k * along[r] * across[c]
			}
		}
		return m
	}
	return geom.Identity
}

func product(el []element) geom.Mat4 {
	m := geom.Identity
	for i := range el {
		m = m.Mul(el[i].matrix())
	}
	return m
}

// node makes a node with all that hangs on it.
func (r *reader) node(n *markup.Node, parent int, up geom.Quat) error {
	if err := r.visit(n); err != nil {
		return err
	}
	if r.path[n] {
		return n.Errorf("node %q is an instance of itself", n.Attr("id"))
	}
	r.path[n] = true
	defer delete(r.path, n)
	out := scene.NewNode(n.Attr("name"))
	if out.Name == "" {
		out.Name = n.Attr("id")
	}
	if n.Attr("type") == "JOINT" && n.Attr("name") == "" && n.Attr("sid") != "" {
		out.Name = n.Attr("sid")
	}
	out.Parent = parent
	el, err := transforms(n, &r.commas)
	if err != nil {
		return err
	}
	above := out.Place(product(el))
	if above != nil {
		out.Parent = len(r.s.Nodes)
		r.s.Nodes = append(r.s.Nodes, *above)
		r.above[len(r.s.Nodes)] = out.Parent
	}
	at := len(r.s.Nodes)
	r.s.Nodes = append(r.s.Nodes, out)
	if _, ok := r.nodes[n]; !ok {
		r.nodes[n] = at
	}
	// One mesh, camera and light fit on the node itself; what is more hangs below.
	extra := 0
	spare := func(used func(*scene.Node) bool, turn geom.Quat) *scene.Node {
		if x := &r.s.Nodes[at]; !used(x) && turn == geom.IdentityQuat {
			return x
		}
		extra++
		x := scene.NewNode(fmt.Sprintf("%s %d", out.Name, extra+1))
		x.Parent = at
		x.Put(geom.Vec3{}, turn, geom.Vec3{1, 1, 1})
		r.s.Nodes = append(r.s.Nodes, x)
		return &r.s.Nodes[len(r.s.Nodes)-1]
	}
	for _, c := range n.Children {
		switch c.Name {
		case "instance_geometry", "instance_controller":
			t, err := r.follow(c, "url")
			if err != nil {
				r.Lose("%v", err)
				continue
			}
			m, skin, err := r.instance(c, t)
			if err != nil {
				return err
			}
			if m >= 0 {
				x := spare(func(x *scene.Node) bool { return x.Mesh >= 0 }, geom.IdentityQuat)
				x.Mesh = m
				if skin != nil {
					r.pending = append(r.pending, pendingSkin{len(r.s.Nodes) - 1, skin, c})
					if x == &r.s.Nodes[at] {
						r.pending[len(r.pending)-1].node = at
					}
				}
			}
		case "instance_camera":
			t, err := r.follow(c, "url")
			if err != nil {
				r.Lose("%v", err)
				continue
			}
			spare(func(x *scene.Node) bool { return x.Camera >= 0 }, up).Camera = r.camera(t)
		case "instance_light":
			t, err := r.follow(c, "url")
			if err != nil {
				r.Lose("%v", err)
				continue
			}
			if l := r.light(t); l >= 0 {
				spare(func(x *scene.Node) bool { return x.Light >= 0 }, up).Light = l
			}
		case "instance_node":
			t, err := r.follow(c, "url")
			if err != nil {
				r.Lose("%v", err)
				continue
			}
			if err := r.node(t, at, up); err != nil {
				return err
			}
		case "node":
			if err := r.node(c, at, up); err != nil {
				return err
			}
		}
	}
	return nil
}

func number(n *markup.Node, usual float32, path ...string) float32 {
	if c := n.Child(path...); c != nil {
		if v, err := c.Floats(1, nil); err == nil && len(v) == 1 {
			return v[0]
		}
	}
	return usual
}

func nameOf(n *markup.Node) string {
	if v := n.Attr("name"); v != "" {
		return v
	}
	return n.Attr("id")
}

func (r *reader) camera(n *markup.Node) int {
	c := scene.Camera{Name: nameOf(n), Near: 0.1, Far: 1000, FovY: math.Pi / 4}
	t := n.Child("optics", "technique_common")
	if p := t.Child("perspective"); p != nil {
		c.Aspect = number(p, 0, "aspect_ratio")
		c.FovY = number(p, 0, "yfov") * math.Pi / 180
		if x := number(p, 0, "xfov") * math.Pi / 180; c.FovY == 0 {
			if c.FovY = x; c.Aspect > 0 {
				c.FovY = float32(2 * math.Atan(math.Tan(float64(x)/2)/float64(c.Aspect)))
			}
		} else if c.Aspect == 0 && x > 0 {
			c.Aspect = float32(math.Tan(float64(x)/2) / math.Tan(float64(c.FovY)/2))
		}
		c.Near, c.Far = number(p, 0.1, "znear"), number(p, 1000, "zfar")
	} else if o := t.Child("orthographic"); o != nil {
		c.Orthographic = true
		c.Aspect = number(o, 0, "aspect_ratio")
		c.Height = number(o, 0, "ymag")
		if x := number(o, 0, "xmag"); c.Height == 0 {
			if c.Height = x; c.Aspect > 0 {
				c.Height = x / c.Aspect
			}
		} else if c.Aspect == 0 && x > 0 {
			c.Aspect = x / c.Height
		}
		c.Near, c.Far = number(o, 0.1, "znear"), number(o, 1000, "zfar")
	}
	r.s.Cameras = append(r.s.Cameras, c)
	return len(r.s.Cameras) - 1
}

func (r *reader) light(n *markup.Node) int {
	t := n.Child("technique_common")
	if t == nil || len(t.Children) == 0 {
		return scene.None
	}
	k := t.Children[0]
	l := scene.Light{Name: nameOf(n), Type: k.Name, Colour: [3]float32{1, 1, 1}, Intensity: 1}
	if c := k.Child("color"); c != nil {
		if v, err := c.Floats(3, &r.commas); err == nil && len(v) == 3 {
			l.Colour = [3]float32(v)
			if most := max(v[0], v[1], v[2]); most > 1 { // brighter than white
				l.Intensity = most
				for i := range l.Colour {
					l.Colour[i] /= most
				}
			}
		}
	}
	switch k.Name {
	case "point", "directional":
	case "spot":
		l.Outer = number(k, 180, "falloff_angle") / 2 * math.Pi / 180
	default:
		r.Lose("light of the kind %s was left out", k.Name)
		return scene.None
	}
	r.s.Lights = append(r.s.Lights, l)
	return len(r.s.Lights) - 1
}

// controller is a <controller>: a skin over a morph or geometry, or a morph.
type controller struct {
	base    *geometry
	skin    *skinData
	targets []*geometry
	weights []float32
	id      string
}

type skinData struct {
	name    string
	joints  []string
	byID    bool
	inverse []float32 // column by column
	bind    geom.Mat4
	influ   int
	joint   []uint16 // of each position
	weight  []float32
}

type pendingSkin struct {
	node     int
	skin     *skinData
	instance *markup.Node
}

// instance makes the mesh of an instance of a geometry or controller.
func (r *reader) instance(inst, n *markup.Node) (mesh int, skin *skinData, err error) {
	if err := r.visit(inst); err != nil {
		return scene.None, nil, err
	}
	c := &controller{id: n.Attr("id")}
	if err := r.resolve(c, n, 0); err != nil {
		return scene.None, nil, err
	}
	if c.base == nil || len(c.base.parts) == 0 {
		return scene.None, nil, nil
	}
	bound, err := r.bindings(inst)
	if err != nil {
		return scene.None, nil, err
	}
	key := fmt.Sprintf("%p %p", n, c.base)
	m := scene.Mesh{Name: c.base.name}
	for k := range c.base.parts {
		p := c.base.parts[k].p // its lists are shared between instances
		b := bound[c.base.parts[k].symbol]
		if b == nil && c.base.parts[k].symbol != "" {
			p.Material = r.unbound(inst, c.base.parts[k])
		} else if p.Material, err = r.material(b, c.base.parts[k].sets); err != nil {
			return scene.None, nil, err
		}
		key += fmt.Sprintf(" %d", p.Material)
		if err := r.morphs(&p, c, k); err != nil {
			return scene.None, nil, err
		}
		if c.skin != nil {
			c.skin.apply(&p, c.base.parts[k].from)
		}
		m.Parts = append(m.Parts, p)
	}
	at, ok := r.meshes[key]
	if !ok {
		at = len(r.s.Meshes)
		r.meshes[key] = at
		r.s.Meshes = append(r.s.Meshes, m)
		if far := c.base.positions.far; far != [3]float64{} {
			r.far[at] = far
		}
	}
	return at, c.skin, nil
}

func (r *reader) resolve(c *controller, n *markup.Node, depth int) (err error) {
	if n.Name == "geometry" {
		c.base, err = r.geometry(n)
		return err
	}
	if n.Name != "controller" || depth > 8 {
		return n.Errorf("<%s> is no geometry and no controller that leads to one", n.Name)
	}
	if k := n.Child("skin"); k != nil {
		t, err := r.skinSource(k)
		if err != nil {
			return err
		}
		if err = r.resolve(c, t, depth+1); err != nil || c.base == nil || c.base.positions == nil {
			return err
		}
		if c.skin != nil {
			return k.Errorf("a skin over a skin")
		}
		c.skin, err = r.skin(k, nameOf(n), c.base.positions.count)
		return err
	}
	if k := n.Child("morph"); k != nil {
		t, err := r.skinSource(k)
		if err != nil {
			return err
		}
		if err = r.resolve(c, t, depth+1); err != nil {
			return err
		}
		relative := k.Attr("method") == "RELATIVE"
		for _, in := range k.Child("targets").All("input") {
			sn, err := r.follow(in, "source")
			if err != nil {
				return err
			}
			s, err := r.source(sn)
			if err != nil {
				return err
			}
			switch in.Attr("semantic") {
			case "MORPH_TARGET":
				for _, id := range s.names {
					t, err := r.target(r.docFor(sn), "#"+id)
					if err != nil {
						return sn.Errorf("%v", err)
					}
					g, err := r.geometry(t)
					if err != nil {
						return err
					}
					c.targets = append(c.targets, g)
				}
			case "MORPH_WEIGHT":
				for i := range s.count {
					c.weights = append(c.weights, s.at(i, 0))
				}
			}
		}
		if relative {
			r.Lose("morph targets that are relative were taken for whole shapes")
		}
	}
	return nil
}

// skinSource is what a skin or morph deforms: an attribute in 1.4 and 1.5.
func (r *reader) skinSource(k *markup.Node) (*markup.Node, error) { return r.follow(k, "source") }

// morphs adds the targets of a part: where they are as differences from it.
func (r *reader) morphs(p *scene.Part, c *controller, k int) error {
	base := &c.base.parts[k]
	for i, g := range c.targets {
		t := scene.MorphTarget{Name: g.name}
		if i < len(c.weights) {
			t.Weight = c.weights[i]
		}
		if g.positions == nil || g.positions.count != c.base.positions.count || len(g.positions.pick) < 3 {
			r.Lose("morph target %q has other vertices than its mesh, and was left out", g.name)
			continue
		}
		t.Positions = make([]float32, 3*len(base.from))
		for v, f := range base.from {
			for j := range 3 {
				t.Positions[3*v+j] = g.positions.at(int(f), j) - p.Positions[3*v+j]
			}
		}
		if s := at(g.normals, k); s != nil && base.normal != nil && at(c.base.normals, k) != nil && s.count == c.base.normals[k].count && len(s.pick) >= 3 {
			t.Normals = make([]float32, 3*len(base.normal))
			for v, f := range base.normal {
				for j := range 3 {
					t.Normals[3*v+j] = s.at(int(f), j) - p.Normals[3*v+j]
				}
			}
		}
		p.Morphs = append(p.Morphs, t)
	}
	return nil
}

func at[T any](v []*T, i int) *T {
	if i < len(v) {
		return v[i]
	}
	return nil
}

// influencesMost bounds the joints that move one vertex; weaker ones beyond
// are left out.
const influencesMost = 16

// skin reads a <skin>: its joints with their inverse binds, and for each of the
// mesh's positions which joints move it.
func (r *reader) skin(k *markup.Node, name string, positions int) (*skinData, error) {
	out := &skinData{name: name, bind: geom.Identity}
	if b := k.Child("bind_shape_matrix"); b != nil {
		v, err := b.Floats(16, &r.commas)
		if err != nil {
			return nil, err
		}
		if len(v) == 16 {
			out.bind = (&element{kind: "matrix", v: v}).matrix()
		}
	}
	if err := r.skinJoints(k, out); err != nil {
		return nil, err
	}
	w := k.Child("vertex_weights")
	if w == nil {
		return out, nil
	}
	return out, r.skinWeights(w, positions, out)
}

// skinJoints reads <joints>. Matrices stand row by row in the file and column by
// column in a scene; those that are missing are the identity.
func (r *reader) skinJoints(k *markup.Node, out *skinData) error {
	for _, in := range k.Child("joints").All("input") {
		sn, err := r.follow(in, "source")
		if err != nil {
			return err
		}
		s, err := r.source(sn)
		if err != nil {
			return err
		}
		switch in.Attr("semantic") {
		case "JOINT":
			out.joints, out.byID = s.names, sn.Child("IDREF_array") != nil
		case "INV_BIND_MATRIX":
			if len(s.pick) < 16 {
				return sn.Errorf("inverse bind matrices of %d numbers", len(s.pick))
			}
			for i := range s.count {
				for c := range 4 {
					for row := range 4 {
						out.inverse = append(out.inverse, s.at(i, 4*row+c))
					}
				}
			}
		}
	}
	if len(out.joints) == 0 || len(out.joints) > math.MaxUint16 {
		return k.Errorf("a skin of %d joints", len(out.joints))
	}
	for len(out.inverse) < 16*len(out.joints) {
		out.inverse = append(out.inverse, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1)
	}
	out.inverse = out.inverse[:16*len(out.joints)]
	return nil
}

// influence is a joint that moves a vertex, and how much.
type influence struct {
	joint  uint16
	weight float32
}

// weightList is the reading of <vertex_weights>: a list of pairs of places, so
// many for each position.
type weightList struct {
	v             []int32
	n             *markup.Node // that holds v
	at            int
	stride        int
	joint, weight int // their offsets within a pair
	weights       *source
	joints        int // how many there are
}

// skinWeights reads <vertex_weights> into lists of one length.
func (r *reader) skinWeights(w *markup.Node, positions int, out *skinData) error {
	in, stride, err := r.inputs(w)
	if err != nil {
		return err
	}
	j, x := find(in, "JOINT"), find(in, "WEIGHT")
	vc, vn := w.Child("vcount"), w.Child("v")
	if j == nil || x == nil || vc == nil || vn == nil {
		return w.Errorf("<vertex_weights> lacks joints, weights, <vcount> or <v>")
	}
	counts, err := vc.Ints()
	if err != nil {
		return err
	}
	l := &weightList{n: vn, stride: stride, joint: j.offset, weight: x.offset, weights: x.src, joints: len(out.joints)}
	if l.v, err = vn.Ints(); err != nil {
		return err
	}
	if len(counts) < positions {
		return vc.Errorf("weights for %d of %d positions", len(counts), positions)
	}
	for _, n := range counts {
		out.influ = max(out.influ, int(n))
	}
	out.influ = min(out.influ, influencesMost)
	out.joint, out.weight = make([]uint16, positions*out.influ), make([]float32, positions*out.influ)
	var pairs []influence
	for i, n := range counts[:positions] {
		if pairs, err = r.influences(l, i, int(n), pairs[:0]); err != nil {
			return err
		}
		if len(pairs) > out.influ {
			r.Lose("weights beyond %d joints a vertex were left out", influencesMost)
			slices.SortStableFunc(pairs, func(a, b influence) int { return cmp.Compare(b.weight, a.weight) })
			pairs = pairs[:out.influ]
		}
		for q, p := range pairs {
			out.joint[i*out.influ+q], out.weight[i*out.influ+q] = p.joint, p.weight
		}
	}
	return nil
}

// influences adds the n pairs of one position to a list.
func (r *reader) influences(l *weightList, position, n int, to []influence) ([]influence, error) {
	if n < 0 || l.at+n*l.stride > len(l.v) {
		return nil, l.n.Errorf("the weights of position %d: %d are declared, the list ends", position, n)
	}
	for range n {
		j, x := l.v[l.at+l.joint], l.v[l.at+l.weight]
		l.at += l.stride
		if x < 0 || int(x) >= l.weights.count {
			return nil, l.n.Errorf("position %d: weight %d of %d", position, x, l.weights.count)
		}
		if j == -1 {
			r.Lose("weights that bind to the whole shape instead of a joint were left out")
			continue
		}
		if j < 0 || int(j) >= l.joints {
			return nil, l.n.Errorf("position %d: joint %d of %d", position, j, l.joints)
		}
		if y := l.weights.at(int(x), 0); y != 0 {
			to = append(to, influence{uint16(j), y})
		}
	}
	return to, nil
}

// apply puts the part into the bind shape and gives it its weights.
func (k *skinData) apply(p *scene.Part, from []int32) {
	if k.bind != geom.Identity {
		nm := k.bind.NormalMatrix()
		p.Positions = mapped(p.Positions, k.bind.Point)
		p.Normals = mapped(p.Normals, func(v geom.Vec3) geom.Vec3 { return nm.Dir(v).Norm() })
		p.Morphs = slices.Clone(p.Morphs)
		for i := range p.Morphs {
			p.Morphs[i].Positions = mapped(p.Morphs[i].Positions, k.bind.Dir)
			p.Morphs[i].Normals = mapped(p.Morphs[i].Normals, nm.Dir)
		}
	}
	if k.influ == 0 {
		return
	}
	p.Influences = k.influ
	p.Joints, p.Weights = make([]uint16, len(from)*k.influ), make([]float32, len(from)*k.influ)
	for v, f := range from {
		copy(p.Joints[v*k.influ:], k.joint[int(f)*k.influ:(int(f)+1)*k.influ])
		copy(p.Weights[v*k.influ:], k.weight[int(f)*k.influ:(int(f)+1)*k.influ])
	}
}

func mapped(v []float32, f func(geom.Vec3) geom.Vec3) []float32 {
	if v == nil {
		return nil
	}
	out := make([]float32, len(v))
	for i := 0; i+2 < len(v); i += 3 {
		q := f(geom.Vec3{float64(v[i]), float64(v[i+1]), float64(v[i+2])})
		out[i], out[i+1], out[i+2] = float32(q[0]), float32(q[1]), float32(q[2])
	}
	return out
}

// skins binds skins to nodes once all nodes are there: joints are named by
// their sid below the instance's skeletons, or by their id.
func (r *reader) skins(root *markup.Node) error {
	made := map[string]int{}
	for _, p := range r.pending {
		var roots []*markup.Node
		for _, k := range p.instance.All("skeleton") {
			t, err := r.target(r.docFor(p.instance), k.Words())
			if err != nil {
				r.Lose("%v", k.Errorf("skeleton: %v", err))
				continue
			}
			roots = append(roots, t)
		}
		rootNode := scene.None
		if len(roots) > 0 {
			if n, ok := r.nodes[roots[0]]; ok {
				rootNode = n
			}
		}
		roots = append(roots, root)
		s := scene.Skin{Name: p.skin.name, Root: scene.None, InverseBind: p.skin.inverse}
		for _, name := range p.skin.joints {
			n := r.joint(roots, name, p.skin.byID)
			if n < 0 {
				return p.instance.Errorf("skin %q: no node is the joint %q", p.skin.name, name)
			}
			s.Joints = append(s.Joints, n)
		}
		if rootNode >= 0 {
			s.Root = rootNode
		}
		key := fmt.Sprintf("%p %v", p.skin, s.Joints)
		at, ok := made[key]
		if !ok {
			at = len(r.s.Skins)
			made[key] = at
			r.s.Skins = append(r.s.Skins, s)
		}
		r.s.Nodes[p.node].Skin = at
	}
	return nil
}

func (r *reader) joint(roots []*markup.Node, name string, byID bool) int {
	var seek func(n *markup.Node, attr string, depth int) *markup.Node
	seek = func(n *markup.Node, attr string, depth int) *markup.Node {
		if n.Name == "node" && n.Attr(attr) == name {
			return n
		}
		for _, c := range n.Children {
			if c.Name == "node" && depth < 300 {
				if f := seek(c, attr, depth+1); f != nil {
					return f
				}
			}
		}
		return nil
	}
	attrs := []string{"sid", "name", "id"}
	if byID {
		attrs = []string{"id", "sid", "name"}
	}
	for _, attr := range attrs {
		for _, root := range roots {
			if n := seek(root, attr, 0); n != nil {
				if at, ok := r.nodes[n]; ok {
					return at
				}
			}
		}
	}
	// Names with blanks are split by the list that holds them; some writers
	// write underscores there.
	if strings.Contains(name, "_") {
		for n, at := range r.nodes {
			if strings.ReplaceAll(n.Attr("name"), " ", "_") == name {
				return at
			}
		}
	}
	return scene.None
}
