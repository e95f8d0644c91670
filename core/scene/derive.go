package scene

import (
	"fmt"
	"math"
	"unsafe"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/numlist"
)

// World returns each node's transform to world space.
func (s *Scene) World() []geom.Mat4 {
	w := make([]geom.Mat4, len(s.Nodes))
	for i := range s.Nodes {
		w[i] = s.Nodes[i].Local()
		if p := s.Nodes[i].Parent; p >= 0 {
			w[i] = w[p].Mul(w[i])
		}
	}
	return w
}

// SkinMatrices returns, for each joint of a skin, the map from mesh space to
// world space: joint world * inverse bind (glTF 2.0 section 3.7.3.3).
func (s *Scene) SkinMatrices(skin int, world []geom.Mat4) []geom.Mat4 {
	k := &s.Skins[skin]
	out := make([]geom.Mat4, len(k.Joints))
	for j, n := range k.Joints {
		out[j] = world[n]
		if len(k.InverseBind) >= 16*(j+1) {
			var ib geom.Mat4
			for i := range ib {
				ib[i] = float64(k.InverseBind[16*j+i])
			}
			out[j] = out[j].Mul(ib)
		}
	}
	return out
}

// Posed returns a part's positions and normals in world space as its node
// places and its skin deforms them at rest. normals is nil if the part has
// none. A skinned part ignores its node's own transform, as in glTF.
func (s *Scene) Posed(node int, p *Part, world []geom.Mat4) (positions, normals []float32) {
	positions = make([]float32, len(p.Positions))
	if p.Normals != nil {
		normals = make([]float32, len(p.Normals))
	}
	n := &s.Nodes[node]
	if n.Skin < 0 || p.Influences == 0 || len(p.Joints) == 0 {
		m := world[node]
		apply(&m, p, 0, p.Vertices(), positions, normals)
		return positions, normals
	}
	mats := s.SkinMatrices(n.Skin, world)
	k := p.Influences
	for v := 0; v < p.Vertices(); v++ {
		var m geom.Mat4
		sum := 0.0
		for i := 0; i < k; i++ {
			w := float64(p.Weights[v*k+i])
			if w == 0 {
				continue
			}
			sum += w
			jm := &mats[p.Joints[v*k+i]]
			for e := range m {
				m[e] += w * jm[e]
			}
		}
		if sum == 0 {
			m = world[node]
		} else if sum != 1 {
			for e := range m {
				m[e] /= sum
			}
		}
		apply(&m, p, v, v+1, positions, normals)
	}
	return positions, normals
}

func apply(m *geom.Mat4, p *Part, from, to int, positions, normals []float32) {
	for v := from; v < to; v++ {
		q := m.Point(geom.Vec3{float64(p.Positions[3*v]), float64(p.Positions[3*v+1]), float64(p.Positions[3*v+2])})
		positions[3*v], positions[3*v+1], positions[3*v+2] = float32(q[0]), float32(q[1]), float32(q[2])
	}
	if normals == nil {
		return
	}
	nm := m.NormalMatrix()
	for v := from; v < to; v++ {
		q := nm.Dir(geom.Vec3{float64(p.Normals[3*v]), float64(p.Normals[3*v+1]), float64(p.Normals[3*v+2])}).Norm()
		normals[3*v], normals[3*v+1], normals[3*v+2] = float32(q[0]), float32(q[1]), float32(q[2])
	}
}

// Bones tells for each node whether a skin uses it.
func (s *Scene) Bones() []bool {
	b := make([]bool, len(s.Nodes))
	for i := range s.Skins {
		for _, n := range s.Skins[i].Joints {
			b[n] = true
		}
	}
	return b
}

// Unseen tells whether a mesh shows nothing: it has no faces, lines or points,
// no extent, or all its materials are wholly transparent.
func (s *Scene) Unseen(m *Mesh) bool {
	clear, some := true, false
	for i := range m.Parts {
		p := &m.Parts[i]
		if p.Empty() {
			continue
		}
		for k := 3; k < len(p.Positions); k++ {
			some = some || p.Positions[k] != p.Positions[k%3]
		}
		some = some || len(p.Points) > 0
		if k := p.Material; k < 0 || s.Materials[k].Alpha == Opaque || s.Materials[k].BaseColour[3] > 0 {
			clear = false
		}
	}
	return clear || !some
}

// Helpers tells for each node whether nothing needs it: it holds no mesh,
// camera, light or collider, is no bone, and no node below it is any of these.
func (s *Scene) Helpers() []bool {
	needed := s.Bones()
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		n := &s.Nodes[i]
		if !n.Bare() {
			needed[i] = true
		}
		if needed[i] && n.Parent >= 0 {
			needed[n.Parent] = true
		}
	}
	for i := range needed {
		needed[i] = !needed[i]
	}
	return needed
}

// RootBone is the first bone without a bone above it, or None.
func (s *Scene) RootBone() int {
	bones := s.Bones()
	for i, b := range bones {
		if b && (s.Nodes[i].Parent < 0 || !bones[s.Nodes[i].Parent]) {
			return i
		}
	}
	return None
}

// Stats are the figures that a porter asks for.
type Stats struct {
	Triangles  int         `json:"triangles"` // as shown, and so vertices, lines and points: a mesh of two nodes counts twice
	Vertices   int         `json:"vertices"`
	Meshes     int         `json:"meshes"`
	Parts      int         `json:"parts"`
	Materials  int         `json:"materials"`
	Pictures   int         `json:"pictures"`
	Missing    int         `json:"missing"` // pictures not found
	Nodes      int         `json:"nodes"`
	Bones      int         `json:"bones"`
	Helpers    int         `json:"helpers"`
	Cameras    int         `json:"cameras"`
	Lights     int         `json:"lights"`
	Colliders  int         `json:"colliders"`
	Motions    int         `json:"motions"`
	Morphs     int         `json:"morphs"`
	UVSets     int         `json:"uvSets"`     // the most that any part has
	ColourSets int         `json:"colourSets"` // the most that any part has
	Lines      int         `json:"lines"`
	Points     int         `json:"points"`
	Area       float64     `json:"area"`    // of all surfaces in world space at rest, in the file's unit squared
	Normals    bool        `json:"normals"` // stored for every part
	Min        [3]float64  `json:"min"`     // world space, rest pose, own unit
	Max        [3]float64  `json:"max"`
	Size       *[3]float64 `json:"size"`   // metres along the scene's X, Y, Z; nil where the unit is unknown
	Height     *float64    `json:"height"` // metres along up; nil where up or the unit is unknown
}

// Stats counts the scene.
func (s *Scene) Stats() Stats {
	st := Stats{
		Meshes:    len(s.Meshes),
		Materials: len(s.Materials),
		Pictures:  len(s.Pictures),
		Nodes:     len(s.Nodes),
		Motions:   len(s.Motions),
	}
	st.Normals = true
	uses := make([]int, len(s.Meshes))
	for i := range s.Nodes {
		if m := s.Nodes[i].Mesh; m >= 0 {
			uses[m]++
		}
	}
	for i := range s.Meshes {
		morphs := 0
		for j := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[j]
			st.Parts++
			st.Triangles += uses[i] * len(p.Triangles) / 3
			st.Vertices += uses[i] * p.Vertices()
			st.Lines += uses[i] * len(p.Lines) / 2
			st.Points += uses[i] * len(p.Points)
			st.UVSets = max(st.UVSets, len(p.UVs))
			st.ColourSets = max(st.ColourSets, len(p.Colours))
			morphs = max(morphs, len(p.Morphs))
			st.Normals = st.Normals && p.Normals != nil
		}
		st.Morphs += morphs
	}
	st.Normals = st.Normals && st.Parts > 0
	for i := range s.Pictures {
		if s.Pictures[i].Missing() {
			st.Missing++
		}
	}
	for _, b := range s.Bones() {
		if b {
			st.Bones++
		}
	}
	for _, h := range s.Helpers() {
		if h {
			st.Helpers++
		}
	}
	for i := range s.Nodes {
		if s.Nodes[i].Camera >= 0 {
			st.Cameras++
		}
		if s.Nodes[i].Light >= 0 {
			st.Lights++
		}
		if c := s.Nodes[i].Collider; c != nil {
			st.Colliders++
			if c.Mesh >= 0 && uses[c.Mesh] == 0 {
				uses[c.Mesh] = -1 // it is no mesh that is seen
				st.Meshes--
			}
		}
	}
	var box geom.Box
	if box, st.Area = s.extent(); box.Empty() {
		return st
	}
	st.Min, st.Max = box.Min, box.Max
	if m := s.Basis.MetresPerUnit; m > 0 {
		size := [3]float64(box.Size().Mul(m))
		st.Size = &size
		if s.Basis.Up != 0 {
			h := math.Abs(geom.Vec3(size).Dot(s.Basis.Up.Vec()))
			st.Height = &h
		}
	}
	return st
}

// Validate checks the invariants that every step relies on and names the
// first thing that breaks one.
func (s *Scene) Validate() error {
	for _, check := range []func() error{
		s.validateNodes, s.validateMeshes, s.validateMaterials, s.validateSkins, s.validateMotions,
	} {
		if err := check(); err != nil {
			return err
		}
	}
	if err := s.Avatar.validate(s); err != nil {
		return fmt.Errorf("avatar: %w", err)
	}
	return s.Basis.Validate()
}

// within refuses a number that is neither None nor one of n things.
func within(what string, v, n int) error {
	if v < None || v >= n {
		return fmt.Errorf("%s %d: there are %d", what, v, n)
	}
	return nil
}

func (s *Scene) validateNodes() error {
	depth := make([]int, len(s.Nodes))
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Parent >= i || n.Parent < None {
			return fmt.Errorf("node %d %q: parent %d does not stand before it", i, n.Name, n.Parent)
		}
		if n.Parent >= 0 {
			if depth[i] = depth[n.Parent] + 1; depth[i] >= limit.NodeDepth {
				return fmt.Errorf("node %d %q: it lies within more than %d others", i, n.Name, limit.NodeDepth-1)
			}
		}
		if err := s.validateNode(n); err != nil {
			return fmt.Errorf("node %d %q: %w", i, n.Name, err)
		}
		if err := s.validateJoints(n); err != nil {
			return err
		}
	}
	return nil
}

func (s *Scene) validateNode(n *Node) error {
	for _, v := range n.Local() {
		if math.IsNaN(v) || math.IsInf(v, 0) {
			return fmt.Errorf("its transform holds a number that is not finite")
		}
	}
	for _, err := range []error{
		within("mesh", n.Mesh, len(s.Meshes)), within("skin", n.Skin, len(s.Skins)),
		within("camera", n.Camera, len(s.Cameras)), within("light", n.Light, len(s.Lights)),
	} {
		if err != nil {
			return err
		}
	}
	if n.Collider != nil {
		return n.Collider.validate(len(s.Meshes))
	}
	return nil
}

// validateJoints checks that what a node shows hangs on joints of its skin only.
func (s *Scene) validateJoints(n *Node) error {
	if n.Mesh < 0 || n.Skin < 0 {
		return nil
	}
	m, joints := &s.Meshes[n.Mesh], len(s.Skins[n.Skin].Joints)
	for j := range m.Parts {
		for v, joint := range m.Parts[j].Joints {
			if int(joint) >= joints {
				return fmt.Errorf("mesh %q part %d: joint %d of vertex %d is not in the skin's %d joints",
					m.Name, j, joint, v/max(1, m.Parts[j].Influences), joints)
			}
		}
	}
	return nil
}

func (s *Scene) validateMeshes() error {
	sound := sound{}
	for i := range s.Meshes {
		m := &s.Meshes[i]
		for j := range m.Parts {
			if err := m.Parts[j].validate(len(s.Materials), len(s.Variants), sound); err != nil {
				return fmt.Errorf("mesh %d %q part %d: %w", i, m.Name, j, err)
			}
		}
		if m.Volume != nil {
			if err := m.Volume.Validate(); err != nil {
				return fmt.Errorf("mesh %d %q: %w", i, m.Name, err)
			}
		}
	}
	return nil
}

func (s *Scene) validateMaterials() error {
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			if t.Picture < 0 || t.Picture >= len(s.Pictures) {
				return fmt.Errorf("material %d %q: picture %d: there are %d",
					i, s.Materials[i].Name, t.Picture, len(s.Pictures))
			}
		}
	}
	return nil
}

func (s *Scene) validateSkins() error {
	for i := range s.Skins {
		k := &s.Skins[i]
		for _, n := range k.Joints {
			if n < 0 || n >= len(s.Nodes) {
				return fmt.Errorf("skin %d %q: node %d: there are %d", i, k.Name, n, len(s.Nodes))
			}
		}
		if n := len(k.InverseBind); n != 0 && n != 16*len(k.Joints) {
			return fmt.Errorf("skin %d %q: %d inverse bind numbers for %d joints", i, k.Name, n, len(k.Joints))
		}
		if err := within("root", k.Root, len(s.Nodes)); err != nil {
			return fmt.Errorf("skin %d %q: %w", i, k.Name, err)
		}
	}
	return nil
}

func (s *Scene) validateMotions() error {
	for i := range s.Motions {
		for j := range s.Motions[i].Channels {
			if err := s.Motions[i].Channels[j].validate(len(s.Nodes)); err != nil {
				return fmt.Errorf("motion %d %q channel %d: %w", i, s.Motions[i].Name, j, err)
			}
		}
	}
	return nil
}

// sound remembers which lists were looked through: any number of parts may
// share them.
type sound map[list]bool

type list struct {
	first      any // the address of a list's first element
	length, of int // below which of its numbers are to be
}

func (s sound) floats(v []float32) int {
	return s.once(list{unsafe.SliceData(v), len(v), 0}, func() int { return numlist.NotFinite(v) })
}

func (s sound) indices(v []uint32, n int) int {
	return s.once(list{unsafe.SliceData(v), len(v), n}, func() int { return numlist.Beyond(v, n) })
}

func (s sound) once(l list, look func() int) int {
	if s[l] {
		return -1
	}
	i := look()
	s[l] = i < 0
	return i
}

func (p *Part) validate(materials, variants int, sound sound) error {
	n := p.Vertices()
	for _, m := range p.Looks() {
		if m < None || m >= materials {
			return fmt.Errorf("material %d: there are %d", m, materials)
		}
	}
	if len(p.Variants) > variants {
		return fmt.Errorf("materials for %d variants: there are %d", len(p.Variants), variants)
	}
	want := func(what string, have, per int) error {
		if have != 0 && have != n*per {
			return fmt.Errorf("%s: %d numbers for %d vertices, %d expected", what, have, n, n*per)
		}
		return nil
	}
	errs := []error{
		want("positions", len(p.Positions), 3),
		want("normals", len(p.Normals), 3),
		want("tangents", len(p.Tangents), 4),
		want("joints", len(p.Joints), p.Influences),
		want("weights", len(p.Weights), p.Influences),
	}
	for _, u := range p.UVs {
		errs = append(errs, want("UV set "+u.Name, len(u.Data), 2))
	}
	for _, c := range p.Colours {
		errs = append(errs, want("colour set "+c.Name, len(c.Data), 4))
	}
	for _, m := range p.Morphs {
		errs = append(
			errs,
			want("morph target "+m.Name, len(m.Positions), 3),
			want("morph normals "+m.Name, len(m.Normals), 3),
			want("morph tangents "+m.Name, len(m.Tangents), 3),
		)
	}
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	for _, list := range []struct {
		what, many string
		of         []uint32
		per        int
	}{{"triangle", "triangles", p.Triangles, 3}, {"line", "lines", p.Lines, 2}, {"point", "points", p.Points, 1}} {
		if len(list.of)%list.per != 0 {
			return fmt.Errorf("%d indices are not whole %s", len(list.of), list.many)
		}
		if i := sound.indices(list.of, n); i >= 0 {
			return fmt.Errorf("%s %d: vertex %d of %d", list.what, i/list.per, list.of[i], n)
		}
	}
	if i := sound.floats(p.Positions); i >= 0 {
		return fmt.Errorf("vertex %d: its position is not finite", i/3)
	}
	return nil
}

func (c *Channel) validate(nodes int) error {
	if c.Node < 0 || c.Node >= nodes {
		return fmt.Errorf("node %d: there are %d", c.Node, nodes)
	}
	per := 0
	switch c.Path {
	case PathTranslation, PathScale:
		per = 3
	case PathRotation:
		per = 4
	}
	if c.Interp == Cubic {
		per *= 3
	}
	if per > 0 && len(c.Values) != per*len(c.Times) {
		return fmt.Errorf("%d numbers for %d keys", len(c.Values), len(c.Times))
	}
	return nil
}
