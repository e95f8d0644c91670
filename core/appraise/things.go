package appraise

import (
	"encoding/json"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
)

// NotCompared names what a comparison does not look at: names that many formats
// cannot hold, and what a file says of itself.
var NotCompared = []string{
	"the scene's name, and names of nodes that are no bones, of meshes, skins, and UV and colour sets",
	"which node stands within which, but for bones",
	"how vertices are shared, and in which order things stand",
	"the basis that is declared, where both can be brought to one",
	"notes, readings, and where pictures were found",
	"how triangles pair to faces of four corners",
	"how keys of motions are interpolated: what counts is where things are in between",
}

// variant says which materials a variant has instead of those that are shown.
func variant(s *scene.Scene, v int) string {
	triangles := map[string]int{}
	for i := range s.Meshes {
		for _, p := range s.Meshes[i].Parts {
			if v >= len(p.Variants) || p.Variants[v] < 0 {
				continue
			}
			was := "none"
			if p.Material >= 0 {
				was = s.Materials[p.Material].Name
			}
			triangles[s.Materials[p.Variants[v]].Name+" for "+was] += len(p.Triangles) / 3
		}
	}
	var list []string
	for _, what := range slices.Sorted(maps.Keys(triangles)) {
		list = append(list, fmt.Sprintf("%s on %d triangles", what, triangles[what]))
	}
	if list == nil {
		return "as it is shown"
	}
	return strings.Join(list, ", ")
}

// things are what else a scene carries: cameras, lights, skins, whose it is,
// and what makes it an avatar. size is that of the scene.
func things(s *scene.Scene, size float64) (out traits) {
	world := s.World()
	name := func(n int) string {
		if n < 0 || n >= len(s.Nodes) {
			return "nothing"
		}
		return s.Nodes[n].Name
	}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Camera >= 0 {
			out.add("camera "+s.Cameras[n.Camera].Name, camera(&s.Cameras[n.Camera], world[i], size))
		}
		if n.Light >= 0 {
			out.add("light "+s.Lights[n.Light].Name, light(&s.Lights[n.Light], world[i], size))
		}
		if c := n.Collider; c != nil {
			text := string(c.Shape)
			switch {
			case c.Shape == scene.ShapeBox:
				text += fmt.Sprintf(" %.4g × %.4g × %.4g", c.Size[0], c.Size[1], c.Size[2])
			case c.Radius > 0:
				text += fmt.Sprintf(" of radius %.4g", c.Radius)
			}
			out.add("collider "+n.Name, trait{text: text, words: text})
		}
		for _, p := range n.Props {
			out.add("what the source says of "+n.Name+": "+p.Key, trait{text: p.Value, words: p.Value})
		}
	}
	for key, v := range map[string]string{"owner": s.Terms.Owner, "licence": s.Terms.Licence, "text": s.Terms.Text} {
		if v != "" {
			out.add("terms: "+key, trait{text: v, words: v})
		}
	}
	for v, name := range s.Variants {
		text := variant(s, v)
		out.add("variant "+name, trait{text: text, words: text})
	}
	for _, w := range weighed(s) {
		out.add("weight of "+w.bone, w.trait)
	}
	for i := range s.Meshes {
		// Weights that shapes have when nothing moves them.
		for k := range s.Meshes[i].Parts {
			for _, m := range s.Meshes[i].Parts[k].Morphs {
				if key := "shape " + m.Name; m.Weight != 0 && out.by[key] == nil {
					out.add(key, trait{text: fmt.Sprintf("at %.3g", m.Weight), numbers: []float64{float64(m.Weight)}, slack: 1e-3})
				}
			}
		}
	}
	avatar(s, name, &out)
	return out
}

func camera(c *scene.Camera, at geom.Mat4, size float64) trait {
	kind := "perspective"
	numbers := []float64{float64(c.FovY)}
	text := fmt.Sprintf("%.1f° high", c.FovY*180/math.Pi)
	if c.Orthographic {
		kind, numbers, text = "orthographic", []float64{log(c.Height)}, fmt.Sprintf("%.3g high", 2*c.Height)
	}
	if c.Aspect > 0 {
		text += fmt.Sprintf(", %.3g times as wide", c.Aspect)
	}
	numbers = append(numbers, float64(c.Aspect), log(c.Near), log(c.Far))
	return trait{words: kind, numbers: append(numbers, stance(at, size)...), slack: 2e-3, text: fmt.Sprintf("%s, %s, from %.3g to %.3g", kind, text, c.Near, c.Far)}
}

// log compares lengths by their proportion; nothing and no end are far away.
func log(v float32) float64 {
	return math.Log(math.Max(float64(v), 1e-12))
}

func light(l *scene.Light, at geom.Mat4, size float64) trait {
	t := trait{words: l.Type, slack: 4e-3, text: fmt.Sprintf("%s, colour %.2f %.2f %.2f, %.4g bright", l.Type, l.Colour[0], l.Colour[1], l.Colour[2], l.Intensity)}
	t.numbers = []float64{float64(l.Colour[0]), float64(l.Colour[1]), float64(l.Colour[2]), math.Log1p(float64(l.Intensity)), log(l.Range), float64(l.Inner), float64(l.Outer)}
	if l.Type == "spot" {
		t.text += fmt.Sprintf(", %.3g° to %.3g°", l.Inner*180/math.Pi, l.Outer*180/math.Pi)
	}
	if l.Range > 0 {
		t.text += fmt.Sprintf(", up to %.3g", l.Range)
	}
	place := stance(at, size)
	if l.Type == "directional" { // it is everywhere
		place = place[3:]
	}
	t.numbers = append(t.numbers, place...)
	return t
}

// stance is where something stands, over the size of the scene, and how it is
// turned: the directions of its axes.
func stance(m geom.Mat4, size float64) []float64 {
	p := m.Point(geom.Vec3{})
	out := []float64{p[0] / size, p[1] / size, p[2] / size}
	for _, axis := range []geom.Vec3{{0, 1, 0}, {0, 0, 1}} {
		d := m.Dir(axis).Norm()
		out = append(out, d[0], d[1], d[2])
	}
	return out
}

type weight struct {
	bone string
	trait
}

// weighed is how much of the surface each bone moves, and where that lies.
func weighed(s *scene.Scene) (out []weight) {
	type sum struct {
		area  float64
		place geom.Vec3
	}
	sums := map[string]*sum{}
	whole := 0.0
	world := s.World()
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Mesh < 0 || n.Skin < 0 {
			continue
		}
		joints := s.Skins[n.Skin].Joints
		for k := range s.Meshes[n.Mesh].Parts {
			p := s.Meshes[n.Mesh].Parts[k]
			if p.Joints == nil {
				continue
			}
			p.Normals = nil
			at, _ := s.Posed(i, &p, world)
			for t := 0; t+2 < len(p.Triangles); t += 3 {
				a, b, c := geom.At(at, p.Triangles[t]), geom.At(at, p.Triangles[t+1]), geom.At(at, p.Triangles[t+2])
				third := b.Sub(a).Cross(c.Sub(a)).Len() / 6
				whole += 3 * third
				for j, v := range p.Triangles[t : t+3] {
					for f := range p.Influences {
						w := float64(p.Weights[int(v)*p.Influences+f])
						if w == 0 {
							continue
						}
						bone := s.Nodes[joints[p.Joints[int(v)*p.Influences+f]]].Name
						x := sums[bone]
						if x == nil {
							x = &sum{}
							sums[bone] = x
						}
						x.area += w * third
						x.place = x.place.Add([]geom.Vec3{a, b, c}[j].Mul(w * third))
					}
				}
			}
		}
	}
	for _, bone := range slices.Sorted(maps.Keys(sums)) {
		x := sums[bone]
		if whole == 0 || x.area < 1e-5*whole { // less than eight bits of a weight hold
			continue
		}
		share := x.area / whole
		out = append(out, weight{bone, trait{text: fmt.Sprintf("%.2f %% of the surface", 100*share), numbers: []float64{share}, slack: 2e-3}})
	}
	return out
}

// avatar tells of what makes a scene a person's avatar. Nodes and materials are
// told by their names.
func avatar(s *scene.Scene, name func(int) string, out *traits) {
	a := s.Avatar
	if a == nil {
		return
	}
	for _, b := range slices.Sorted(maps.Keys(a.Bones)) {
		out.add("avatar: "+b, trait{text: name(a.Bones[b]), words: name(a.Bones[b])})
	}
	for _, e := range a.Expressions {
		var t []string
		for _, m := range e.Morphs {
			t = append(t, fmt.Sprintf("shape %s of %s at %.3g", morphName(s, m), name(m.Node), m.Weight))
		}
		for _, c := range e.Colours {
			t = append(t, fmt.Sprintf("%s of %s to %.3g", c.Type, s.Materials[c.Material].Name, c.Value))
		}
		slices.Sort(t)
		for _, k := range slices.Sorted(maps.Keys(e.Overrides)) {
			if e.Overrides[k] != "none" {
				t = append(t, k+" "+e.Overrides[k])
			}
		}
		if e.Binary {
			t = append(t, "on or off")
		}
		if e.Preset {
			t = append(t, "of the standard")
		}
		said := strings.Join(t, ", ")
		out.add("expression "+e.Name, trait{text: said, words: said})
	}
	if m := metaWords(a.Meta); len(m) > 0 {
		for _, k := range slices.Sorted(maps.Keys(m)) {
			out.add("avatar's "+k, trait{text: m[k], words: m[k]})
		}
	}
	if l := a.LookAt; l != nil {
		t := trait{words: l.Type, slack: 1e-3}
		for _, v := range l.Offset {
			t.numbers = append(t.numbers, float64(v))
		}
		for _, r := range l.Ranges {
			t.numbers = append(t.numbers, float64(r[0])/90, float64(r[1])/90)
		}
		t.text = fmt.Sprintf("by %s, %.3g from the head, %.3g", l.Type, l.Offset, l.Ranges)
		out.add("avatar's gaze", t)
	}
	for i, c := range a.Colliders {
		t := trait{words: name(c.Node) + " " + strings.Join(c.Groups, " "), slack: 1e-3, numbers: []float64{float64(c.Radius)}}
		for _, v := range c.Offset {
			t.numbers = append(t.numbers, float64(v))
		}
		if c.Tail != nil {
			t.words += " capsule"
			for _, v := range c.Tail {
				t.numbers = append(t.numbers, float64(v))
			}
		}
		t.text = fmt.Sprintf("at %s, radius %.3g", t.words, c.Radius)
		out.add(fmt.Sprintf("spring collider %d", i+1), t)
	}
	for i, sp := range a.Springs {
		t := trait{slack: 1e-3}
		words := []string{sp.Name, strings.Join(sp.Groups, " "), "about " + name(sp.Center)}
		for _, j := range sp.Joints {
			words = append(words, name(j.Node))
			t.numbers = append(t.numbers, float64(j.Radius), float64(j.Stiffness), float64(j.GravityPower), float64(j.Drag), float64(j.GravityDir[0]), float64(j.GravityDir[1]), float64(j.GravityDir[2]))
		}
		t.words = strings.Join(words, ", ")
		t.text = fmt.Sprintf("%d joints, %s", len(sp.Joints), t.words)
		out.add(fmt.Sprintf("spring %d", i+1), t)
	}
}

func morphName(s *scene.Scene, m scene.ExpressionMorph) string {
	if mesh := s.Nodes[m.Node].Mesh; mesh >= 0 {
		for k := range s.Meshes[mesh].Parts {
			if list := s.Meshes[mesh].Parts[k].Morphs; m.Index < len(list) {
				return list[m.Index].Name
			}
		}
	}
	return fmt.Sprint(m.Index)
}

// metaWords are the fields of an avatar's licence block that say something. The
// thumbnail is told by whether there is one.
func metaWords(m scene.AvatarMeta) map[string]string {
	thumbnail := m.ThumbnailOfPicture >= 0
	m.ThumbnailOfPicture = 0
	b, err := json.Marshal(m)
	var fields map[string]any
	if err != nil || json.Unmarshal(b, &fields) != nil {
		return nil
	}
	delete(fields, "thumbnail")
	out := map[string]string{}
	for k, v := range fields {
		out[k] = fmt.Sprint(v)
	}
	if thumbnail {
		out["thumbnail"] = "yes"
	}
	return out
}
