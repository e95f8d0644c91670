package step

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
)

// JoinParams says what becomes one.
type JoinParams struct {
	Where
	By string `json:"by" jsonschema:"title=Into one for each,enum=material,enum=picture,enum=name,enum=all,description=Material or colour picture; name without a number at its end; or all of it into one"`
}

var _ = register(Kind{Name: "join", Title: "Join", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Make one mesh of many that stand still. UV and colour sets stay apart by their names, whatever their order."},
	JoinParams{By: "material"}, join)

func join(ctx context.Context, s *scene.Scene, p JoinParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.choose(s, r)
	if err != nil || !any {
		return s, err
	}
	if c.ByPiece() {
		return nil, fmt.Errorf("loose pieces cannot be joined by themselves: split them off first")
	}
	world := s.World()
	moving := movingNodes(s)
	held := expressed(s)
	j := &joiner{s: s, at: map[string]int{}}
	taken := make([][]bool, len(s.Nodes))
	var bound int
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if n.Mesh < 0 || !c.Nodes[i] {
			continue
		}
		if n.Skin >= 0 || moving[i] || held[i] {
			bound++
			continue
		}
		taken[i] = c.Parts(i)
		for k := range taken[i] {
			if err := ctx.Err(); err != nil {
				return nil, err
			}
			if part := &s.Meshes[n.Mesh].Parts[k]; taken[i][k] {
				if len(part.Morphs) > 0 {
					taken[i][k] = false // others have no such targets
					bound++
					continue
				}
				j.add(p.By, i, part, world[i])
			}
		}
	}
	before, after := j.nodes(), len(j.groups)
	if before <= after {
		r.Nothing("nothing can be joined%s",
			ifAny(bound, ": %s", count(bound, "one moves, is bound or has morph targets", "move, are bound or have morph targets")))
		return s, nil
	}
	out := withoutTaken(s, taken)
	for _, g := range j.groups {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		m, n := g.mesh()
		j.filled += n
		out.Meshes = append(out.Meshes, m)
		x := scene.NewNode(g.name)
		x.Mesh = len(out.Meshes) - 1
		for k := range 3 {
			x.Translation[k] = float32(g.origin[k])
		}
		out.Nodes = append(out.Nodes, x)
	}
	r.Say("nodes with a mesh: %d → %d", before, after)
	if j.filled > 0 {
		r.Say("%s filled where a part had none", count(j.filled, "set was", "sets were"))
	}
	if bound > 0 {
		r.Say("%s: motions, skins or morph targets need them", count(bound, "stays", "stay"))
	}
	return emptied(out, s, r).Sweep(s), nil
}

// movingNodes tells which nodes a motion moves, by themselves or with one above.
func movingNodes(s *scene.Scene) []bool {
	moves := s.Bones()
	for i := range s.Motions {
		for _, c := range s.Motions[i].Channels {
			moves[c.Node] = true
		}
	}
	for i := range s.Nodes {
		if p := s.Nodes[i].Parent; p >= 0 && moves[p] {
			moves[i] = true
		}
	}
	return moves
}

// withoutTaken takes the taken parts off their nodes.
func withoutTaken(s *scene.Scene, taken [][]bool) *scene.Scene {
	out := *s
	out.Nodes, out.Meshes = slices.Clone(s.Nodes), slices.Clone(s.Meshes)
	for i := range out.Nodes {
		if !slices.Contains(taken[i], true) {
			continue
		}
		n := &out.Nodes[i]
		var left []scene.Part
		for k, p := range s.Meshes[n.Mesh].Parts {
			if !taken[i][k] {
				left = append(left, p)
			}
		}
		if n.Mesh = scene.None; len(left) > 0 {
			n.Mesh = len(out.Meshes)
			out.Meshes = append(out.Meshes, scene.Mesh{Name: s.Meshes[s.Nodes[i].Mesh].Name, Parts: left})
		}
	}
	return &out
}

// emptied takes out the nodes that showed something before and carry nothing
// any more.
func emptied(out, was *scene.Scene, r *Report) *scene.Scene {
	helpers, before := out.Helpers(), was.Helpers()
	held := namedByAvatar(was)
	keep := make([]bool, len(out.Nodes))
	for i := range keep {
		keep[i] = !helpers[i] || i < len(before) && (before[i] || held[i])
	}
	for i := len(keep) - 1; i >= 0; i-- {
		if p := out.Nodes[i].Parent; keep[i] && p >= 0 {
			keep[p] = true
		}
	}
	return withNodes(out, out, keep, r)
}

// joiner gathers parts into groups.
type joiner struct {
	s      *scene.Scene
	at     map[string]int
	groups []*group
	from   map[int]bool
	filled int
}

// group is one mesh to be. Its vertices lie relative to origin, the place of
// its first node, so that those far from the world's origin keep their shape.
type group struct {
	name   string
	origin geom.Vec3
	parts  [][]placedPart
	of     map[string]int // the list of each material, with those of variants
}

func (j *joiner) nodes() int { return len(j.from) }

func (j *joiner) add(by string, node int, p *scene.Part, world geom.Mat4) {
	key, name := j.group(by, node, p)
	k, ok := j.at[key]
	if !ok {
		k = len(j.groups)
		j.at[key] = k
		j.groups = append(j.groups, &group{name: name, origin: geom.Vec3{world[12], world[13], world[14]}, of: map[string]int{}})
	}
	if j.from == nil {
		j.from = map[int]bool{}
	}
	j.from[node] = true
	j.groups[k].add(p, world)
}

// add notes a part that the group takes, where its node shows it.
func (g *group) add(p *scene.Part, world geom.Mat4) {
	for i := range 3 {
		world[12+i] -= g.origin[i]
	}
	key := fmt.Sprint(p.Looks())
	at, ok := g.of[key]
	if !ok {
		at = len(g.parts)
		g.of[key] = at
		g.parts = append(g.parts, nil)
	}
	g.parts[at] = append(g.parts[at], placedPart{p, world})
}

// placedPart is a part and where its vertices go.
type placedPart struct {
	part *scene.Part
	by   geom.Mat4
}

// build makes one part of those that have one material. filled is how many sets
// were filled where a part had none.
func build(list []placedPart) (out scene.Part, filled int) {
	vertices, triangles := 0, 0
	for _, x := range list {
		vertices, triangles = vertices+x.part.Vertices(), triangles+len(x.part.Triangles)
	}
	for i, x := range list {
		p := laid(x.part, x.by)
		if i == 0 {
			out = owned(p)
			reserve(&out, vertices, triangles)
			continue
		}
		filled += appendPart(&out, &p)
	}
	return out, filled
}

// laid is a part with its vertices where a matrix takes them. A move alone leaves
// everything but the places as it is.
func laid(p *scene.Part, by geom.Mat4) scene.Part {
	move := geom.Identity
	move[12], move[13], move[14] = by[12], by[13], by[14]
	if by != move {
		return TransformedMesh(scene.Mesh{Parts: []scene.Part{*p}}, by).Parts[0]
	}
	out := *p
	out.Positions = make([]float32, len(p.Positions))
	for i := 0; i+2 < len(p.Positions); i += 3 {
		for k := range 3 {
			out.Positions[i+k] = float32(float64(p.Positions[i+k]) + by[12+k])
		}
	}
	return out
}

// reserve makes room in a part's own lists, so that they need not move as they
// grow.
func reserve(p *scene.Part, vertices, triangles int) {
	room := func(v *[]float32, per int) {
		if *v != nil {
			*v = slices.Grow(*v, per*vertices-len(*v))
		}
	}
	room(&p.Positions, 3)
	room(&p.Normals, 3)
	room(&p.Tangents, 4)
	for i := range p.UVs {
		room(&p.UVs[i].Data, 2)
	}
	for i := range p.Colours {
		room(&p.Colours[i].Data, 4)
	}
	p.Triangles = slices.Grow(p.Triangles, triangles-len(p.Triangles))
}

// group is the key and the name of what a part goes into.
func (j *joiner) group(by string, node int, p *scene.Part) (key, name string) {
	material := "no material"
	if p.Material >= 0 {
		material = j.s.Materials[p.Material].Name
	}
	switch by {
	case "name":
		base := baseName(j.s.Nodes[node].Name)
		return base, base
	case "all":
		return "", j.s.Name
	case "picture":
		if p.Material >= 0 {
			if t := j.s.Materials[p.Material].Texture(scene.RoleColour); t != nil {
				return fmt.Sprint("p", t.Picture), j.s.Pictures[t.Picture].Name
			}
		}
		return "none", "no picture"
	}
	return fmt.Sprint("m", p.Material), material
}

// baseName is a name without the number at its end and what sets that off.
func baseName(name string) string {
	base := strings.TrimRight(strings.TrimRight(name, "0123456789"), " _-.#")
	if base == "" {
		return name
	}
	return base
}

// mesh makes the group's mesh.
func (g *group) mesh() (m scene.Mesh, filled int) {
	m.Name = g.name
	for _, list := range g.parts {
		p, n := build(list)
		m.Parts = append(m.Parts, p)
		filled += n
	}
	return m, filled
}

// owned is a part whose lists are its own, so that others can be added to them.
func owned(p scene.Part) scene.Part {
	p.Triangles, p.Lines, p.Points = slices.Clone(p.Triangles), slices.Clone(p.Lines), slices.Clone(p.Points)
	p.Positions, p.Normals, p.Tangents = slices.Clone(p.Positions), slices.Clone(p.Normals), slices.Clone(p.Tangents)
	p.UVs, p.Colours = slices.Clone(p.UVs), slices.Clone(p.Colours)
	for i := range p.UVs {
		p.UVs[i].Data = slices.Clone(p.UVs[i].Data)
	}
	for i := range p.Colours {
		p.Colours[i].Data = slices.Clone(p.Colours[i].Data)
	}
	return p
}

// appendPart adds the faces of b to a, whose lists are its own. Sets go by name; where one part lacks a
// set, or normals, it is filled: UVs with 0, colours with white, normals with
// those of the faces. It returns how many sets were filled.
func appendPart(a, b *scene.Part) (filled int) {
	n, m := a.Vertices(), b.Vertices()
	a.Positions = append(a.Positions, b.Positions...)
	if a.Normals != nil || b.Normals != nil {
		a.Normals = append(orNormals(a, n), orNormals(b, m)...)
	}
	// A tangent belongs to its normals and UVs: half of them is none.
	if a.Tangents == nil || b.Tangents == nil {
		a.Tangents = nil
	} else {
		a.Tangents = append(a.Tangents, b.Tangents...)
	}
	a.UVs, filled = appendSets(a.UVs, b.UVs, n, m, 2, 0)
	colours, f := appendSets(a.Colours, b.Colours, n, m, 4, 1)
	a.Colours, filled = colours, filled+f
	for _, list := range []struct{ to, from *[]uint32 }{{&a.Triangles, &b.Triangles}, {&a.Lines, &b.Lines}, {&a.Points, &b.Points}} {
		for _, v := range *list.from {
			*list.to = append(*list.to, v+uint32(n))
		}
	}
	a.NormalsMade = a.NormalsMade && b.NormalsMade
	if a.Quads == nil {
		a.Quads = b.Quads
	}
	return filled
}

func appendSets(a, b []scene.AttrSet, n, m, per int, fill float32) (out []scene.AttrSet, filled int) {
	filler := func(n int) []float32 {
		v := make([]float32, n*per)
		for i := range v {
			v[i] = fill
		}
		return v
	}
	used := make([]bool, len(b))
	for _, x := range a {
		k := slices.IndexFunc(b, func(y scene.AttrSet) bool { return y.Name == x.Name })
		if k < 0 {
			x.Data = append(x.Data, filler(m)...)
			filled++
		} else {
			used[k] = true
			x.Data = append(x.Data, b[k].Data...)
		}
		out = append(out, x)
	}
	for k, y := range b {
		if !used[k] {
			y.Data = append(filler(n), y.Data...)
			filled++
			out = append(out, y)
		}
	}
	return out, filled
}

// orNormals are a part's normals, or those of its faces, weighted by area.
func orNormals(p *scene.Part, n int) []float32 {
	if p.Normals != nil && len(p.Normals) >= 3*n {
		return p.Normals[:3*n]
	}
	out := make([]float32, 3*n)
	t := p.Triangles
	for i := 0; i+2 < len(t); i += 3 {
		f := faceNormal(p, t[i:i+3])
		for _, v := range t[i : i+3] {
			if int(v) < n {
				for k := range 3 {
					out[3*int(v)+k] += float32(f[k])
				}
			}
		}
	}
	for i := 0; i < len(out); i += 3 {
		x := geom.Vec3{float64(out[i]), float64(out[i+1]), float64(out[i+2])}.Norm()
		if x.Len() == 0 {
			x = geom.Vec3{0, 0, 1}
		}
		out[i], out[i+1], out[i+2] = float32(x[0]), float32(x[1]), float32(x[2])
	}
	return out
}

// faceNormal has twice the face's area for its length.
func faceNormal(p *scene.Part, t []uint32) geom.Vec3 {
	a, b, c := at3(p.Positions, t[0]), at3(p.Positions, t[1]), at3(p.Positions, t[2])
	return b.Sub(a).Cross(c.Sub(a))
}

func at3(v []float32, i uint32) geom.Vec3 {
	return geom.Vec3{float64(v[3*i]), float64(v[3*i+1]), float64(v[3*i+2])}
}
