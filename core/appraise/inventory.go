// Package appraise says what a scene holds, piece by piece, and what can be told
// of it: its inventory, what its UV sets do, what its pictures probably are,
// what speaks for a basis, and how far it is from another scene.
package appraise

import (
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/naming"
	"excavate/core/scene"
)

// Inventory lists everything in a scene. Indices are the scene's; Primitive is
// the number of the part's first primitive in a GLB of the scene, by which 3D
// views know it.
type Inventory struct {
	Nodes       []Node       `json:"nodes"`
	Meshes      []Mesh       `json:"meshes"`
	Materials   []Material   `json:"materials"`
	Skins       []Skin       `json:"skins"`
	Morphs      []Morph      `json:"morphs"`
	Motions     []Motion     `json:"motions"`
	Expressions []Expression `json:"expressions"`
	Colliders   []Collider   `json:"colliders"`
	Pictures    []Pictured   `json:"pictures"`
}

// Pictured is a picture and how many materials have it.
type Pictured struct {
	Name      string `json:"name"`
	Width     int    `json:"width"`
	Height    int    `json:"height"`
	Bytes     int    `json:"bytes"`
	Missing   bool   `json:"missing"`
	Materials int    `json:"materials"`
}

// Node is a place in the tree.
type Node struct {
	Name     string       `json:"name"`
	Kind     string       `json:"kind"` // mesh, bone, camera, light, collider, helper, node
	Props    []scene.Prop `json:"props,omitempty"`
	Parent   int          `json:"parent"`
	Depth    int          `json:"depth"`
	Mesh     int          `json:"mesh"`
	Size     *[3]float64  `json:"size,omitempty"` // of its mesh in the world, in the scene's unit
	Detail   int          `json:"detail"`         // level of detail that its name tells; 0 is the finest
	State    string       `json:"state"`          // that its name tells, such as damaged; empty for none
	Unwanted bool         `json:"unwanted"`       // a camera, light or helper, or a mesh that cannot be seen
}

// Mesh is a list of parts.
type Mesh struct {
	Name  string `json:"name"`
	Parts []Part `json:"parts"`
}

// Part is a part of a mesh.
type Part struct {
	Primitive  int      `json:"primitive"`
	Material   int      `json:"material"`
	Vertices   int      `json:"vertices"`
	Triangles  int      `json:"triangles"`
	Lines      int      `json:"lines"`
	Points     int      `json:"points"`
	Influences int      `json:"influences"` // joints a vertex, at most
	Normals    bool     `json:"normals"`
	Tangents   bool     `json:"tangents"`
	UVs        []UVSet  `json:"uvs"`
	Colours    []string `json:"colours"`
}

// Material is a material with its pictures by role.
type Material struct {
	Name      string     `json:"name"`
	Colour    [4]float32 `json:"colour"` // linear
	Metallic  float32    `json:"metallic"`
	Roughness float32    `json:"roughness"`
	Alpha     string     `json:"alpha"`
	TwoSided  bool       `json:"twoSided"`
	Unlit     bool       `json:"unlit"`
	Toon      bool       `json:"toon"`
	Layers    []string   `json:"layers"` // clearcoat, sheen, …
	Textures  []Texture  `json:"textures"`
	Triangles int        `json:"triangles"`
}

// Texture is a picture in a role.
type Texture struct {
	Role     string `json:"role"`
	Channels string `json:"channels"` // that the role reads
	Picture  int    `json:"picture"`
	UVSet    int    `json:"uvSet"`
	Missing  bool   `json:"missing"`
}

// Skin is a skeleton with how deep it goes.
type Skin struct {
	Name  string `json:"name"`
	Depth int    `json:"depth"` // bones from a root to the farthest leaf
	Bones []Bone `json:"bones"`
}

// Bone is a joint of a skin.
type Bone struct {
	Node     int     `json:"node"`
	Name     string  `json:"name"`
	Depth    int     `json:"depth"`
	Vertices int     `json:"vertices"` // that it moves
	Weight   float64 `json:"weight"`   // the sum of its weights
	Human    string  `json:"human,omitempty"`
}

// Morph is a morph target of a mesh.
type Morph struct {
	Mesh   int     `json:"mesh"`
	Index  int     `json:"index"`
	Name   string  `json:"name"`
	Weight float32 `json:"weight"`
	Moves  int     `json:"moves"` // vertices
}

// Motion is a clip.
type Motion struct {
	Name     string  `json:"name"`
	Seconds  float64 `json:"seconds"`
	Channels int     `json:"channels"`
	Keys     int     `json:"keys"`
	Moves    int     `json:"moves"` // nodes
}

// Expression is a face of an avatar, as the morph targets that make it.
type Expression struct {
	Name   string       `json:"name"`
	Morphs []MorphShare `json:"morphs"`
}

// MorphShare is how far a morph target goes.
type MorphShare struct {
	Mesh   int     `json:"mesh"`
	Index  int     `json:"index"`
	Weight float32 `json:"weight"`
}

// Collider is a sphere or capsule of an avatar, in the space of its node.
type Collider struct {
	Node   int         `json:"node"`
	Offset [3]float32  `json:"offset"`
	Radius float32     `json:"radius"`
	Tail   *[3]float32 `json:"tail,omitempty"`
}

// InventoryOf lists what a scene has.
func InventoryOf(s *scene.Scene) Inventory {
	out := Inventory{Nodes: []Node{}, Meshes: []Mesh{}, Materials: []Material{}, Skins: []Skin{}, Morphs: []Morph{},
		Motions: []Motion{}, Expressions: []Expression{}, Colliders: []Collider{}, Pictures: []Pictured{}}
	out.pictures(s)
	out.nodes(s)
	uses := out.meshes(s)
	for i := range s.Materials {
		out.Materials = append(out.Materials, material(s, &s.Materials[i], uses[i]))
	}
	for i := range s.Skins {
		out.Skins = append(out.Skins, skin(s, i, out.Nodes))
	}
	for i := range s.Motions {
		m := &s.Motions[i]
		x := Motion{Name: m.Name, Seconds: m.Seconds(), Channels: len(m.Channels), Moves: len(m.ByNode())}
		for k := range m.Channels {
			x.Keys += len(m.Channels[k].Times)
		}
		out.Motions = append(out.Motions, x)
	}
	out.avatar(s)
	return out
}

func (out *Inventory) pictures(s *scene.Scene) {
	for i := range s.Pictures {
		p := &s.Pictures[i]
		x := Pictured{Name: p.Name, Width: p.Width, Height: p.Height, Bytes: len(p.Data), Missing: p.Missing()}
		for k := range s.Materials {
			if slices.ContainsFunc(s.Materials[k].Textures, func(t scene.Texture) bool { return t.Picture == i }) {
				x.Materials++
			}
		}
		out.Pictures = append(out.Pictures, x)
	}
}

func (out *Inventory) nodes(s *scene.Scene) {
	bones, helpers, world := s.Bones(), s.Helpers(), s.World()
	for i := range s.Nodes {
		n := &s.Nodes[i]
		x := Node{Name: n.Name, Kind: "node", Props: n.Props, Parent: n.Parent, Mesh: n.Mesh, State: naming.StateOf(n.Name)}
		_, x.Detail, _ = scene.LevelOf(n.Name)
		if n.Parent >= 0 {
			x.Depth = out.Nodes[n.Parent].Depth + 1
		}
		switch {
		case n.Mesh >= 0:
			x.mesh(s, i, world)
		case bones[i]:
			x.Kind = "bone"
		case n.Camera >= 0:
			x.Kind = "camera"
		case n.Light >= 0:
			x.Kind = "light"
		case n.Collider != nil:
			x.Kind = "collider"
		case helpers[i]:
			x.Kind = "helper"
		}
		x.Unwanted = x.Unwanted || x.Kind == "camera" || x.Kind == "light" || x.Kind == "helper"
		out.Nodes = append(out.Nodes, x)
	}
}

// mesh says of a node that shows one how large it is, and whether anything is
// seen of it.
func (x *Node) mesh(s *scene.Scene, node int, world []geom.Mat4) {
	m := &s.Meshes[s.Nodes[node].Mesh]
	x.Kind = "mesh"
	box := s.NodeBounds(node, world)
	if !box.Empty() {
		size := [3]float64(box.Size())
		x.Size = &size
	}
	if x.Detail == 0 {
		_, x.Detail, _ = scene.LevelOf(m.Name)
	}
	if box.Empty() || box.Size().Len() == 0 || s.Unseen(m) {
		x.Kind, x.Unwanted = "hidden mesh", true
	}
}

// meshes lists meshes and morph targets, and returns how many triangles each
// material has.
func (out *Inventory) meshes(s *scene.Scene) (uses []int) {
	uses = make([]int, len(s.Materials))
	for i := range s.Meshes {
		parts := s.Meshes[i].Parts
		m := Mesh{Name: s.Meshes[i].Name, Parts: []Part{}}
		primitive := 0
		for k := range parts {
			p := &parts[k]
			m.Parts = append(m.Parts, partOf(p, primitive))
			for _, list := range [][]uint32{p.Triangles, p.Lines, p.Points} {
				if len(list) > 0 && p.Vertices() > 0 {
					primitive++
				}
			}
			if p.Material >= 0 {
				uses[p.Material] += len(p.Triangles) / 3
			}
		}
		// All parts of a mesh share their targets; the first speaks for them.
		if len(parts) > 0 {
			for k, t := range parts[0].Morphs {
				out.Morphs = append(out.Morphs, Morph{Mesh: i, Index: k, Name: t.Name, Weight: t.Weight, Moves: moved(parts, k)})
			}
		}
		out.Meshes = append(out.Meshes, m)
	}
	return uses
}

func partOf(p *scene.Part, primitive int) Part {
	x := Part{Primitive: primitive, Material: p.Material, Vertices: p.Vertices(), Triangles: len(p.Triangles) / 3,
		Lines: len(p.Lines) / 2, Points: len(p.Points), Influences: p.Influences,
		Normals: p.Normals != nil, Tangents: p.Tangents != nil, UVs: []UVSet{}, Colours: []string{}}
	for u := range p.UVs {
		x.UVs = append(x.UVs, UVSetOf(p, u))
	}
	for _, c := range p.Colours {
		x.Colours = append(x.Colours, c.Name)
	}
	return x
}

func (out *Inventory) avatar(s *scene.Scene) {
	a := s.Avatar
	if a == nil {
		return
	}
	for _, e := range a.Expressions {
		x := Expression{Name: e.Name, Morphs: []MorphShare{}}
		for _, m := range e.Morphs {
			x.Morphs = append(x.Morphs, MorphShare{s.Nodes[m.Node].Mesh, m.Index, m.Weight})
		}
		out.Expressions = append(out.Expressions, x)
	}
	for _, c := range a.Colliders {
		out.Colliders = append(out.Colliders, Collider{c.Node, c.Offset, c.Radius, c.Tail})
	}
}

// channels are those of a picture that a role reads (glTF 2.0, section 3.9, and
// the extensions KHR_materials_clearcoat, _specular, _transmission, _sheen).
func channels(r scene.Role) string {
	switch r {
	case scene.RoleMetalRgh:
		return "G roughness, B metallic"
	case scene.RoleOcclusion, scene.RoleClearcoat, scene.RoleTransmission:
		return "R"
	case scene.RoleClearcoatRoughness, scene.RoleOutline:
		return "G"
	case scene.RoleSpecular, scene.RoleSheenRoughness:
		return "A"
	case scene.RoleColour:
		return "RGB, A opacity"
	}
	return "RGB"
}

func moved(parts []scene.Part, k int) (n int) {
	for i := range parts {
		if k >= len(parts[i].Morphs) {
			continue
		}
		d := parts[i].Morphs[k].Positions
		for v := 0; v+2 < len(d); v += 3 {
			if d[v] != 0 || d[v+1] != 0 || d[v+2] != 0 {
				n++
			}
		}
	}
	return n
}

func material(s *scene.Scene, m *scene.Material, triangles int) Material {
	x := Material{Name: m.Name, Colour: m.BaseColour, Metallic: m.Metallic, Roughness: m.Roughness, Alpha: string(m.Alpha), TwoSided: m.TwoSided, Unlit: m.Unlit, Toon: m.Toon != nil, Layers: []string{}, Textures: []Texture{}, Triangles: triangles}
	if l := m.Layers; l != nil {
		for _, k := range []struct {
			there bool
			name  string
		}{{l.IOR != nil, "index of refraction"}, {l.Clearcoat != nil, "clearcoat"}, {l.Specular != nil, "specular"}, {l.Transmission != nil, "transmission"}, {l.SheenColour != nil, "sheen"}} {
			if k.there {
				x.Layers = append(x.Layers, k.name)
			}
		}
	}
	for _, t := range m.Textures {
		x.Textures = append(x.Textures, Texture{string(t.Role), channels(t.Role), t.Picture, t.UVSet, s.Pictures[t.Picture].Missing()})
	}
	return x
}

func skin(s *scene.Scene, k int, nodes []Node) Skin {
	sk := &s.Skins[k]
	x := Skin{Name: sk.Name, Bones: []Bone{}}
	human := map[int]string{}
	if s.Avatar != nil {
		for name, n := range s.Avatar.Bones {
			human[n] = name
		}
	}
	in := map[int]int{}
	for j, n := range sk.Joints {
		in[n] = j
		x.Bones = append(x.Bones, Bone{Node: n, Name: s.Nodes[n].Name, Human: human[n]})
	}
	for j, n := range sk.Joints {
		d := 0
		for p := s.Nodes[n].Parent; p >= 0; p = s.Nodes[p].Parent {
			if _, ok := in[p]; ok {
				d++
			}
		}
		x.Bones[j].Depth = d
		x.Depth = max(x.Depth, d+1)
	}
	for i := range s.Nodes {
		if s.Nodes[i].Skin != k || s.Nodes[i].Mesh < 0 {
			continue
		}
		for q := range s.Meshes[s.Nodes[i].Mesh].Parts {
			p := &s.Meshes[s.Nodes[i].Mesh].Parts[q]
			for v, w := range p.Weights {
				if j := int(p.Joints[v]); w > 0 && j < len(x.Bones) {
					x.Bones[j].Vertices++
					x.Bones[j].Weight += float64(w)
				}
			}
		}
	}
	for j := range x.Bones {
		x.Bones[j].Weight = math.Round(x.Bones[j].Weight*100) / 100
	}
	return x
}
