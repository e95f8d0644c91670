package scene

import "slices"

// Sweep returns the scene without the meshes, skins, materials and pictures
// that nothing uses and that something used in was: what a change has left
// over. What the file brought along unused stays.
func (s *Scene) Sweep(was *Scene) *Scene {
	now, before := s.uses(), was.uses()
	gone := func(now, before []bool, n int) (to []int, any bool) {
		to = make([]int, n)
		k := 0
		for i := range to {
			if to[i] = k; !now[i] && i < len(before) && before[i] {
				to[i], any = None, true
				continue
			}
			k++
		}
		return to, any
	}
	out := *s
	if to, any := gone(now.meshes, before.meshes, len(s.Meshes)); any {
		out.Nodes, out.Meshes = slices.Clone(out.Nodes), kept(out.Meshes, to)
		for i := range out.Nodes {
			out.Nodes[i].Mesh = moved(out.Nodes[i].Mesh, to)
			out.Nodes[i].Collider = out.Nodes[i].Collider.WithMesh(to)
		}
		// What only the meshes that went used is left over too.
		rest := out
		return rest.Sweep(was)
	}
	if to, any := gone(now.skins, before.skins, len(s.Skins)); any {
		out.Nodes, out.Skins = slices.Clone(out.Nodes), kept(out.Skins, to)
		for i := range out.Nodes {
			out.Nodes[i].Skin = moved(out.Nodes[i].Skin, to)
		}
	}
	if to, any := gone(now.materials, before.materials, len(s.Materials)); any {
		out.Materials = kept(out.Materials, to)
		out.Meshes = WithMaterials(out.Meshes, to)
		out.Avatar = out.Avatar.withMaterials(to)
		rest := out
		return rest.Sweep(was)
	}
	if to, any := gone(now.pictures, before.pictures, len(s.Pictures)); any {
		out.Pictures = kept(out.Pictures, to)
		out.Materials = slices.Clone(out.Materials)
		for i := range out.Materials {
			t := slices.Clone(out.Materials[i].Textures)
			for j := range t {
				t[j].Picture = moved(t[j].Picture, to)
			}
			out.Materials[i].Textures = t
		}
		if a := out.Avatar; a != nil && a.Meta.ThumbnailOfPicture >= 0 {
			c := *a
			c.Meta.ThumbnailOfPicture = moved(a.Meta.ThumbnailOfPicture, to)
			out.Avatar = &c
		}
	}
	return &out
}

// WithMaterials returns meshes whose parts have other numbers of materials:
// to tells the new one of each, None for none.
func WithMaterials(meshes []Mesh, to []int) []Mesh {
	out := slices.Clone(meshes)
	for i := range out {
		out[i].Parts = slices.Clone(out[i].Parts)
		for j := range out[i].Parts {
			out[i].Parts[j] = out[i].Parts[j].WithLooks(func(m int) int { return moved(m, to) })
		}
	}
	return out
}

func (a *Avatar) withMaterials(to []int) *Avatar {
	if a == nil {
		return nil
	}
	out := *a
	out.Expressions = slices.Clone(a.Expressions)
	for i := range out.Expressions {
		out.Expressions[i].Colours = keep(a.Expressions[i].Colours, func(c *ColourBind) bool {
			c.Material = moved(c.Material, to)
			return c.Material >= 0
		})
	}
	return &out
}

// Remap gives the materials other numbers: to tells the new one of each, and
// list is what they are then.
func (s *Scene) Remap(list []Material, to []int) *Scene {
	out := *s
	out.Materials, out.Meshes, out.Avatar = list, WithMaterials(s.Meshes, to), s.Avatar.withMaterials(to)
	return &out
}

type uses struct{ meshes, skins, materials, pictures []bool }

// uses tells what is shown by a node or is its collider, or used by what is. Materials and
// pictures of meshes that no node shows count: the mesh is what is left over.
func (s *Scene) uses() uses {
	u := uses{make([]bool, len(s.Meshes)), make([]bool, len(s.Skins)), make([]bool, len(s.Materials)), make([]bool, len(s.Pictures))}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Collider != nil && n.Collider.Mesh >= 0 {
			u.meshes[n.Collider.Mesh] = true
		}
		if n.Mesh >= 0 {
			u.meshes[n.Mesh] = true
			if n.Skin >= 0 {
				u.skins[n.Skin] = true
			}
		}
	}
	for i := range s.Meshes {
		for j := range s.Meshes[i].Parts {
			for _, m := range s.Meshes[i].Parts[j].Looks() {
				if m >= 0 {
					u.materials[m] = true
				}
			}
		}
	}
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			u.pictures[t.Picture] = true
		}
	}
	if a := s.Avatar; a != nil && a.Meta.ThumbnailOfPicture >= 0 {
		u.pictures[a.Meta.ThumbnailOfPicture] = true
	}
	return u
}

func moved(i int, to []int) int {
	if i < 0 {
		return i
	}
	return to[i]
}

func kept[T any](list []T, to []int) []T {
	var out []T
	for i := range list {
		if to[i] >= 0 {
			out = append(out, list[i])
		}
	}
	return out
}
