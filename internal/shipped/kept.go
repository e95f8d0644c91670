package shipped

import (
	"context"
	"fmt"
	"image"
	"maps"
	"math"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Kept is a Markdown table of what is left of a scene that has everything once
// it was written in each format and read again. It is measured, not declared.
func Kept() (string, error) {
	s, err := everything()
	if err != nil {
		return "", err
	}
	var names []string
	rows := make([][]string, len(features))
	for i := range Writers {
		w := &Writers[i]
		names = append(names, w.Name)
		left, _, err := measure(s, w)
		if err != nil {
			return "", err
		}
		for k := range features {
			rows[k] = append(rows[k], left[k])
		}
	}
	var b strings.Builder
	fmt.Fprintf(&b, "| | %s |\n|---|%s\n", strings.Join(names, " | "), strings.Repeat("---|", len(names)))
	for k, f := range features {
		fmt.Fprintf(&b, "| %s | %s |\n", f.name, strings.Join(rows[k], " | "))
	}
	return b.String(), nil
}

// measure writes a scene and reads it again: what is left of each feature, and
// what the writer and the reader say of it.
func measure(s *scene.Scene, w *format.Writer) (left []string, notes []string, err error) {
	files, said, err := w.Write(s, "everything")
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", w.Name, err)
	}
	data := files[0].Data
	r := Formats.Find(data[:min(len(data), 4096)])
	if r == nil {
		return nil, nil, fmt.Errorf("%s: what is written is not recognised", w.Name)
	}
	there := map[string][]byte{}
	for _, f := range files {
		there[f.Name] = f.Data
	}
	got, err := r.Read(context.Background(), format.File{Name: files[0].Name, Data: data, Companion: func(ref string) ([]byte, string, error) {
		if b, ok := there[ref]; ok {
			return b, ref, nil
		}
		return nil, "", fmt.Errorf("%s is not there", ref)
	}})
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", w.Name, err)
	}
	for i := range got.Pictures { // those beside the file are found through the stack
		if p := &got.Pictures[i]; p.Missing() && there[p.Ref] != nil {
			p.Data = there[p.Ref]
		}
	}
	for _, f := range features {
		left = append(left, f.left(s, got))
	}
	for _, n := range said {
		notes = append(notes, n.Text)
	}
	return left, notes, nil
}

// feature is something of a scene that a format may carry.
type feature struct {
	name string
	said string // a pattern that a note fits where it is not kept whole
	left func(was, is *scene.Scene) string
}

// counted compares how many there are.
func counted(name, said string, of func(*scene.Scene) int) feature {
	return feature{name, said, func(was, is *scene.Scene) string {
		a, b := of(was), min(of(is), of(was))
		switch {
		case b == a:
			return "yes"
		case b == 0:
			return "–"
		}
		return fmt.Sprintf("%d of %d", b, a)
	}}
}

// held compares whether it is there.
func held(name, said string, of func(*scene.Scene) bool) feature {
	return counted(name, said, func(s *scene.Scene) int {
		if of(s) {
			return 1
		}
		return 0
	})
}

// parts counts over all parts, or the most that one has.
func parts(sum bool, of func(*scene.Part) int) func(*scene.Scene) int {
	return func(s *scene.Scene) (n int) {
		for i := range s.Meshes {
			for k := range s.Meshes[i].Parts {
				if c := of(&s.Meshes[i].Parts[k]); sum {
					n += c
				} else {
					n = max(n, c)
				}
			}
		}
		return n
	}
}

// material is whether a material of a name is so.
func material(name string, is func(*scene.Scene, *scene.Material) bool) func(*scene.Scene) bool {
	return func(s *scene.Scene) bool {
		for i := range s.Materials {
			if s.Materials[i].Name == name && is(s, &s.Materials[i]) {
				return true
			}
		}
		return false
	}
}

func picture(role scene.Role) func(*scene.Scene, *scene.Material) bool {
	return func(s *scene.Scene, m *scene.Material) bool {
		t := m.Texture(role)
		return t != nil && !s.Pictures[t.Picture].Missing()
	}
}

// anyMaterial is whether some material is so: names may have become others.
func anyMaterial(is func(*scene.Scene, *scene.Material) bool) func(*scene.Scene) bool {
	return func(s *scene.Scene) bool {
		for i := range s.Materials {
			if is(s, &s.Materials[i]) {
				return true
			}
		}
		return false
	}
}

func near(a, b float32) bool { return math.Abs(float64(a-b)) < 0.01 }

// texture is whether a texture of a role, in a material of any name, is so.
func texture(role scene.Role, is func(*scene.Scene, *scene.Texture) bool) func(*scene.Scene) bool {
	return anyMaterial(func(s *scene.Scene, m *scene.Material) bool {
		t := m.Texture(role)
		return t != nil && is(s, t)
	})
}

// lies tells whether the colour picture of the sail is looked up where it was:
// by a transform, or by UVs that have it in them.
func lies(s *scene.Scene) bool {
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			if p.Material < 0 {
				continue
			}
			t := s.Materials[p.Material].Texture(scene.RoleColour)
			if t == nil || t.UVSet >= len(p.UVs) || s.Pictures[t.Picture].Name != "sail_c" && !strings.HasPrefix(s.Pictures[t.Picture].Name, "sail_c.") {
				continue
			}
			for v := 0; v+1 < len(p.UVs[t.UVSet].Data); v += 2 {
				x, y := p.UVs[t.UVSet].Data[v], p.UVs[t.UVSet].Data[v+1]
				if t.Transform != nil {
					x, y = t.Transform.Apply(x, y)
				}
				// 1, 0 doubled, turned by a quarter and moved by 0.25, 0.5.
				if near(x, 0.25) && near(y, -1.5) {
					return true
				}
			}
		}
	}
	return false
}

func channelOf(path scene.Path, is func(*scene.Channel) bool) func(*scene.Scene) bool {
	return func(s *scene.Scene) bool {
		for i := range s.Motions {
			for k := range s.Motions[i].Channels {
				if c := &s.Motions[i].Channels[k]; c.Path == path && len(c.Times) > 0 && is(c) {
					return true
				}
			}
		}
		return false
	}
}

func always[T any](T) bool { return true }

func named[T any](list []T, name func(*T) string, want ...string) (n int) {
	for i := range list {
		if slices.Contains(want, name(&list[i])) {
			n++
		}
	}
	return n
}

func layers(s *scene.Scene, m *scene.Material) bool {
	l := m.Layers
	return l != nil && l.Clearcoat != nil && l.ClearcoatRoughness != nil && l.IOR != nil && l.Specular != nil && l.SpecularColour != nil && l.Transmission != nil && l.SheenColour != nil && l.SheenRoughness != nil
}

func avatarHas(is func(*scene.Avatar) bool) func(*scene.Scene) bool {
	return func(s *scene.Scene) bool { return s.Avatar != nil && is(s.Avatar) }
}

// features are what a scene can carry. Each has words of which the writer's
// notes hold one where it is not kept.
var features = []feature{
	{"axes and unit", "axes|unit|turned", func(was, is *scene.Scene) string {
		switch is.Basis {
		case was.Basis:
			return "yes"
		case geom.Basis{}:
			return "–"
		}
		return "turned" // into those of the format, which it then tells
	}},
	counted("triangles", "triangles|meshes", parts(true, func(p *scene.Part) int { return len(p.Triangles) / 3 })),
	counted("lines", "line", parts(true, func(p *scene.Part) int { return len(p.Lines) / 2 })),
	counted("points", "point", parts(true, func(p *scene.Part) int { return len(p.Points) })),
	held("normals of vertices", "normals|meshes", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) int {
			for i := 0; i+2 < len(p.Normals); i += 3 { // 0.6, 0.8 and 0 in some order, in whichever axes
				n := []float64{math.Abs(float64(p.Normals[i])), math.Abs(float64(p.Normals[i+1])), math.Abs(float64(p.Normals[i+2]))}
				slices.Sort(n)
				if n[0] < 0.01 && math.Abs(n[1]-0.6) < 0.01 {
					return 1
				}
			}
			return 0
		})(s) > 0
	}),
	held("tangents", "tangents|meshes", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) int { return len(p.Tangents) })(s) > 0
	}),
	counted("UV sets", "UV set|meshes", parts(false, func(p *scene.Part) int { return len(p.UVs) })),
	counted("names of UV sets", "names of UV|UV sets? not written|meshes", parts(false, func(p *scene.Part) (n int) {
		for _, u := range p.UVs {
			if u.Name == "surface" || u.Name == "dirt" {
				n++
			}
		}
		return n
	})),
	counted("colour sets", "colour set|colours|meshes", parts(false, func(p *scene.Part) int { return len(p.Colours) })),
	held("alpha of colour sets", "alpha|[0-9]+ colour sets? not written|parts.? colours|[0-9]+ meshes", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) int {
			for _, c := range p.Colours {
				for i := 3; i < len(c.Data); i += 4 {
					if near(c.Data[i], 0.5) {
						return 1
					}
				}
			}
			return 0
		})(s) > 0
	}),
	counted("materials", "material", func(s *scene.Scene) (n int) {
		for _, name := range []string{"oak", "glass", "paint"} {
			if material(name, func(*scene.Scene, *scene.Material) bool { return true })(s) {
				n++
			}
		}
		return n
	}),
	held("variants", "variant", func(s *scene.Scene) bool {
		return len(s.Variants) == 2 && s.Variants[1] == "weathered" && parts(true, func(p *scene.Part) int {
			if len(p.Variants) < 2 || p.Variants[0] >= 0 || p.Variants[1] < 0 || s.Materials[p.Variants[1]].Name != "glass" {
				return 0
			}
			return 1
		})(s) == 1
	}),
	held("colour of a material", "[0-9]+ materials? not written|colour of", material("glass", func(_ *scene.Scene, m *scene.Material) bool {
		return near(m.BaseColour[0], 0.2) && near(m.BaseColour[1], 0.4) && near(m.BaseColour[2], 0.6)
	})),
	held("colour beside a picture", "colours? beside|[0-9]+ materials? not written", anyMaterial(func(s *scene.Scene, m *scene.Material) bool {
		return m.Texture(scene.RoleColour) != nil && near(m.BaseColour[0], 0.5) && near(m.BaseColour[1], 0.75)
	})),
	held("metallic and roughness", "metallic and roughness not|[0-9]+ materials? not written", material("glass", func(_ *scene.Scene, m *scene.Material) bool { return near(m.Metallic, 0.25) && near(m.Roughness, 0.5) })),
	held("metallic and roughness beside a picture", "metallic and roughness beside|role metallic|in other roles|[0-9]+ materials? not written|roles? of pictures?|role of a picture", anyMaterial(func(_ *scene.Scene, m *scene.Material) bool {
		return m.Texture(scene.RoleMetalRgh) != nil && near(m.Metallic, 0.5) && near(m.Roughness, 0.75)
	})),
	held("emission", "emission not|[0-9]+ materials? not written", material("glass", func(_ *scene.Scene, m *scene.Material) bool { return near(m.Emissive[0], 0.5) })),
	held("emission beside a picture", "emission beside|role emission|in other roles|emission not|[0-9]+ materials? not written|roles? of (a )?pictures?", anyMaterial(func(_ *scene.Scene, m *scene.Material) bool {
		return m.Texture(scene.RoleEmission) != nil && near(m.Emissive[1], 0.25)
	})),
	held("blending", "blending|[0-9]+ materials? not written", material("glass", func(_ *scene.Scene, m *scene.Material) bool {
		return m.Alpha == scene.Blend && near(m.BaseColour[3], 0.5)
	})),
	held("cutout", "cutouts? by alpha|cutoffs? of alpha|[0-9]+ materials? not written", material("oak", func(_ *scene.Scene, m *scene.Material) bool { return m.Alpha == scene.Cutout })),
	held("threshold of a cutout", "threshold|cutouts? by alpha|cutoffs? of alpha|[0-9]+ materials? not written", material("oak", func(_ *scene.Scene, m *scene.Material) bool {
		return m.Alpha == scene.Cutout && near(m.Cutoff, 0.25)
	})),
	held("two-sided", "two-sided|[0-9]+ materials? not written", material("paint", func(_ *scene.Scene, m *scene.Material) bool { return m.TwoSided })),
	held("unlit", "unlit|[0-9]+ materials? not written", material("paint", func(_ *scene.Scene, m *scene.Material) bool { return m.Unlit })),
	held("clearcoat, sheen and other layers", "layers|[0-9]+ materials? not written", material("glass", layers)),
	held("toon surfaces", "toon|[0-9]+ materials? not written", anyMaterial(func(_ *scene.Scene, m *scene.Material) bool { return m.Toon != nil && near(m.Toon.ShadeColour[0], 0.3) })),
	held("colour picture", "picture", anyMaterial(picture(scene.RoleColour))),
	held("normal picture", "role normal|in other roles|[0-9]+ materials? not written|[0-9]+ pictures? not written|roles? of (a )?pictures?", anyMaterial(picture(scene.RoleNormal))),
	held("occlusion picture", "role occlusion|in other roles|[0-9]+ materials? not written|[0-9]+ pictures? not written|roles? of (a )?pictures?", anyMaterial(picture(scene.RoleOcclusion))),
	held("emission picture", "role emission|in other roles|[0-9]+ materials? not written|[0-9]+ pictures? not written|roles? of (a )?pictures?", anyMaterial(picture(scene.RoleEmission))),
	held("roughness and other pictures", "role metallic|in other roles|[0-9]+ materials? not written|[0-9]+ pictures? not written|roles? of (a )?pictures?|lies? otherwise", anyMaterial(picture(scene.RoleMetalRgh))),
	held("strength of normal pictures", "strength|role normal|in other roles|[0-9]+ materials? not written|roles? of (a )?pictures?", texture(scene.RoleNormal, func(_ *scene.Scene, t *scene.Texture) bool { return near(t.Scale, 0.5) })),
	held("strength of occlusion pictures", "strength|role occlusion|in other roles|[0-9]+ materials? not written|roles? of (a )?pictures?", texture(scene.RoleOcclusion, func(_ *scene.Scene, t *scene.Texture) bool { return near(t.Scale, 0.25) })),
	held("pictures on other UV sets", "another UV set|other UV sets|lies? otherwise|in other roles|role metallic|[0-9]+ materials? not written|roles? of (a )?pictures?", texture(scene.RoleMetalRgh, func(_ *scene.Scene, t *scene.Texture) bool { return t.UVSet == 1 })),
	held("edges of pictures: clamped", "clamped|[0-9]+ materials? not written|[0-9]+ pictures? not written", texture(scene.RoleColour, func(_ *scene.Scene, t *scene.Texture) bool { return t.WrapU == scene.Clamp })),
	held("edges of pictures: mirrored", "mirrored|[0-9]+ materials? not written|[0-9]+ pictures? not written", texture(scene.RoleColour, func(_ *scene.Scene, t *scene.Texture) bool { return t.WrapV == scene.Mirror })),
	held("unfiltered pictures", "unfiltered|in other roles|role emission|[0-9]+ materials? not written|roles? of (a )?pictures?", texture(scene.RoleEmission, func(_ *scene.Scene, t *scene.Texture) bool { return t.Nearest })),
	held("moved and turned pictures", "lies? otherwise|transform|[0-9]+ materials? not written|[0-9]+ pictures? not written", lies),
	counted("names of pictures", "picture", func(s *scene.Scene) int {
		return named(s.Pictures, func(p *scene.Picture) string { return strings.TrimSuffix(p.Name, ".png") }, "oak_c", "sail_c")
	}),
	held("names of nodes", "name|node|bones", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "hull" })
	}),
	held("nodes within nodes", "within others|no hierarchy|no bones", func(s *scene.Scene) bool {
		i := slices.IndexFunc(s.Nodes, func(n scene.Node) bool { return n.Name == "hull" })
		return i >= 0 && s.Nodes[i].Parent >= 0 && s.Nodes[s.Nodes[i].Parent].Name == "pier"
	}),
	held("meshes of several nodes", "further use|meshes with", func(s *scene.Scene) bool {
		used := map[int]int{}
		for _, n := range s.Nodes {
			if n.Mesh >= 0 {
				used[n.Mesh]++
			}
		}
		return slices.Max(append(slices.Collect(maps.Values(used)), 0)) > 1
	}),
	counted("bones", "bone", func(s *scene.Scene) (n int) {
		for _, is := range s.Bones() {
			if is {
				n++
			}
		}
		return n
	}),
	held("joint weights", "weights|skin|meshes", func(s *scene.Scene) bool { return parts(true, func(p *scene.Part) int { return len(p.Joints) })(s) > 0 }),
	counted("morph targets", "morph|meshes", parts(false, func(p *scene.Part) int { return len(p.Morphs) })),
	held("normals of morph targets", "morph|meshes", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) (n int) {
			for _, m := range p.Morphs {
				if slices.ContainsFunc(m.Normals, func(v float32) bool { return v != 0 }) {
					n++
				}
			}
			return n
		})(s) > 0
	}),
	held("weights of morph targets at rest", "morph|meshes", func(s *scene.Scene) bool {
		return parts(true, func(p *scene.Part) (n int) {
			for _, m := range p.Morphs {
				if near(m.Weight, 0.25) {
					n++
				}
			}
			return n
		})(s) > 0
	}),
	counted("motions", "motion", func(s *scene.Scene) int { return len(s.Motions) }),
	counted("names of motions", "motion", func(s *scene.Scene) int {
		return named(s.Motions, func(m *scene.Motion) string { return m.Name }, "nod", "smiling")
	}),
	held("turns of bones", "motion", channelOf(scene.PathRotation, always[*scene.Channel])),
	held("moves of bones", "motion", channelOf(scene.PathTranslation, always[*scene.Channel])),
	held("scale that moves", "motion", channelOf(scene.PathScale, always[*scene.Channel])),
	held("morph targets that move", "motion", channelOf(scene.PathWeights, always[*scene.Channel])),
	held("jumps between keys", "motion|key", channelOf(scene.PathTranslation, func(c *scene.Channel) bool { return c.Interp == scene.Step })),
	held("curves between keys", "motion|key", channelOf(scene.PathTranslation, func(c *scene.Channel) bool { return c.Interp == scene.Cubic })),
	counted("the source's words of nodes", "what the source says", func(s *scene.Scene) (n int) {
		for i := range s.Nodes {
			n += len(s.Nodes[i].Props)
		}
		return n
	}),
	counted("cameras", "camera", func(s *scene.Scene) int { return len(s.Cameras) }),
	held("cameras without perspective", "camera", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Cameras, func(c scene.Camera) bool { return c.Orthographic })
	}),
	counted("lights", "light", func(s *scene.Scene) int { return len(s.Lights) }),
	held("reach of lights", "light", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Lights, func(l scene.Light) bool { return l.Range > 0 })
	}),
	held("inner cone of spot lights", "light", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Lights, func(l scene.Light) bool { return l.Inner > 0 && near(l.Inner, 0.2) })
	}),
	held("brightness of lights", "light", func(s *scene.Scene) bool {
		return slices.ContainsFunc(s.Lights, func(l scene.Light) bool { return near(l.Intensity/10, 1) })
	}),
	held("owner", "terms|owner", func(s *scene.Scene) bool { return strings.Contains(s.Terms.Owner, "Sedgewater") }),
	held("licence", "terms|licence", func(s *scene.Scene) bool { return strings.Contains(s.Terms.Licence, "private use") }),
	held("text of the terms", "terms", func(s *scene.Scene) bool { return strings.Contains(s.Terms.Text, "not passed on") }),
	held("humanoid bones and expressions", "avatar", avatarHas(func(a *scene.Avatar) bool { return len(a.Bones) >= 15 && len(a.Expressions) > 0 })),
	held("springs and their colliders", "avatar", avatarHas(func(a *scene.Avatar) bool { return len(a.Springs) > 0 && len(a.Colliders) > 0 })),
	held("gaze", "avatar", avatarHas(func(a *scene.Avatar) bool { return a.LookAt != nil })),
	held("licence fields of an avatar", "avatar", avatarHas(func(a *scene.Avatar) bool { return a.Meta.Copyright != "" && a.Meta.CommercialUse != "" })),
}

// everything is a small scene with all that a scene can have.
func everything() (*scene.Scene, error) {
	s := &scene.Scene{Name: "everything", Basis: geom.Basis{Up: geom.PlusZ, Front: -geom.PlusY, Handed: geom.Right, MetresPerUnit: 0.01}, Terms: scene.Terms{Owner: "Sedgewater Lantern Company", Licence: "for private use", Text: "Changed copies may be shown, not passed on."}}
	for _, n := range []string{"oak_c", "oak_n", "oak_r", "oak_o", "oak_e", "sail_c"} {
		img := image.NewNRGBA(image.Rect(0, 0, 4, 4))
		for i := range img.Pix { // each other than the others
			img.Pix[i] = byte(40*len(s.Pictures) + 3*i)
		}
		png, err := pixel.PNG(img)
		if err != nil {
			return nil, err
		}
		s.Pictures = append(s.Pictures, scene.Picture{Name: n, MIME: "image/png", Data: png, Width: 4, Height: 4})
	}
	n := func(v float32) *float32 { return &v }
	oak, glass, paint := scene.NewMaterial("oak"), scene.NewMaterial("glass"), scene.NewMaterial("paint")
	oak.Alpha, oak.Cutoff = scene.Cutout, 0.25
	oak.BaseColour, oak.Metallic, oak.Roughness, oak.Emissive = [4]float32{0.5, 0.75, 1, 1}, 0.5, 0.75, [3]float32{1, 0.25, 1}
	oak.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 0, Scale: 1, WrapU: scene.Clamp, WrapV: scene.Mirror}, {Role: scene.RoleNormal, Picture: 1, Scale: 0.5},
		{Role: scene.RoleMetalRgh, Picture: 2, Scale: 1, UVSet: 1}, {Role: scene.RoleOcclusion, Picture: 3, Scale: 0.25}, {Role: scene.RoleEmission, Picture: 4, Scale: 1, Nearest: true}}
	sail, cloth := scene.NewMaterial("sail"), scene.NewMaterial("cloth")
	sail.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: 5, Scale: 1, Transform: &scene.UVTransform{Offset: [2]float32{0.25, 0.5}, Rotation: math.Pi / 2, Scale: [2]float32{2, 2}}}}
	cloth.Toon = &scene.Toon{ShadeColour: [3]float32{0.3, 0.2, 0.1}, ShadingToony: 0.9, OutlineMode: "worldCoordinates", OutlineWidth: 0.01}
	glass.BaseColour, glass.Alpha, glass.Metallic, glass.Roughness = [4]float32{0.2, 0.4, 0.6, 0.5}, scene.Blend, 0.25, 0.5
	glass.Emissive, glass.Layers = [3]float32{0.5, 0, 0}, &scene.Layers{IOR: n(1.4), Clearcoat: n(0.5), ClearcoatRoughness: n(0.25), Specular: n(0.5), SpecularColour: &[3]float32{1, 0.5, 0.25}, Transmission: n(0.5), SheenColour: &[3]float32{0.5, 0.25, 1}, SheenRoughness: n(0.5)}
	paint.Unlit, paint.TwoSided = true, true
	s.Materials = []scene.Material{oak, glass, paint, sail, cloth}

	node := func(name string, parent int) int {
		n := scene.NewNode(name)
		n.Parent = parent
		if parent < 0 {
			n.Props = []scene.Prop{{Key: "state", Value: "whole"}}
		}
		s.Nodes = append(s.Nodes, n)
		return len(s.Nodes) - 1
	}
	mesh := func(at int, m scene.Mesh) {
		s.Nodes[at].Mesh = len(s.Meshes)
		s.Meshes = append(s.Meshes, m)
	}
	quad := func(material int) scene.Part {
		return scene.Part{Material: material, Positions: []float32{0, 0, 0, 100, 0, 0, 100, 0, 100, 0, 0, 100}, Normals: []float32{0, -0.6, 0.8, 0, -0.6, 0.8, 0, -0.6, 0.8, 0, -0.6, 0.8}, Triangles: []uint32{0, 1, 2, 0, 2, 3}}
	}
	pier := node("pier", -1)
	hull := quad(0)
	hull.Tangents = []float32{1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1, 1, 0, 0, 1}
	hull.UVs = []scene.AttrSet{{Name: "surface", Data: []float32{0, 1, 1, 1, 1, 0, 0, 0}}, {Name: "dirt", Data: []float32{0, 0.5, 0.5, 0.5, 0.5, 0, 0, 0}}}
	white := []float32{1, 0, 0, 1, 0, 1, 0, 0.5, 0, 0, 1, 1, 1, 1, 1, 1}
	hull.Colours = []scene.AttrSet{{Name: "tint", Data: white}, {Name: "livery", Data: slices.Clone(white)}}
	mesh(node("hull", pier), scene.Mesh{Name: "hull", Parts: []scene.Part{hull, quad(1), quad(2)}})
	again := node("hull again", pier)
	s.Nodes[again].Mesh, s.Nodes[again].Translation = s.Nodes[1].Mesh, [3]float32{200, 0, 0}
	canvas, robe := quad(3), quad(4)
	s.Variants = []string{"new", "weathered"}
	robe.Variants = []int{scene.None, 1}
	canvas.UVs = []scene.AttrSet{{Name: "surface", Data: slices.Clone(hull.UVs[0].Data)}}
	mesh(node("sail", pier), scene.Mesh{Name: "sail", Parts: []scene.Part{canvas, robe}})
	mesh(node("rope", pier), scene.Mesh{Name: "rope", Parts: []scene.Part{{Material: 2, Positions: []float32{0, 0, 0, 0, 50, 50}, Lines: []uint32{0, 1}}}})
	mesh(node("sparks", pier), scene.Mesh{Name: "sparks", Parts: []scene.Part{{Material: 2, Positions: []float32{0, 0, 90, 0, 0, 95, 5, 0, 99}, Points: []uint32{0, 1, 2}}}})
	eye := node("eye", pier)
	s.Nodes[eye].Camera, s.Cameras = 0, []scene.Camera{{Name: "eye", FovY: 0.8, Aspect: 1.5, Near: 1, Far: 10000}, {Name: "plan", Orthographic: true, Height: 500, Aspect: 1, Near: 1, Far: 10000}}
	plan := node("plan", pier)
	s.Nodes[plan].Camera = 1
	lamp := node("lamp", pier)
	s.Nodes[lamp].Light, s.Lights = 0, []scene.Light{{Name: "lamp", Type: "point", Colour: [3]float32{1, 1, 1}, Intensity: 10, Range: 500}, {Name: "beam", Type: "spot", Colour: [3]float32{1, 1, 1}, Intensity: 10, Inner: 0.2, Outer: 0.5}}
	beam := node("beam", pier)
	s.Nodes[beam].Light = 1

	// A figure with the bones of a person, a face and a motion.
	human := map[string]int{}
	bone := func(name, parent string, at [3]float32) {
		p := -1
		if parent != "" {
			p = human[parent]
		}
		human[name] = node(name, p)
		s.Nodes[human[name]].Translation = at
	}
	bone("hips", "", [3]float32{0, 0, 95})
	bone("spine", "hips", [3]float32{0, 0, 15})
	bone("head", "spine", [3]float32{0, 0, 45})
	for i, side := range []string{"left", "right"} {
		x := float32(1 - 2*i)
		bone(side+"UpperLeg", "hips", [3]float32{9 * x, 0, -5})
		bone(side+"LowerLeg", side+"UpperLeg", [3]float32{0, 0, -42})
		bone(side+"Foot", side+"LowerLeg", [3]float32{0, 0, -42})
		bone(side+"UpperArm", "spine", [3]float32{18 * x, 0, 30})
		bone(side+"LowerArm", side+"UpperArm", [3]float32{28 * x, 0, 0})
		bone(side+"Hand", side+"LowerArm", [3]float32{25 * x, 0, 0})
	}
	world := s.World()
	skin := scene.Skin{Name: "figure", Root: human["hips"]}
	for i := human["hips"]; i < len(s.Nodes); i++ {
		inverse, _ := world[i].Inverse()
		skin.Joints = append(skin.Joints, i)
		for _, v := range inverse {
			skin.InverseBind = append(skin.InverseBind, float32(v))
		}
	}
	s.Skins = []scene.Skin{skin}
	face := quad(0)
	face.UVs = []scene.AttrSet{hull.UVs[0], hull.UVs[1]}
	face.Influences = 4
	for range 4 {
		face.Joints, face.Weights = append(face.Joints, 2, 1, 0, 0), append(face.Weights, 0.75, 0.25, 0, 0)
	}
	face.Morphs = []scene.MorphTarget{{Name: "smile", Positions: []float32{0, 0, 1, 0, 0, 1, 0, 0, 0, 0, 0, 0}, Normals: []float32{0, 0.2, 0, 0, 0.2, 0, 0, 0, 0, 0, 0, 0}}, {Name: "blink", Weight: 0.25, Positions: []float32{0, 0, 0, 0, 0, 0, 0, 0, 2, 0, 0, 2}}}
	figure := node("figure", -1)
	mesh(figure, scene.Mesh{Name: "figure", Parts: []scene.Part{face}})
	s.Nodes[figure].Skin = 0
	s.Motions = []scene.Motion{{Name: "nod", Channels: []scene.Channel{{Node: human["head"], Path: scene.PathRotation, Interp: scene.Linear, Times: []float32{0, 0.5, 1}, Values: []float32{0, 0, 0, 1, 0.1, 0, 0, 0.99498743, 0, 0, 0, 1}}}},
		{Name: "smiling", Channels: []scene.Channel{
			{Node: human["hips"], Path: scene.PathTranslation, Interp: scene.Cubic, Times: []float32{0, 1}, Values: []float32{0, 0, 0, 0, 0, 95, 0, 0, 9, 0, 0, 0, 0, 0, 99, 0, 0, 0}},
			{Node: human["leftHand"], Path: scene.PathTranslation, Interp: scene.Step, Times: []float32{0, 0.5, 1}, Values: []float32{25, 0, 0, 26, 0, 0, 25, 0, 0}},
			{Node: human["head"], Path: scene.PathScale, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{1, 1, 1, 1.5, 1.5, 1.5}},
			{Node: figure, Path: scene.PathWeights, Interp: scene.Linear, Times: []float32{0, 1}, Values: []float32{0, 0.25, 1, 0.25}}}}}
	s.Avatar = &scene.Avatar{Version: "1.0", Bones: human, Expressions: []scene.Expression{{Name: "happy", Preset: true, Morphs: []scene.ExpressionMorph{{Node: figure, Index: 0, Weight: 1}}}},
		LookAt:    &scene.LookAt{Type: "bone", Offset: [3]float32{0, 0, 6}, Ranges: [4][2]float32{{90, 10}, {90, 10}, {90, 10}, {90, 10}}},
		Colliders: []scene.SpringCollider{{Node: human["head"], Radius: 10, Groups: []string{"head"}}},
		Springs:   []scene.Spring{{Name: "sleeve", Groups: []string{"head"}, Center: scene.None, Joints: []scene.SpringJoint{{Node: human["leftLowerArm"], Radius: 2, Stiffness: 1, Drag: 0.4, GravityDir: [3]float32{0, 0, -1}}, {Node: human["leftHand"], Radius: 2, Stiffness: 1, Drag: 0.4, GravityDir: [3]float32{0, 0, -1}}}}},
		Meta:      scene.AvatarMeta{Name: "everything", Version: "2", Authors: []string{"Sedgewater Lantern Company"}, Copyright: "2026 Sedgewater Lantern Company", CommercialUse: "personalNonProfit", Credit: "required", Modification: "prohibited", LicenceURL: "https://vrm.dev/licenses/1.0/", ThumbnailOfPicture: scene.None}}
	return s, s.Validate()
}
