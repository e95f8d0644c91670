package main

import (
	"bytes"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"math/rand/v2"

	"excavate/core/geom"
	"excavate/core/scene"
	"excavate/core/target"
)

// builder makes a sound asset: a hut of the ferry village, or a figure on the
// target's own skeleton.
type builder struct {
	s *scene.Scene
	r *rand.Rand
}

// picture adds a picture whose alpha is 255, or that of holes or glass.
func (b *builder) picture(name string, w, h int, alpha string) int {
	img := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			c := color.NRGBA{uint8(90 + b.r.IntN(60)), uint8(80 + b.r.IntN(60)), uint8(60 + b.r.IntN(60)), 255}
			switch {
			case alpha == "holes" && (x/4+y/4)%2 == 0:
				c.A = 0
			case alpha == "glass":
				c.A = 110
			}
			img.SetNRGBA(x, y, c)
		}
	}
	var out bytes.Buffer
	if err := png.Encode(&out, img); err != nil {
		panic(err) // memory only
	}
	b.s.Pictures = append(b.s.Pictures, scene.Picture{Name: name, Ref: name, MIME: "image/png", Width: w,
		Height: h, Found: "made here", Data: out.Bytes()})
	return len(b.s.Pictures) - 1
}

func (b *builder) material(name string, picture int, mode scene.AlphaMode) int {
	m := scene.NewMaterial(name)
	m.Alpha, m.Roughness = mode, float32(0.3+0.6*b.r.Float64())
	if picture >= 0 {
		m.Textures = []scene.Texture{{Role: scene.RoleColour, Picture: picture, Scale: 1}}
	}
	b.s.Materials = append(b.s.Materials, m)
	return len(b.s.Materials) - 1
}

// box is a part: a box between two corners, with normals and UVs.
func box(lo, hi geom.Vec3, material int) scene.Part {
	p := scene.Part{Material: material, UVs: []scene.AttrSet{{Name: "uv"}}}
	for axis := range 3 {
		for side := range 2 {
			n := [3]float32{}
			n[axis] = float32(2*side - 1)
			base := uint32(len(p.Positions) / 3)
			for k := range 4 {
				v := [3]float64{}
				v[axis] = [2]float64{lo[axis], hi[axis]}[side]
				a, c := (axis+1)%3, (axis+2)%3
				v[a], v[c] = [2]float64{lo[a], hi[a]}[k&1], [2]float64{lo[c], hi[c]}[k>>1]
				p.Positions = append(p.Positions, float32(v[0]), float32(v[1]), float32(v[2]))
				p.Normals = append(p.Normals, n[:]...)
				p.UVs[0].Data = append(p.UVs[0].Data, float32(k&1), float32(k>>1))
			}
			if side == 1 {
				p.Triangles = append(p.Triangles, base, base+1, base+3, base, base+3, base+2)
			} else {
				p.Triangles = append(p.Triangles, base, base+3, base+1, base, base+2, base+3)
			}
		}
	}
	return p
}

func (b *builder) node(name string, parts ...scene.Part) int {
	n := scene.NewNode(name)
	n.Mesh = len(b.s.Meshes)
	b.s.Meshes = append(b.s.Meshes, scene.Mesh{Name: name, Parts: parts})
	b.s.Nodes = append(b.s.Nodes, n)
	return len(b.s.Nodes) - 1
}

// hut is a static asset, Y up in metres.
func (b *builder) hut() {
	wall := b.material("plank_wall", b.picture("boards_c", 64, 64, ""), scene.Opaque)
	roof := b.material("reed_roof", b.picture("reed_c", 64, 32, ""), scene.Opaque)
	glass := b.material("pane_glass", b.picture("pane_c", 32, 32, "glass"), scene.Blend)
	reed := b.material("reed_foliage", b.picture("reed_o", 64, 64, "holes"), scene.Cutout)
	brass := b.material("brass", -1, scene.Opaque)
	w := 2 + b.r.Float64()*3
	b.node("floor", box(geom.Vec3{-w, 0, -w}, geom.Vec3{w, 0.2, w}, wall))
	b.node("walls", box(geom.Vec3{-w, 0.2, -w}, geom.Vec3{w, 2.8, -w + 0.15}, wall),
		box(geom.Vec3{0.2, 1, -w}, geom.Vec3{1, 2, -w + 0.05}, glass))
	b.node("roof", box(geom.Vec3{-w - 0.3, 2.8, -w - 0.3}, geom.Vec3{w + 0.3, 3, w + 0.3}, roof))
	b.node("hut_door", box(geom.Vec3{-0.5, 0.2, w - 0.1}, geom.Vec3{0.5, 2.3, w}, brass))
	b.node("reeds", box(geom.Vec3{w - 0.4, 0.2, w - 0.4}, geom.Vec3{w, 1.2, w}, reed))
}

// figure is a body of boxes on bones.
func (b *builder) figure(bones []target.SheetBone) {
	if len(bones) == 0 {
		bones = []target.SheetBone{{Name: "root"}, {Name: "hips", Parent: "root"},
			{Name: "chest", Parent: "hips"}, {Name: "head", Parent: "chest"},
			{Name: "arm_l", Parent: "chest"}, {Name: "arm_r", Parent: "chest"}, {Name: "leg_l", Parent: "hips"},
			{Name: "leg_r", Parent: "hips"}}
	}
	cloth := b.material("keeper_cloth", b.picture("cloth_c", 64, 64, ""), scene.Opaque)
	skin := scene.Skin{Name: "body", Root: scene.None}
	at := map[string]int{}
	world := map[string]geom.Vec3{}
	part := scene.Part{Material: cloth, Influences: 4, UVs: []scene.AttrSet{{Name: "uv"}}}
	for i, x := range bones {
		n := scene.NewNode(x.Name)
		n.Parent = scene.None
		p := geom.Vec3{float64(i%3)*0.2 - 0.2, 0.3, 0}
		if k, ok := at[x.Parent]; ok {
			n.Parent = k
			p = geom.Vec3{float64(i%3)*0.12 - 0.12, 0.05, 0}
		}
		n.Translation = [3]float32{float32(p[0]), float32(p[1]), 0}
		world[x.Name] = world[x.Parent].Add(p)
		at[x.Name] = len(b.s.Nodes)
		b.s.Nodes = append(b.s.Nodes, n)
		skin.Joints = append(skin.Joints, at[x.Name])
		o := world[x.Name]
		skin.InverseBind = append(skin.InverseBind, 1, 0, 0, 0, 0, 1, 0, 0, 0, 0, 1, 0, float32(-o[0]),
			float32(-o[1]), float32(-o[2]), 1)
		low := o[1] - 0.1
		if i == 0 {
			low = 0
		}
		one := box(geom.Vec3{o[0] - 0.1, max(low, 0), -0.1}, geom.Vec3{o[0] + 0.1, o[1] + 0.15, 0.1}, cloth)
		base := uint32(len(part.Positions) / 3)
		part.Positions = append(part.Positions, one.Positions...)
		part.Normals = append(part.Normals, one.Normals...)
		part.UVs[0].Data = append(part.UVs[0].Data, one.UVs[0].Data...)
		for _, t := range one.Triangles {
			part.Triangles = append(part.Triangles, base+t)
		}
		for range len(one.Positions) / 3 {
			part.Joints = append(part.Joints, uint16(i), 0, 0, 0)
			part.Weights = append(part.Weights, 1, 0, 0, 0)
		}
	}
	k := b.node("body", part)
	b.s.Nodes[k].Skin = 0
	b.s.Skins = []scene.Skin{skin}
}

// sound is an asset that a sheet takes, but for what its mends still do.
func sound(t *target.Sheet, figure bool, seed uint64) *scene.Scene {
	b := &builder{s: &scene.Scene{Basis: geom.GLTF}, r: rand.New(rand.NewPCG(seed, 7))}
	if figure {
		b.s.Name = fmt.Sprintf("figure_%d", seed)
		var bones []target.SheetBone
		if t.Skeleton != nil {
			bones = t.Skeleton.Bones
		}
		b.figure(bones)
	} else {
		b.s.Name = fmt.Sprintf("hut_%d", seed)
		b.hut()
	}
	return b.s
}
