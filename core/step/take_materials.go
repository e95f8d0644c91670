package step

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/geom"
	"excavate/core/nearest"
	"excavate/core/scene"
)

// TakeMaterialsParams says from what asset materials come and how they match.
type TakeMaterialsParams struct {
	Where
	From string `json:"from" jsonschema:"title=Asset,minLength=1,maxLength=4096,description=Its path in the search order or beside the chain's document; or chain: and the name of another chain for what that one ends with" jsonschema_extras:"chooser=model"`
	By   string `json:"by" jsonschema:"title=Matched by,enum=names,enum=surface,description=Materials of the same name, capitals and numbers at the end aside; or for each face the material of the nearest surface of the other asset"`
	Lay  bool   `json:"lay" jsonschema:"title=Lay one over the other,description=By surface: move and scale the other so that both boxes are the same; for exports of different size"`
}

func (p *TakeMaterialsParams) asks() []Ask { return []Ask{{Asset: p.From}} }

var _ = registerBeyond(Kind{Name: "take-materials", Title: "Take materials from another", Family: Material, On: Materials, Version: 2,
	Purpose: "Take the materials and pictures of a like asset: shapes from one export, colours from another."},
	TakeMaterialsParams{By: "names"}, takeMaterialsOf)

func takeMaterialsOf(ctx context.Context, s *scene.Scene, p TakeMaterialsParams, b Beyond, r *Report) (*scene.Scene, error) {
	if p.From == "" {
		r.Nothing("no asset is named")
		return s, nil
	}
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	o, err := b.Asset(ctx, p.From)
	if err != nil {
		return nil, err
	}
	if len(o.Materials) == 0 {
		r.Nothing("%s has no materials", p.From)
		return s, nil
	}
	if p.By == "surface" {
		if o, err = toBasisOf(o, s.Basis, r); err != nil {
			return nil, fmt.Errorf("%s: %w", p.From, err)
		}
	}
	grown, to := s.WithMaterialsOf(o)
	var out *scene.Scene
	if p.By == "names" {
		out, err = byNames(grown, s, o, to, c.Materials, r)
	} else {
		t := &surfaceTaker{s: s, o: o, to: to, grown: grown}
		out, err = t.run(ctx, c.Parts, p.Lay, r)
	}
	if err != nil || r.Idle {
		return s, err
	}
	return out.Sweep(grown), nil
}

func byNames(grown, s, o *scene.Scene, to []int, chosen []bool, r *Report) (*scene.Scene, error) {
	like, same := map[string]int{}, map[string]int{} // by what is alike in names, and by the very name
	key := func(name string) string { return strings.ToLower(baseName(name)) }
	for i := range o.Materials {
		if _, ok := like[key(o.Materials[i].Name)]; !ok {
			like[key(o.Materials[i].Name)] = i
		}
		if _, ok := same[o.Materials[i].Name]; !ok {
			same[o.Materials[i].Name] = i
		}
	}
	next := make([]int, len(grown.Materials))
	for i := range next {
		next[i] = i
	}
	var taken int
	var none []string
	for i := range s.Materials {
		if !chosen[i] {
			continue
		}
		k, ok := same[s.Materials[i].Name]
		if !ok {
			k, ok = like[key(s.Materials[i].Name)]
		}
		if !ok {
			none = append(none, s.Materials[i].Name)
			continue
		}
		if next[i] = to[k]; next[i] != i {
			taken++
		}
	}
	if taken == 0 {
		r.Nothing("no chosen material has one of its name there that differs")
		return s, nil
	}
	r.Say("%s taken", count(taken, "material", "materials"))
	if len(none) > 0 {
		r.Say("the other asset has none named %s", named(none))
	}
	return grown.Remap(grown.Materials, next), nil
}

// surfaceTaker gives faces the materials of the nearest surface of another
// asset, both as they are seen at rest.
type surfaceTaker struct {
	s, o, grown *scene.Scene
	to          []int

	surface  *nearest.Surface
	material []int // of each of its triangles
	far      float64
	own      geom.Box
	other    geom.Box
	lay      bool
}

func (t *surfaceTaker) run(ctx context.Context, chosen func(node int) []bool, lay bool, r *Report) (*scene.Scene, error) {
	var tri []geom.Vec3
	world := t.o.World()
	for i := range t.o.Nodes {
		if t.o.Nodes[i].Mesh < 0 {
			continue
		}
		for _, p := range t.o.Meshes[t.o.Nodes[i].Mesh].Parts {
			pos, _ := t.o.Posed(i, &p, world)
			for k := 0; k+2 < len(p.Triangles); k += 3 {
				for _, v := range p.Triangles[k : k+3] {
					tri = append(tri, at3(pos, v))
				}
				t.material = append(t.material, p.Material)
			}
		}
	}
	if len(tri) == 0 {
		r.Nothing("the other asset has no surface")
		return t.s, nil
	}
	t.surface = nearest.New(tri)
	t.own, t.other, t.lay = t.s.Bounds(), t.o.Bounds(), lay
	world = t.s.World()
	out := *t.grown
	out.Meshes, out.Nodes = slices.Clone(t.grown.Meshes), slices.Clone(t.s.Nodes)
	var faces, parts, variants int
	for i := range t.s.Nodes {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		taken := chosen(i)
		if t.s.Nodes[i].Mesh < 0 || !slices.Contains(taken, true) {
			continue
		}
		mesh := t.s.Meshes[t.s.Nodes[i].Mesh]
		var list []scene.Part
		for j := range mesh.Parts {
			if !taken[j] || len(mesh.Parts[j].Triangles) == 0 {
				list = append(list, mesh.Parts[j])
				continue
			}
			made, n := t.part(i, &mesh.Parts[j], world)
			faces += n
			parts++
			if mesh.Parts[j].Variants != nil {
				variants++
			}
			list = append(list, made...)
		}
		mesh.Parts = list
		out.Nodes[i].Mesh = len(out.Meshes)
		out.Meshes = append(out.Meshes, mesh)
	}
	if parts == 0 {
		r.Nothing("nothing that is chosen has a surface")
		return t.s, nil
	}
	r.Say("%s of %s have the material of the surface nearest to them",
		count(faces, "face", "faces"), count(parts, "part", "parts"))
	r.Say("the surfaces are %s apart where they are farthest", length(t.s, t.far))
	if size := t.own.Size().Len(); t.far > 0.05*size {
		r.Say("that is %.0f%% of the asset's size: are they the same thing in the same place?", 100*t.far/size)
	}
	r.Say("UVs stay this asset's own")
	if variants > 0 {
		r.Lose("the variants of %s", count(variants, "part", "parts"))
	}
	return &out, nil
}

// part is a part taken apart by the materials of what lies nearest to each of
// its faces.
func (t *surfaceTaker) part(node int, p *scene.Part, world []geom.Mat4) (out []scene.Part, faces int) {
	pos, _ := t.s.Posed(node, p, world)
	groups := map[int][]uint32{}
	var order []int
	for k := 0; k+2 < len(p.Triangles); k += 3 {
		v := p.Triangles[k : k+3]
		m := t.voted([3]geom.Vec3{at3(pos, v[0]), at3(pos, v[1]), at3(pos, v[2])})
		if m >= 0 {
			m = t.to[m]
		} else {
			m = p.Material
		}
		if _, ok := groups[m]; !ok {
			order = append(order, m)
		}
		groups[m] = append(groups[m], v...)
		faces++
	}
	for k, m := range order {
		lines, points := p.Lines, p.Points
		if k > 0 { // they stay with the first
			lines, points = nil, nil
		}
		q := compact(p, groups[m], lines, points)
		q.Material, q.Variants = m, nil
		out = append(out, q)
	}
	return out, faces
}

// voted is the material that is nearest to most of a face: to its middle, and
// half way from there to its corners. The middle decides where these disagree.
func (t *surfaceTaker) voted(face [3]geom.Vec3) int {
	middle := face[0].Add(face[1]).Add(face[2]).Mul(1.0 / 3)
	normal := face[1].Sub(face[0]).Cross(face[2].Sub(face[0]))
	same := 1e-5 * t.other.Size().Len() // what rounding leaves between surfaces that lie on each other
	nearest := func(p geom.Vec3) int {
		n, d := t.surface.Facing(t.laid(p), normal, same)
		t.far = math.Max(t.far, d/t.by())
		return t.material[n]
	}
	first := nearest(middle)
	var corners [3]int
	for k := range corners {
		corners[k] = nearest(middle.Add(face[k]).Mul(0.5))
	}
	if corners[0] == corners[1] && corners[1] == corners[2] {
		return corners[0]
	}
	return first
}

// laid is where a point of this asset lies on the other one, if one is laid
// over the other.
func (t *surfaceTaker) laid(p geom.Vec3) geom.Vec3 {
	if !t.lay {
		return p
	}
	return p.Sub(t.own.Centre()).Mul(t.by()).Add(t.other.Centre())
}

// by is how many times as large as this asset the other one is laid.
func (t *surfaceTaker) by() float64 {
	a, b := t.own.Size().Len(), t.other.Size().Len()
	if !t.lay || a == 0 || b == 0 {
		return 1
	}
	return b / a
}
