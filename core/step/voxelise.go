package step

import (
	"context"
	"fmt"
	"image"
	"math"

	"excavate/core/geom"
	"excavate/core/limit"
	"excavate/core/pick"
	"excavate/core/pixel"
	"excavate/core/scene"
	"excavate/core/voxel"
)

// VoxeliseParams says what becomes voxels, and how fine.
type VoxeliseParams struct {
	Where
	Longest   int     `json:"longest" jsonschema:"title=Voxels along the longest side,minimum=1,maximum=1024"`
	Size      float64 `json:"size,omitempty" jsonschema:"title=Side of a voxel,minimum=0,description=Instead of a number along the longest side; 0 is by that" jsonschema_extras:"unit=m"`
	Fill      string  `json:"fill" jsonschema:"title=Fill,enum=solid,enum=shell,description=All within closed surfaces or the outermost voxels alone"`
	Thickness int     `json:"thickness" jsonschema:"title=Thickness of a shell,minimum=1,maximum=512,description=In voxels"`
	Touch     bool    `json:"touch" jsonschema:"title=Every voxel touched,description=Else those whose centre is inside; and where something is thinner than a voxel those that it goes through"`
	Alpha     float64 `json:"alpha" jsonschema:"title=Clear below,minimum=0,maximum=1,description=Surfaces of materials that blend are not there where their alpha is less; cutouts go by their own threshold"`
}

var _ = register(Kind{Name: "voxelise", Title: "Make voxels", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Make a grid of voxels of what is chosen, with the colours of its surfaces, filled or as a shell."},
	VoxeliseParams{Longest: 96, Fill: "solid", Thickness: 1, Alpha: 0.05}, voxelise)

func voxelise(ctx context.Context, s *scene.Scene, p VoxeliseParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.choose(s, r)
	if err != nil || !any {
		return s, err
	}
	g := &surfaces{s: s, blend: p.Alpha, images: map[int]*image.NRGBA{}}
	if err := g.gather(ctx, c); err != nil {
		return nil, err
	}
	if len(g.positions) == 0 {
		r.Nothing("what is chosen has no triangles")
		return s, nil
	}
	side, dims, err := p.grid(g.box, s.Basis.MetresPerUnit)
	if err != nil {
		return nil, err
	}
	for i := range g.positions {
		g.positions[i] = float32((g.exact[i] - g.box.Min[i%3]) / side)
	}
	in := &voxel.Input{Positions: g.positions, Colour: g.colour, Touch: p.Touch}
	if p.Fill == "shell" {
		in.Shell = p.Thickness
	}
	v, told, err := voxel.Make(ctx, in, dims)
	if err != nil {
		return nil, err
	}
	v.Size = float32(side)
	for k := range 3 {
		v.Origin[k] = float32(g.box.Min[k])
	}
	var gone Report
	out, err := takeOut(s, c, true, &gone)
	if err != nil {
		return nil, err
	}
	if out, err = withVolume(out, v, "voxels"); err != nil {
		return nil, err
	}
	r.Say(
		"%s of %s, %d × %d × %d; %s",
		count(told.Voxels, "voxel", "voxels"),
		lengthOf(side, s),
		dims[0],
		dims[1],
		dims[2],
		count(told.Surface, "shows a side", "show a side"),
	)
	if told.Thin > 0 {
		r.Say("%s for what is thinner than a voxel, or open", count(told.Thin, "voxel stands", "voxels stand"))
	}
	if told.Lost > 0 {
		r.Lose("%s of pieces that are smaller than a voxel", count(told.Lost, "triangle", "triangles"))
	}
	if told.Open > 0 {
		r.Say(
			"surfaces are open: %s into one and not out again; there the other directions decide",
			count(told.Open, "line goes", "lines go"),
		)
	}
	if a := askew(g); a > 3 {
		r.Say("walls stand %.0f° off the grid: turn to the grid first and they come out straight", a)
	}
	g.tellLosses(r)
	return out, nil
}

// grid is the side of a voxel in the scene's unit, and how many there are along
// each axis.
func (p *VoxeliseParams) grid(box geom.Box, unit float64) (side float64, dims [3]int, err error) {
	size := box.Size()
	side = max(size[0], size[1], size[2]) / float64(p.Longest)
	if p.Size > 0 {
		side = p.Size
		if unit > 0 {
			side /= unit
		}
	}
	if !(side > 0) {
		return 0, dims, fmt.Errorf("what is chosen has no size")
	}
	for k := range 3 {
		n := math.Ceil(size[k]/side - 1e-6)
		if n > limit.VolumeSide {
			return 0, dims, fmt.Errorf(
				"voxels of %g m would be %.0f along one side; there are at most %d",
				p.Size,
				n,
				limit.VolumeSide,
			)
		}
		dims[k] = max(1, int(n))
	}
	return side, dims, nil
}

// surfaces are the triangles that voxels are made of, as they are posed, and what
// is seen at them.
type surfaces struct {
	s         *scene.Scene
	blend     float64
	images    map[int]*image.NRGBA // colour pictures by number
	exact     []float64
	positions []float32
	part      []int32 // of each triangle, its place in parts
	corner    []uint32
	parts     []surfacePart
	box       geom.Box
}

// surfacePart is a part as it is looked at.
type surfacePart struct {
	base    [4]float32
	cut     float64 // alpha below which nothing is there
	img     *image.NRGBA
	t       *scene.Texture
	uv      []float32
	colours []float32
	glows   bool
}

func (g *surfaces) gather(ctx context.Context, c *pick.Chosen) error {
	g.box = geom.EmptyBox()
	world := g.s.World()
	for i := range g.s.Nodes {
		m := g.s.Nodes[i].Mesh
		if m < 0 {
			continue
		}
		if err := ctx.Err(); err != nil {
			return err
		}
		for k := range g.s.Meshes[m].Parts {
			q := &g.s.Meshes[m].Parts[k]
			take := taken(g.s, c.Part(i, k), c.Triangles(i, k), i, k)
			if len(q.Triangles) == 0 || !anyOf(take) {
				continue
			}
			look, err := g.look(q)
			if err != nil {
				return err
			}
			bare := *q
			bare.Normals = nil
			pos, _ := g.s.Posed(i, &bare, world)
			n := int32(len(g.parts))
			g.parts = append(g.parts, look)
			for t := 0; t+2 < len(q.Triangles); t += 3 {
				if !take[t/3] {
					continue
				}
				for _, v := range q.Triangles[t : t+3] {
					at := geom.At(pos, v)
					g.box.Add(at)
					g.exact = append(g.exact, at[0], at[1], at[2])
					g.corner = append(g.corner, v)
				}
				g.part = append(g.part, n)
			}
		}
	}
	g.positions = make([]float32, len(g.exact))
	return nil
}

func anyOf(list []bool) bool {
	for _, b := range list {
		if b {
			return true
		}
	}
	return false
}

// look is how a part looks: its material's colour and picture, and its vertex
// colours, which multiply (glTF 2.0, 3.7.2.1).
func (g *surfaces) look(q *scene.Part) (surfacePart, error) {
	x := surfacePart{base: [4]float32{1, 1, 1, 1}, cut: -1}
	if len(q.Colours) > 0 {
		x.colours = q.Colours[0].Data
	}
	if q.Material < 0 {
		return x, nil
	}
	m := &g.s.Materials[q.Material]
	x.base = m.BaseColour
	switch m.Alpha {
	case scene.Cutout:
		x.cut = float64(m.Cutoff)
	case scene.Blend:
		x.cut = g.blend
	}
	x.glows = m.Emissive != [3]float32{}
	t := m.Texture(scene.RoleColour)
	if t == nil || t.UVSet >= len(q.UVs) || g.s.Pictures[t.Picture].Missing() {
		return x, nil
	}
	img := g.images[t.Picture]
	if img == nil {
		var err error
		if img, err = pixels(&g.s.Pictures[t.Picture]); err != nil {
			return x, err
		}
		g.images[t.Picture] = img
	}
	x.img, x.t, x.uv = img, t, q.UVs[t.UVSet].Data
	if t.Transform != nil {
		x.uv = transformedUVs(x.uv, t.Transform)
	}
	return x, nil
}

// colour is what is seen of a triangle at a place within it.
func (g *surfaces) colour(t int, share [3]float64) (out [3]uint8, there bool) {
	x := &g.parts[g.part[t]]
	c := [4]float64{float64(x.base[0]), float64(x.base[1]), float64(x.base[2]), float64(x.base[3])}
	at := g.corner[3*t : 3*t+3]
	if x.img != nil {
		var u, v float64
		for k, i := range at {
			u += share[k] * float64(x.uv[2*i])
			v += share[k] * float64(x.uv[2*i+1])
		}
		for k, f := range colourAt(x.img, u, v, x.t) {
			c[k] *= f
		}
	}
	if x.colours != nil {
		for k := range c {
			sum := 0.0
			for j, i := range at {
				sum += share[j] * float64(x.colours[4*int(i)+k])
			}
			c[k] *= sum
		}
	}
	for k := range out {
		out[k] = pixel.Stored(c[k])
	}
	return out, c[3] >= x.cut
}

// askew is by how many degrees the walls of what is made voxels of stand off the
// grid, by their area; 0 where they have no direction.
func askew(g *surfaces) float64 {
	up := g.s.Basis.Up
	if up == 0 {
		return 0
	}
	axis := up.Vec()
	var east, north geom.Vec3
	for k := range 3 {
		if axis[k] == 0 {
			east[k] = 1
			break
		}
	}
	north = axis.Cross(east)
	// Directions a quarter turn apart are one: four times the angle.
	var x, y, all float64
	for t := 0; t+8 < len(g.exact); t += 9 {
		a := geom.Vec3(g.exact[t : t+3])
		n := geom.Vec3(g.exact[t+3 : t+6]).Sub(a).Cross(geom.Vec3(g.exact[t+6 : t+9]).Sub(a))
		e, o := n.Dot(east), n.Dot(north)
		area := math.Hypot(e, o)
		if area == 0 || math.Abs(n.Dot(axis)) > 0.1*area {
			continue
		}
		s, c := math.Sincos(4 * math.Atan2(o, e))
		x, y, all = x+area*c, y+area*s, all+area
	}
	if all == 0 || math.Hypot(x, y) < 0.5*all {
		return 0
	}
	return math.Abs(math.Atan2(y, x)) / 4 * 180 / math.Pi
}

func (g *surfaces) tellLosses(r *Report) {
	glows, clear := 0, 0
	for i := range g.parts {
		if g.parts[i].glows {
			glows++
		}
		if g.parts[i].cut >= 0 && g.parts[i].cut == g.blend {
			clear++
		}
	}
	if glows > 0 {
		r.Lose("the glow of %s", count(glows, "part", "parts"))
	}
	if clear > 0 {
		r.Lose("%s lets light through: voxels do not", count(clear, "part", "parts"))
	}
	if len(g.s.Motions) > 0 || len(g.s.Skins) > 0 {
		r.Lose("pose and weights: voxels stand as the figure stands at rest")
	}
}

// lengthOf says a length in metres, or in the scene's unit where that is not
// known.
func lengthOf(v float64, s *scene.Scene) string {
	if m := s.Basis.MetresPerUnit; m > 0 {
		return fmt.Sprintf("%.4g m", v*m)
	}
	return fmt.Sprintf("%.4g units", v)
}

// withVolume adds a node with a volume, and its surfaces, to a scene.
func withVolume(s *scene.Scene, v *scene.Volume, name string) (*scene.Scene, error) {
	out := *s
	out.Materials = append(cloned(s.Materials), scene.NewMaterial(name))
	mesh, err := surfaced(scene.Mesh{Name: name}, v, len(out.Materials)-1)
	if err != nil {
		return nil, err
	}
	out.Meshes = append(cloned(s.Meshes), mesh)
	n := scene.NewNode(name)
	n.Mesh = len(out.Meshes) - 1
	out.Nodes = append(cloned(s.Nodes), n)
	return &out, nil
}

// surfaced is a mesh with a volume and its surfaces as the only part.
func surfaced(m scene.Mesh, v *scene.Volume, material int) (scene.Mesh, error) {
	part, err := voxel.Surface(v, material)
	if err != nil {
		return m, err
	}
	own := *v
	m.Parts = []scene.Part{part}
	own.Faces = scene.Fingerprint(m.Parts)
	m.Volume = &own
	return m, nil
}

// eachVolume makes other volumes of those of the chosen meshes. What is chosen
// without having one is passed over.
func eachVolume(
	ctx context.Context,
	s *scene.Scene,
	c *pick.Chosen,
	r *Report,
	f func(v *scene.Volume) (*scene.Volume, error),
) (*scene.Scene, error) {
	volumes := 0
	out, err := eachMesh(s, c, func(m scene.Mesh, _ []bool) (scene.Mesh, error) {
		if err := ctx.Err(); err != nil {
			return m, err
		}
		v := m.Voxels()
		if v == nil {
			return m, nil
		}
		volumes++
		made, err := f(v)
		if err != nil || made == nil {
			return m, err
		}
		if voxel.Count(made) == 0 {
			return m, fmt.Errorf("no voxel of %s is left", m.Name)
		}
		material := scene.None
		if len(m.Parts) > 0 {
			material = m.Parts[0].Material
		}
		return surfaced(m, made, material)
	})
	switch {
	case err != nil:
		return nil, err
	case volumes == 0:
		r.Nothing("nothing that is chosen has voxels; the step voxelise makes them, and one that moves their surface ends them")
		return s, nil
	}
	return out, nil
}
