package demo

import (
	_ "embed"
	"fmt"
	"image"
	"math"
)

// VillageChain is the chain that brings the village to an engine.
//
//go:embed village.yaml
var VillageChain []byte

// HutBlocks is the chain that builds one of its houses of blocks.
//
//go:embed hut_blocks.yaml
var HutBlocks []byte

const (
	villageHuts  = 28
	villageReeds = 100
)

// stilts is one GLB in the making, with a mesh of each shape.
type stilts struct {
	g                    glbBuilder
	nodes, meshes        []m
	textures, images     []m
	buildings, reedGroup []int
}

// villageGLB writes the stilt village as a scene painter exported it: 400 nodes
// in one file, hulls and triggers of the old game in it, materials doubled by a
// second import, glass and foliage that lost what was clear of them, whole and
// broken states of huts, no colliders.
func villageGLB() []byte {
	v := &stilts{}
	wall := v.mesh("hut_walls", dressed{v.box(v3{-2, 1.6, -2.5}, v3{2, 4, 2.5}), 0}, dressed{v.box(v3{-0.6, 2.4, 2.5}, v3{0.6, 3.3, 2.54}), 4})
	again := v.mesh("hut_walls", dressed{v.box(v3{-2, 1.6, -2.5}, v3{2, 4, 2.5}), 1}, dressed{v.box(v3{-0.6, 2.4, 2.5}, v3{0.6, 3.3, 2.54}), 4})
	roof := v.mesh("hut_roof", dressed{v.gable(2.6, 3.1, 4, 5.6), 2})
	post := v.mesh("post", dressed{v.box(v3{-0.12, -1.2, -0.12}, v3{0.12, 1.6, 0.12}), 0})
	door := v.mesh("door", dressed{v.box(v3{-0.45, 0, -0.04}, v3{0.45, 1.9, 0.04}), 1})
	ladder := v.mesh("ladder", dressed{v.box(v3{-0.3, -1.2, -0.05}, v3{0.3, 1.6, 0.05}), 0})
	clip := v.mesh("clip", dressed{v.box(v3{-2.6, -1.2, -3.1}, v3{2.6, 5.6, 3.1}), 5})
	trigger := v.mesh("trigger", dressed{v.box(v3{-1, 0, -1}, v3{1, 2, 1}), 6})
	reed := v.mesh("reed", dressed{v.crossed(1.1, 1.5), 3})

	for i := range villageHuts {
		row, col := i/7, i%7
		state := "whole"
		if i%9 == 4 {
			state = "broken"
		}
		name := fmt.Sprintf("hut_%02d", i+1)
		at := v3{float64(col)*9 + 2*wave(float64(i)*0.37), 0, float64(row)*12 + 1.5*wave(float64(i)*0.61)}
		angle := 12 * (wave(float64(i)*0.23) - 0.5)
		walls := wall
		if i%2 == 1 {
			walls = again
		}
		children := []int{v.node(m{"name": name + "_walls", "mesh": walls}), v.node(m{"name": name + "_roof", "mesh": roof}),
			v.node(m{"name": name + "_door", "mesh": door, "translation": v3{-1.2, 1.7, 2.53}, "extras": m{"class": "door"}}),
			v.node(m{"name": name + "_ladder", "mesh": ladder, "translation": v3{-1.2, 0, 2.9}}),
			v.node(m{"name": name + "_clip", "mesh": clip})}
		for k := range 4 {
			children = append(children, v.node(m{"name": fmt.Sprintf("%s_post_%d", name, k+1), "mesh": post, "translation": v3{float64(k%2)*3.6 - 1.8, 0, float64(k/2)*4.6 - 2.3}}))
		}
		v.buildings = append(v.buildings, v.node(m{"name": name, "children": children, "translation": at, "rotation": turn(v3{0, 1, 0}, angle), "extras": m{"class": "hut", "state": state}}))
	}
	for i := range villageReeds {
		a := 2.399963 * float64(i) // by the golden angle, so that no two stand in line
		r := 6 + 3.4*math.Sqrt(float64(i))
		v.reedGroup = append(v.reedGroup, v.node(m{"name": fmt.Sprintf("reed_%03d", i+1), "mesh": reed, "translation": v3{27 + 1.5*r*math.Cos(a), -1.2, 18 + r*math.Sin(a)},
			"rotation": turn(v3{0, 1, 0}, 40*float64(i))}))
	}
	triggers := []int{}
	for i := range 9 {
		triggers = append(triggers, v.node(m{"name": fmt.Sprintf("trigger_%d", i+1), "mesh": trigger, "translation": v3{float64(i) * 6, 0, 6}}))
	}
	spawns := []int{}
	for i := range 7 {
		spawns = append(spawns, v.node(m{"name": fmt.Sprintf("spawn_%d", i+1), "translation": v3{float64(i) * 8, 0, 3}, "extras": m{"class": "spawn"}}))
	}
	roots := []int{v.node(m{"name": "Buildings", "children": v.buildings}), v.node(m{"name": "Reeds", "children": v.reedGroup}),
		v.node(m{"name": "Game", "children": append(triggers, spawns...)}), v.node(m{"name": "view", "camera": 0, "translation": v3{27, 20, 70}})}
	return v.file(roots)
}

type dressed struct {
	surface  *surface
	material int
}

func (v *stilts) mesh(name string, parts ...dressed) int {
	primitives := []m{}
	for _, p := range parts {
		attributes, indices := v.g.surface(p.surface)
		primitives = append(primitives, m{"attributes": attributes, "indices": indices, "material": p.material})
	}
	v.meshes = append(v.meshes, m{"name": name, "primitives": primitives})
	return len(v.meshes) - 1
}

func (v *stilts) node(n m) int {
	v.nodes = append(v.nodes, n)
	return len(v.nodes) - 1
}

func (v *stilts) box(min, max v3) *surface {
	s := &surface{}
	s.box(min, max, rect{0, 0, 1, 1}, bind{})
	return s
}

// gable is a roof of two slopes and two ends, from the eaves up to the ridge.
func (v *stilts) gable(w, d, eaves, ridge float64) *surface {
	s := &surface{}
	flat := func(p ...v3) {
		n := p[1].sub(p[0]).cross(p[2].sub(p[0])).unit()
		first := len(s.verts)
		for i, x := range p {
			uv := [][2]float64{{0, 0.8}, {1, 0.8}, {1, 0}, {0, 0}}[i]
			s.verts = append(s.verts, vertex{p: x, n: n, u: uv[0], v: uv[1]})
		}
		for i := 1; i+1 < len(p); i++ {
			s.tri(first, first+i, first+i+1)
		}
	}
	flat(v3{-w, eaves, d}, v3{-w, eaves, -d}, v3{0, ridge, -d}, v3{0, ridge, d})
	flat(v3{w, eaves, -d}, v3{w, eaves, d}, v3{0, ridge, d}, v3{0, ridge, -d})
	flat(v3{-w, eaves, d}, v3{0, ridge, d}, v3{w, eaves, d})
	flat(v3{w, eaves, -d}, v3{0, ridge, -d}, v3{-w, eaves, -d})
	return s
}

// crossed is a clump of reed: two sheets that cross.
func (v *stilts) crossed(w, h float64) *surface {
	s := &surface{}
	for _, dir := range []v3{{1, 0, 0}, {0, 0, 1}} {
		n := v3{dir[2], 0, dir[0]}
		first := len(s.verts)
		for _, uv := range [][2]float64{{0, 1}, {1, 1}, {1, 0}, {0, 0}} {
			p := dir.mul((uv[0] - 0.5) * w)
			p[1] = (1 - uv[1]) * h
			s.verts = append(s.verts, vertex{p: p, n: n, u: uv[0], v: uv[1]})
		}
		s.tri(first, first+1, first+2)
		s.tri(first, first+2, first+3)
	}
	return s
}

func (v *stilts) picture(name string, img *image.NRGBA) m {
	v.images = append(v.images, m{"name": name, "bufferView": v.g.view(pngBytes(img), 0), "mimeType": "image/png"})
	v.textures = append(v.textures, m{"source": len(v.images) - 1})
	return m{"index": len(v.textures) - 1}
}

func (v *stilts) file(roots []int) []byte {
	boards, thatch := v.picture("boards_c", planks(4, rgb{0.55, 0.50, 0.43}, 11)), v.picture("thatch_c", reedThatch())
	reeds, pane := v.picture("reed_c", reedColour()), v.picture("pane_c", paneGlass())
	dull := func(name string, colour m) m {
		return m{"name": name, "pbrMetallicRoughness": m{"baseColorTexture": colour, "metallicFactor": 0, "roughnessFactor": 0.9}}
	}
	tool := func(name string, r, g, b float64) m {
		return m{"name": name, "pbrMetallicRoughness": m{"baseColorFactor": []float64{r, g, b, 1}, "metallicFactor": 0}}
	}
	return v.g.file(m{
		"asset": m{"version": "2.0", "generator": "Sedgewater scene painter", "copyright": "Village council of Sedgewater, CC-BY-4.0"},
		"scene": 0, "scenes": []m{{"name": "stilt village", "nodes": roots}}, "nodes": v.nodes, "meshes": v.meshes,
		"cameras": []m{{"type": "perspective", "perspective": m{"yfov": 0.8, "znear": 0.1}}},
		"materials": []m{dull("plank_wall", boards), dull("plank_wall.001", boards), dull("reed_roof", thatch), dull("reed_foliage", reeds),
			{"name": "pane_glass", "pbrMetallicRoughness": m{"baseColorTexture": pane, "metallicFactor": 0, "roughnessFactor": 0.1}},
			tool("tool_clip", 0.62, 0.25, 0.2), tool("tool_trigger", 0.75, 0.6, 0.2)},
		"textures": v.textures, "images": v.images,
	})
}

// reedStands tells whether a reed stands at a place of its picture.
func reedStands(u, v float64) bool {
	stalk := math.Mod(u*9+0.35*math.Sin(5*v+3*math.Floor(u*9)), 1)
	return stalk > 0.08 && stalk < 0.3+0.6*v && v > 0.25*wave(math.Floor(u*9)*0.31)
}

// reedColour and reedOpacity are one reed, its colour and where it is.
func reedColour() *image.NRGBA {
	return canvas(128, 128, 21).each(func(u, v float64) (rgb, float64) {
		return mix(rgb{0.52, 0.55, 0.26}, straw, wave(u*17+v)), 1
	}).NRGBA
}

func reedOpacity() *image.NRGBA {
	return canvas(128, 128, 22).each(func(u, v float64) (rgb, float64) {
		if reedStands(u, v) {
			return rgb{1, 1, 1}, 1
		}
		return rgb{}, 1
	}).NRGBA
}

// paneGlass is clear between its bars.
func paneGlass() *image.NRGBA {
	return canvas(64, 64, 23).each(func(u, v float64) (rgb, float64) {
		if math.Mod(u*3, 1) < 0.12 || math.Mod(v*2, 1) < 0.1 {
			return tar, 1
		}
		return rgb{0.62, 0.74, 0.72}, 0.35 + 0.1*wave(u*5+v*3)
	}).NRGBA
}
