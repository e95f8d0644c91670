package scene

import (
	"crypto/sha256"
	"encoding/json"
	"slices"
)

// Appended is the scene with all of another one below a node of it. The other
// is in the same basis. Pictures that are equal by content, and materials that
// are equal in all with them, become one; its meshes, skins and motions come
// along, and what names things by number follows. An avatar's own things are
// the first scene's only.
func (s *Scene) Appended(o *Scene, under int) *Scene {
	out := *s
	pictures := out.takePictures(o)
	materials := out.takeMaterials(o, pictures)
	meshes := len(s.Meshes)
	out.Meshes = append(slices.Clone(s.Meshes), WithMaterials(o.Meshes, materials)...)
	node := func(i int) int {
		if i < 0 {
			return under
		}
		return i + len(s.Nodes)
	}
	shift := func(i, by int) int {
		if i < 0 {
			return i
		}
		return i + by
	}
	out.Nodes = slices.Clone(s.Nodes)
	for _, n := range o.Nodes {
		n.Parent = node(n.Parent)
		n.Mesh, n.Skin = shift(n.Mesh, meshes), shift(n.Skin, len(s.Skins))
		n.Camera, n.Light = shift(n.Camera, len(s.Cameras)), shift(n.Light, len(s.Lights))
		if n.Collider != nil {
			c := *n.Collider
			c.Mesh = shift(c.Mesh, meshes)
			n.Collider = &c
		}
		out.Nodes = append(out.Nodes, n)
	}
	out.Skins = slices.Clone(s.Skins)
	for _, k := range o.Skins {
		k.Joints = slices.Clone(k.Joints)
		for j := range k.Joints {
			k.Joints[j] = node(k.Joints[j])
		}
		if k.Root >= 0 {
			k.Root = node(k.Root)
		}
		out.Skins = append(out.Skins, k)
	}
	out.Motions = slices.Clone(s.Motions)
	for _, m := range o.Motions {
		m.Channels = slices.Clone(m.Channels)
		for j := range m.Channels {
			m.Channels[j].Node = node(m.Channels[j].Node)
		}
		out.Motions = append(out.Motions, m)
	}
	out.Cameras = append(slices.Clone(s.Cameras), o.Cameras...)
	out.Lights = append(slices.Clone(s.Lights), o.Lights...)
	return &out
}

// WithMaterialsOf is the scene with another one's materials and pictures besides
// its own; to tells where each of the other's stands.
func (s *Scene) WithMaterialsOf(o *Scene) (out *Scene, to []int) {
	res := *s
	to = res.takeMaterials(o, res.takePictures(o))
	return &res, to
}

// takePictures adds another scene's pictures and tells the number of each.
func (s *Scene) takePictures(o *Scene) (to []int) {
	digest := func(p *Picture) [32]byte {
		if p.Missing() {
			return sha256.Sum256([]byte("missing\x00" + p.Ref + "\x00" + p.Name))
		}
		return sha256.Sum256(p.Data)
	}
	at := map[[32]byte]int{}
	for i := range s.Pictures {
		if d := digest(&s.Pictures[i]); at[d] == 0 {
			at[d] = i + 1
		}
	}
	s.Pictures = slices.Clone(s.Pictures)
	to = make([]int, len(o.Pictures))
	for i := range o.Pictures {
		d := digest(&o.Pictures[i])
		if at[d] == 0 {
			s.Pictures = append(s.Pictures, o.Pictures[i])
			at[d] = len(s.Pictures)
		}
		to[i] = at[d] - 1
	}
	return to
}

// takeMaterials adds another scene's materials, whose pictures have come to
// stand where pictures says, and tells the number of each. One of the same name
// that is otherwise equal is the same.
func (s *Scene) takeMaterials(o *Scene, pictures []int) (to []int) {
	at := map[string]int{}
	key := func(m *Material) string {
		b, _ := json.Marshal(m) // of numbers that are finite it has no error
		return string(b)
	}
	for i := range s.Materials {
		if k := key(&s.Materials[i]); at[k] == 0 {
			at[k] = i + 1
		}
	}
	s.Materials = slices.Clone(s.Materials)
	to = make([]int, len(o.Materials))
	for i, m := range o.Materials {
		m.Textures = slices.Clone(m.Textures)
		for j := range m.Textures {
			m.Textures[j].Picture = pictures[m.Textures[j].Picture]
		}
		k := key(&m)
		if at[k] == 0 {
			s.Materials = append(s.Materials, m)
			at[k] = len(s.Materials)
		}
		to[i] = at[k] - 1
	}
	return to
}
