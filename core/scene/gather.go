package scene

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"hash"
	"slices"

	"excavate/core/numlist"
)

// Gathering is a scene to which others are added. Pictures, materials and
// meshes that are equal by content become one; nodes share them.
type Gathering struct {
	s         Scene
	pictures  map[[32]byte]int
	materials map[string]int
	meshes    map[[32]byte]int
	known     map[*Scene]added
}

// added is where the things of a scene have come to stand.
type added struct{ materials, meshes []int }

// Gather begins with a scene, which itself is not changed.
func Gather(s *Scene) *Gathering {
	g := &Gathering{s: *s, pictures: map[[32]byte]int{}, materials: map[string]int{}, meshes: map[[32]byte]int{}, known: map[*Scene]added{}}
	g.s.Nodes, g.s.Meshes, g.s.Skins, g.s.Motions = slices.Clone(s.Nodes), slices.Clone(s.Meshes), slices.Clone(s.Skins), slices.Clone(s.Motions)
	g.s.Cameras, g.s.Lights, g.s.Notes = slices.Clone(s.Cameras), slices.Clone(s.Lights), slices.Clone(s.Notes)
	g.s.Pictures, g.s.Materials = slices.Clone(s.Pictures), slices.Clone(s.Materials)
	for i := range s.Pictures {
		note(g.pictures, s.Pictures[i].digest(), i)
	}
	for i := range s.Materials {
		note(g.materials, s.Materials[i].key(), i)
	}
	for i := range s.Meshes {
		note(g.meshes, s.Meshes[i].Digest(), i)
	}
	return g
}

// note keeps the first of what is equal.
func note[K comparable](at map[K]int, key K, i int) {
	if _, ok := at[key]; !ok {
		at[key] = i
	}
}

// Node adds a node and returns its number.
func (g *Gathering) Node(n Node) int {
	g.s.Nodes = append(g.s.Nodes, n)
	return len(g.s.Nodes) - 1
}

// Add adds all of another scene in the same basis below a node, or as roots for
// None. An avatar's own things are left out. Of a scene that was added before
// only its nodes, skins and motions are.
func (g *Gathering) Add(o *Scene, under int) {
	to, ok := g.known[o]
	if !ok {
		to.materials = g.takeMaterials(o, g.takePictures(o))
		to.meshes = g.takeMeshes(withVariants(WithMaterials(o.Meshes, to.materials), g.takeVariants(o)))
		g.known[o] = to
	}
	base := len(g.s.Nodes)
	node := func(i int) int {
		if i < 0 {
			return under
		}
		return i + base
	}
	shift := func(i, by int) int {
		if i < 0 {
			return i
		}
		return i + by
	}
	for _, n := range o.Nodes {
		n.Parent = node(n.Parent)
		n.Mesh, n.Skin = moved(n.Mesh, to.meshes), shift(n.Skin, len(g.s.Skins))
		n.Camera, n.Light = shift(n.Camera, len(g.s.Cameras)), shift(n.Light, len(g.s.Lights))
		n.Collider = n.Collider.WithMesh(to.meshes)
		g.s.Nodes = append(g.s.Nodes, n)
	}
	for _, k := range o.Skins {
		k.Joints = slices.Clone(k.Joints)
		for j := range k.Joints {
			k.Joints[j] = node(k.Joints[j])
		}
		if k.Root >= 0 {
			k.Root = node(k.Root)
		}
		g.s.Skins = append(g.s.Skins, k)
	}
	for _, m := range o.Motions {
		m.Channels = slices.Clone(m.Channels)
		for j := range m.Channels {
			m.Channels[j].Node = node(m.Channels[j].Node)
		}
		g.s.Motions = append(g.s.Motions, m)
	}
	g.s.Cameras, g.s.Lights = append(g.s.Cameras, o.Cameras...), append(g.s.Lights, o.Lights...)
}

// Scene is what has been gathered. Nothing is added afterwards.
func (g *Gathering) Scene() *Scene { return &g.s }

// Appended is the scene with all of another one, in the same basis, below a
// node of it.
func (s *Scene) Appended(o *Scene, under int) *Scene {
	g := Gather(s)
	g.Add(o, under)
	return g.Scene()
}

// WithMaterialsOf is the scene with another one's materials and pictures besides
// its own; to tells where each of the other's stands.
func (s *Scene) WithMaterialsOf(o *Scene) (out *Scene, to []int) {
	g := Gather(s)
	to = g.takeMaterials(o, g.takePictures(o))
	return g.Scene(), to
}

func (g *Gathering) takePictures(o *Scene) (to []int) {
	for i := range o.Pictures {
		d := o.Pictures[i].digest()
		k, ok := g.pictures[d]
		if !ok {
			k = len(g.s.Pictures)
			g.pictures[d] = k
			g.s.Pictures = append(g.s.Pictures, o.Pictures[i])
		}
		to = append(to, k)
	}
	return to
}

// takeMaterials adds the other's materials, whose pictures stand where pictures
// says. One that is equal in all, its name as well, is the same.
func (g *Gathering) takeMaterials(o *Scene, pictures []int) (to []int) {
	for _, m := range o.Materials {
		m.Textures = slices.Clone(m.Textures)
		for j := range m.Textures {
			m.Textures[j].Picture = pictures[m.Textures[j].Picture]
		}
		key := m.key()
		k, ok := g.materials[key]
		if !ok {
			k = len(g.s.Materials)
			g.materials[key] = k
			g.s.Materials = append(g.s.Materials, m)
		}
		to = append(to, k)
	}
	return to
}

// takeVariants adds the other's variants, those of one name being one; to tells
// where each stands.
func (g *Gathering) takeVariants(o *Scene) (to []int) {
	for _, name := range o.Variants {
		k := slices.Index(g.s.Variants, name)
		if k < 0 {
			k = len(g.s.Variants)
			g.s.Variants = append(slices.Clone(g.s.Variants), name)
		}
		to = append(to, k)
	}
	return to
}

// withVariants returns meshes of a list of their own whose variants stand
// elsewhere.
func withVariants(list []Mesh, to []int) []Mesh {
	for i := range list {
		for j := range list[i].Parts {
			p := &list[i].Parts[j]
			if p.Variants == nil {
				continue
			}
			was := p.Variants
			p.Variants = nil
			for k, m := range was {
				for len(p.Variants) <= to[k] {
					p.Variants = append(p.Variants, None)
				}
				p.Variants[to[k]] = m
			}
		}
	}
	return list
}

func (g *Gathering) takeMeshes(list []Mesh) (to []int) {
	for i := range list {
		d := list[i].Digest()
		k, ok := g.meshes[d]
		if !ok {
			k = len(g.s.Meshes)
			g.meshes[d] = k
			g.s.Meshes = append(g.s.Meshes, list[i])
		}
		to = append(to, k)
	}
	return to
}

// digest is that of a picture's bytes, or of what a missing one is asked for as.
func (p *Picture) digest() [32]byte {
	if p.Missing() {
		return sha256.Sum256([]byte("missing\x00" + p.Ref + "\x00" + p.Name))
	}
	return sha256.Sum256(p.Data)
}

// key is all of a material as a text.
func (m *Material) key() string {
	b, _ := json.Marshal(m) // of numbers that are finite it has no error
	return string(b)
}

// Digest is the SHA-256 of all numbers and names of a mesh but its own name.
func (m *Mesh) Digest() (d [32]byte) {
	h := sha256.New()
	// All but the bulk, which JSON leaves out; of finite numbers it has no error.
	text, _ := json.Marshal(Mesh{Parts: m.Parts})
	h.Write(text)
	for i := range m.Parts {
		p := &m.Parts[i]
		for _, v := range [][]float32{p.Positions, p.Normals, p.Tangents, p.Weights} {
			digested(h, v)
		}
		digested(h, p.Joints)
		for _, v := range [][]uint32{p.Triangles, p.Lines, p.Points} {
			digested(h, v)
		}
		for _, sets := range [][]AttrSet{p.UVs, p.Colours} {
			for k := range sets {
				digested(h, sets[k].Data)
			}
		}
		for k := range p.Morphs {
			for _, v := range [][]float32{p.Morphs[k].Positions, p.Morphs[k].Normals, p.Morphs[k].Tangents} {
				digested(h, v)
			}
		}
	}
	return [32]byte(h.Sum(nil))
}

func digested[T numlist.Word](h hash.Hash, v []T) {
	h.Write(binary.LittleEndian.AppendUint64(nil, uint64(len(v))))
	h.Write(numlist.Bytes(v))
}
