package flat

import (
	"fmt"
	"slices"

	"excavate/core/format"
	"excavate/core/scene"
)

// Surface says what a format's materials can say.
type Surface struct {
	Factor         bool // a colour beside a colour picture
	Metal          bool // metallic and roughness
	MetalFactor    bool // both beside a picture
	Emission       bool
	EmissionFactor bool // a colour beside a picture of emission
	Blend, Cutout  bool
	Cutoff         bool // the threshold of a cutout
	TwoSided       bool
	Unlit          bool
	Layers, Toon   bool
	Strength       bool // of normal and occlusion pictures
	Clamp, Mirror  bool // edges of pictures
	Nearest        bool
	Sets           bool // pictures on other UV sets than the first
	Roles          []scene.Role
	SaysRoles      bool // the writer tells of roles itself
}

// LostOfSurfaces are the notes on what a format does not carry of a scene's
// materials, each with its count.
func LostOfSurfaces(s *scene.Scene, name string, has Surface) (out []scene.Note) {
	lose := func(can bool, one, many string, is func(*scene.Material) int) {
		n := 0
		for i := range s.Materials {
			n += is(&s.Materials[i])
		}
		if n > 0 && !can {
			out = append(out, scene.Note{Text: fmt.Sprintf("%s not written: %s has none", format.Counted(n, one, many), name), Loss: true})
		}
	}
	if1 := func(b bool) int {
		if b {
			return 1
		}
		return 0
	}
	with := func(m *scene.Material, r scene.Role) bool {
		return m.Texture(r) != nil && slices.Contains(has.Roles, r)
	}
	each := func(is func(*scene.Texture) bool) func(*scene.Material) int {
		return func(m *scene.Material) (n int) {
			for i := range m.Textures {
				n += if1(slices.Contains(has.Roles, m.Textures[i].Role) && is(&m.Textures[i]))
			}
			return n
		}
	}
	lose(has.Factor, "material's colour beside its picture", "materials' colours beside their pictures", func(m *scene.Material) int {
		return if1(with(m, scene.RoleColour) && [3]float32(m.BaseColour[:3]) != [3]float32{1, 1, 1})
	})
	lose(has.Metal, "material's metallic and roughness", "materials' metallic and roughness", func(m *scene.Material) int {
		return if1((m.Metallic != 0 || m.Roughness != 1) && !with(m, scene.RoleMetalRgh))
	})
	lose(has.MetalFactor, "material's metallic and roughness beside its picture", "materials' metallic and roughness beside their pictures", func(m *scene.Material) int {
		return if1((m.Metallic != 1 || m.Roughness != 1) && with(m, scene.RoleMetalRgh))
	})
	lose(has.Emission, "material's emission", "materials' emission", func(m *scene.Material) int { return if1(m.Emissive != [3]float32{}) })
	lose(has.EmissionFactor || !has.Emission, "material's emission beside its picture", "materials' emission beside their pictures", func(m *scene.Material) int {
		return if1(with(m, scene.RoleEmission) && m.Emissive != [3]float32{1, 1, 1})
	})
	lose(has.Blend, "material's blending alpha", "materials' blending alpha", func(m *scene.Material) int { return if1(m.Alpha == scene.Blend) })
	lose(has.Cutout, "material's cutout by alpha", "materials' cutouts by alpha", func(m *scene.Material) int { return if1(m.Alpha == scene.Cutout) })
	lose(has.Cutoff || !has.Cutout, "threshold of a cutout", "thresholds of cutouts", func(m *scene.Material) int { return if1(m.Alpha == scene.Cutout && m.Cutoff != 0.5) })
	lose(has.TwoSided, "two-sided material's other side", "two-sided materials' other sides", func(m *scene.Material) int { return if1(m.TwoSided) })
	lose(has.Unlit, "unlit material's being so", "unlit materials' being so", func(m *scene.Material) int { return if1(m.Unlit) })
	lose(has.Layers, "material's layers", "materials' layers", func(m *scene.Material) int { return if1(m.Layers != nil) })
	lose(has.Toon, "toon surface", "toon surfaces", func(m *scene.Material) int { return if1(m.Toon != nil) })
	lose(has.Strength, "picture's strength (of normals, of occlusion)", "pictures' strengths (of normals, of occlusion)", each(func(t *scene.Texture) bool {
		return t.Scale != 1 && (t.Role == scene.RoleNormal || t.Role == scene.RoleOcclusion)
	}))
	lose(has.Clamp, "picture's clamped edge", "pictures' clamped edges", each(func(t *scene.Texture) bool { return t.WrapU == scene.Clamp || t.WrapV == scene.Clamp }))
	lose(has.Mirror, "picture's mirrored edge", "pictures' mirrored edges", each(func(t *scene.Texture) bool { return t.WrapU == scene.Mirror || t.WrapV == scene.Mirror }))
	lose(has.Nearest, "picture's being unfiltered", "pictures' being unfiltered", each(func(t *scene.Texture) bool { return t.Nearest }))
	lose(has.Sets, "picture on another UV set than the first", "pictures on other UV sets than the first", each(func(t *scene.Texture) bool { return t.UVSet != 0 }))
	if !has.SaysRoles {
		for _, r := range scene.Roles {
			if slices.Contains(has.Roles, r) {
				continue
			}
			n := 0
			for i := range s.Materials {
				n += if1(s.Materials[i].Texture(r) != nil)
			}
			if n > 0 {
				out = append(out, scene.Note{Text: fmt.Sprintf("%s in the role %s not written: %s has no such role", format.Counted(n, "picture", "pictures"), r, name), Loss: true})
			}
		}
	}
	return out
}

// Baked is the scene with the transforms of its pictures in its UVs, for
// formats that have none: each part's sets are moved as its material's pictures
// on them are. Of pictures that move one set otherwise than the first, only the
// first lies where it was; the note counts the others.
func Baked(s *scene.Scene) (*scene.Scene, []scene.Note) {
	if !slices.ContainsFunc(s.Materials, func(m scene.Material) bool {
		return slices.ContainsFunc(m.Textures, func(t scene.Texture) bool { return t.Transform != nil })
	}) {
		return s, nil
	}
	out := *s
	out.Materials = slices.Clone(s.Materials)
	moves := make([]map[int]*scene.UVTransform, len(s.Materials))
	otherwise := 0
	for i := range out.Materials {
		m := &out.Materials[i]
		m.Textures = slices.Clone(m.Textures)
		moves[i] = map[int]*scene.UVTransform{}
		order := make([]int, 0, len(m.Textures))
		for k := range m.Textures { // the colour's counts first
			if m.Textures[k].Role == scene.RoleColour {
				order = append([]int{k}, order...)
			} else {
				order = append(order, k)
			}
		}
		for _, k := range order {
			t := &m.Textures[k]
			first, seen := moves[i][t.UVSet]
			if !seen {
				moves[i][t.UVSet] = t.Transform
			} else if !sameMove(first, t.Transform) {
				otherwise++
			}
			t.Transform = nil
		}
	}
	out.Meshes = slices.Clone(s.Meshes)
	for i := range out.Meshes {
		out.Meshes[i].Parts = slices.Clone(out.Meshes[i].Parts)
		for k := range out.Meshes[i].Parts {
			p := &out.Meshes[i].Parts[k]
			if p.Material < 0 {
				continue
			}
			p.UVs = slices.Clone(p.UVs)
			for set, t := range moves[p.Material] {
				if t == nil || set >= len(p.UVs) {
					continue
				}
				d := slices.Clone(p.UVs[set].Data)
				for v := 0; v+1 < len(d); v += 2 {
					d[v], d[v+1] = t.Apply(d[v], d[v+1])
				}
				p.UVs[set].Data = d
			}
		}
	}
	if otherwise == 0 {
		return &out, nil
	}
	return &out, []scene.Note{{Text: format.Counted(otherwise, "picture that lies otherwise than the first of its material does", "pictures that lie otherwise than the first of their materials do") + " not lie where it was: transforms of pictures went into the UVs", Loss: true}}
}

func sameMove(a, b *scene.UVTransform) bool { return a == b || a != nil && b != nil && *a == *b }

// LostOfTerms is the note on terms that a format cannot hold.
func LostOfTerms(s *scene.Scene, name string, owner, licence, text bool) (out []scene.Note) {
	for _, x := range []struct {
		what, v string
		can     bool
	}{{"owner", s.Terms.Owner, owner}, {"licence", s.Terms.Licence, licence}, {"text", s.Terms.Text, text}} {
		if x.v != "" && !x.can {
			out = append(out, scene.Note{Text: fmt.Sprintf("the %s of its terms is not in the file: %s has no place for it", x.what, name), Loss: true})
		}
	}
	return out
}

// LostOfInstances is the note on meshes that several nodes show, where the
// format writes each anew.
func LostOfInstances(s *scene.Scene, name string) []scene.Note {
	used := map[int]int{}
	for i := range s.Nodes {
		if m := s.Nodes[i].Mesh; m >= 0 {
			used[m]++
		}
	}
	n := 0
	for _, u := range used {
		n += max(0, u-1)
	}
	if n == 0 {
		return nil
	}
	return []scene.Note{{Text: fmt.Sprintf("%s written anew: %s has no instances", format.Counted(n, "further use of a mesh was", "further uses of meshes were"), name)}}
}

// LostHierarchy is the note on nodes within nodes.
func LostHierarchy(s *scene.Scene, name string) []scene.Note {
	n := 0
	for i := range s.Nodes {
		if s.Nodes[i].Parent >= 0 {
			n++
		}
	}
	if n == 0 {
		return nil
	}
	return []scene.Note{{Text: fmt.Sprintf("%s within others not kept so: %s has no hierarchy", format.Counted(n, "node", "nodes"), name), Loss: true}}
}
