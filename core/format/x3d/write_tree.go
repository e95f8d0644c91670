package x3d

import (
	"math"

	"excavate/core/format"
	"excavate/core/format/flat"
	"excavate/core/geom"
	"excavate/core/scene"
)

// deepest is how deep nodes are written within nodes; what lies deeper is
// written beside the last.
const deepest = 100

// tree makes the nodes to write. Bones are left out that hold nothing else.
func (w *writer) tree() (roots []*made) {
	s := w.s
	w.children = make([][]int, len(s.Nodes))
	w.rests = make([]geom.Mat4, len(s.Nodes))
	w.uses, w.shared = make([]int, len(s.Meshes)), map[int][]string{}
	bones := s.Bones()
	wanted := make([]bool, len(s.Nodes))
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		n := &s.Nodes[i]
		skinned := n.Mesh >= 0 && n.Skin >= 0
		if n.Mesh >= 0 && !skinned {
			w.uses[n.Mesh]++
			wanted[i] = true
		}
		wanted[i] = wanted[i] || n.Camera >= 0 || n.Light >= 0 || !bones[i] && !skinned
		if wanted[i] && n.Parent >= 0 {
			wanted[n.Parent] = true
		}
	}
	for i := range s.Nodes {
		if p := s.Nodes[i].Parent; p >= 0 && wanted[i] {
			w.children[p] = append(w.children[p], i)
		}
	}
	for i := range s.Nodes {
		if s.Nodes[i].Parent < 0 && wanted[i] {
			roots = append(roots, w.node(i, geom.Identity, 0)...)
		}
	}
	// Skinned meshes do not follow their own node; they stand at the top.
	world := s.World()
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 || s.Nodes[i].Skin < 0 {
			continue
		}
		for _, p := range flat.Node(s, i, world) {
			roots = append(roots, w.shapes(&p, p.Name)...)
		}
	}
	return roots
}

// node makes a node with what it holds. carry is what the nodes above could
// not say of its place.
func (w *writer) node(i int, carry geom.Mat4, deep int) []*made {
	if deep >= deepest {
		return w.beside(i, carry)
	}
	n := &w.s.Nodes[i]
	local := carry.Mul(n.Local())
	t, q, scale, exact := local.Decompose()
	rest := geom.Identity
	// Scales of VRML97 lie above 0 (ISO/IEC 14772-1, 6.52), and readers do not
	// agree on which side of a face is in front where X3D mirrors.
	if !exact || min(scale[0], scale[1], scale[2]) <= 0 {
		rest = local
	}
	mesh, below := n.Mesh >= 0 && n.Skin < 0, w.children[i]
	switch again := mesh && w.shared[n.Mesh] != nil; {
	case len(below) == 0 && mesh && !again && n.Camera < 0 && n.Light < 0 && (local == geom.Identity || rest == local):
		return w.surfaces(i, rest, n.Name)
	case len(below) == 0 && !mesh && (n.Camera < 0) != (n.Light < 0):
		return w.sights(n, n.Name, t, q)
	}
	m := &made{typ: "Transform"}
	if n.Name != "" {
		m.def = w.def(n.Name, "node")
	}
	if rest == geom.Identity {
		m.place("translation", t)
		if scale != (geom.Vec3{1, 1, 1}) {
			m.set(field{name: "scale", nums: []float32{float32(scale[0]), float32(scale[1]), float32(scale[2])}})
		}
		m.turn("rotation", q)
		t, q = geom.Vec3{}, geom.IdentityQuat
	}
	held := append(w.surfaces(i, rest, ""), w.sights(n, "", t, q)...)
	for _, k := range below {
		held = append(held, w.node(k, rest, deep+1)...)
	}
	return []*made{m.set(field{name: "children", nodes: held})}
}

// beside makes what a node and all below it hold, without nodes to hold it.
func (w *writer) beside(i int, carry geom.Mat4) (out []*made) {
	w.rests[i] = carry.Mul(w.s.Nodes[i].Local())
	for list := []int{i}; len(list) > 0; {
		at := list[len(list)-1]
		list = list[:len(list)-1]
		n := &w.s.Nodes[at]
		t, q, _, _ := w.rests[at].Decompose()
		out = append(append(out, w.surfaces(at, w.rests[at], n.Name)...), w.sights(n, n.Name, t, q)...)
		for _, k := range w.children[at] {
			w.rests[k] = w.rests[at].Mul(w.s.Nodes[k].Local())
			list = append(list, k)
		}
	}
	return out
}

// surfaces are the shapes of a node's mesh, moved by rest. Those that several
// nodes have as they are are written once and used again.
func (w *writer) surfaces(i int, rest geom.Mat4, name string) (out []*made) {
	n := &w.s.Nodes[i]
	if n.Mesh < 0 || n.Skin >= 0 {
		return nil
	}
	several := rest == geom.Identity && w.uses[n.Mesh] > 1
	if defs := w.shared[n.Mesh]; several && defs != nil {
		for _, d := range defs {
			out = append(out, &made{typ: "Shape", use: d})
		}
		return out
	}
	if several && name == "" {
		if name = w.s.Meshes[n.Mesh].Name; name == "" {
			name = "shape"
		}
	}
	w.rests[i] = rest
	for _, p := range flat.Node(w.s, i, w.rests) {
		for _, m := range w.shapes(&p, name) {
			if several {
				w.shared[n.Mesh] = append(w.shared[n.Mesh], m.def)
			}
			out = append(out, m)
		}
	}
	return out
}

func (m *made) place(name string, t geom.Vec3) {
	if t != (geom.Vec3{}) {
		m.set(field{name: name, nums: []float32{float32(t[0]), float32(t[1]), float32(t[2])}})
	}
}

// turn is a rotation as an axis and an angle.
func (m *made) turn(name string, q geom.Quat) {
	if q[3] < 0 {
		q = geom.Quat{-q[0], -q[1], -q[2], -q[3]}
	}
	axis := geom.Vec3{q[0], q[1], q[2]}
	sin := axis.Len()
	if sin == 0 {
		return
	}
	axis = axis.Mul(1 / sin)
	m.set(field{name: name, nums: []float32{float32(axis[0]), float32(axis[1]), float32(axis[2]), float32(2 * math.Atan2(sin, q[3]))}})
}

// sights are a node's camera and light, at a place and turned.
func (w *writer) sights(n *scene.Node, name string, t geom.Vec3, q geom.Quat) (out []*made) {
	called := func(own string) string {
		if name != "" {
			own = name
		}
		if own == "" {
			return ""
		}
		return w.def(own, "sight")
	}
	if n.Camera >= 0 {
		c := &w.s.Cameras[n.Camera]
		m := &made{typ: "Viewpoint", def: called(c.Name)}
		// Where nothing is said of it a viewpoint lies at 0 0 10.
		m.set(field{name: "position", nums: []float32{float32(t[0]), float32(t[1]), float32(t[2])}})
		m.turn("orientation", q)
		switch {
		case !c.Orthographic:
			m.set(field{name: "fieldOfView", nums: []float32{c.FovY}})
		case w.xml:
			m.typ = "OrthoViewpoint"
			wide := c.Height
			if c.Aspect > 0 {
				wide *= c.Aspect
			}
			m.set(field{name: "fieldOfView", nums: []float32{-wide, -c.Height, wide, c.Height}})
		default:
			w.lost["cameras without perspective"]++
			m = nil
		}
		if m != nil {
			if w.xml {
				m.set(field{name: "nearDistance", nums: []float32{c.Near}}, field{name: "farDistance", nums: []float32{c.Far}})
			}
			if c.Name != "" {
				m.set(field{name: "description", texts: []string{c.Name}})
			}
			out = append(out, m)
		}
	}
	if n.Light < 0 {
		return out
	}
	l := &w.s.Lights[n.Light]
	m := &made{def: called(l.Name)}
	m.set(field{name: "color", nums: []float32{float32(format.Display(l.Colour[0])), float32(format.Display(l.Colour[1])), float32(format.Display(l.Colour[2]))}})
	strength := l.Intensity
	if strength > 1 && !w.xml { // ISO/IEC 14772-1, 4.6.6
		w.lost["strengths of lights above 1"]++
		strength = 1
	}
	m.set(field{name: "intensity", nums: []float32{strength}})
	turned := geom.TRS(geom.Vec3{}, q, geom.Vec3{1, 1, 1})
	along := turned.Dir(geom.Vec3{0, 0, -1})
	switch l.Type {
	case "directional":
		m.typ = "DirectionalLight"
		m.place("direction", along)
	case "spot":
		m.typ = "SpotLight"
		m.place("direction", along)
		m.set(field{name: "cutOffAngle", nums: []float32{min(l.Outer, math.Pi/2)}}, field{name: "beamWidth", nums: []float32{max(1e-3, min(l.Inner, math.Pi/2))}})
	default:
		m.typ = "PointLight"
	}
	if l.Type == "directional" {
		if w.xml { // else it lights only what stands beside it
			m.set(field{name: "global", word: "true"})
		}
		return append(out, m)
	}
	m.place("location", t)
	reach := l.Range
	if reach == 0 { // without end
		reach = endless
	}
	return append(out, m.set(field{name: "radius", nums: []float32{reach}}, field{name: "attenuation", nums: []float32{0, 0, 1}}))
}
