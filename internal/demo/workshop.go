package demo

import (
	_ "embed"
	"fmt"
	"image"
	"math"
	"math/rand"
	"strings"
)

// The chains of the workshop's two things.
var (
	//go:embed punt_rework.yaml
	PuntRework []byte
	//go:embed heron_bricks.yaml
	HeronBricks []byte
)

// workshop is what the archive workshop.zip holds.
func workshop() map[string][]byte {
	return map[string][]byte{
		"race_punt.glb": racePuntGLB(), "heron_shapes.glb": heronShapesGLB(), "heron_colours.obj": heronColours(),
		"heron_colours.mtl": heronLibrary(), "licence.txt": []byte("Owner: Boatyard of Sedgewater\nCC-BY-4.0\n"),
	}
}

// worked is the surface of a thing with three UV sets, under the numbers that
// its file gives them.
type worked struct {
	pos, nrm []float64
	sets     [3][]float64
	tris     [][3]int
}

func (w *worked) vertex(p, n v3, sets [3][2]float64) int {
	w.pos, w.nrm = append(w.pos, p[0], p[1], p[2]), append(w.nrm, n[0], n[1], n[2])
	for k := range sets {
		w.sets[k] = append(w.sets[k], sets[k][0], sets[k][1])
	}
	return len(w.pos)/3 - 1
}

// part is a primitive with the sets in an order: which of them is TEXCOORD_0,
// which TEXCOORD_1 and which TEXCOORD_2.
func (w *worked) part(g *glbBuilder, order [3]int, material int) m {
	attributes := m{"POSITION": g.vec(w.pos, 3, true), "NORMAL": g.vec(w.nrm, 3, false)}
	for k, set := range order {
		attributes[fmt.Sprintf("TEXCOORD_%d", k)] = g.vec(w.sets[set], 2, false)
	}
	return m{"attributes": attributes, "indices": g.indices(w.tris), "material": material}
}

const (
	racePuntAcross = 16
	racePuntAlong  = 28
)

// racePuntGLB is a racing punt as a game's export left it: its outside split
// along edges by chance, three UV sets without names and in another order on
// the deck than on the hull, a livery that is another on either side.
func racePuntGLB() []byte {
	chance := rand.New(rand.NewSource(5))
	hull, deck := &worked{}, &worked{}
	// Half an ellipse across, narrower and shallower towards the ends. The
	// halves are equal to the last bit: cosines are taken of one half only.
	at := func(i, j int) v3 {
		z := 6.4*float64(j)/racePuntAlong - 3.2
		slim := math.Sqrt(math.Max(0.06, 1-z*z/11.5))
		k := min(i, racePuntAcross-i)
		a := math.Pi * float64(k) / racePuntAcross
		x := 0.5 * slim * math.Cos(a)
		if k == i {
			x = -x
		}
		if 2*i == racePuntAcross {
			x = 0
		}
		return v3{x, 0.55 - 0.42*slim*math.Sin(a), z}
	}
	smooth := func(i, j int) v3 {
		dx := at(min(i+1, racePuntAcross), j).sub(at(max(i-1, 0), j))
		dz := at(i, min(j+1, racePuntAlong)).sub(at(i, max(j-1, 0)))
		return dz.cross(dx).unit().mul(-1)
	}
	uv := func(i, j int) [3][2]float64 {
		u, v := float64(i)/racePuntAcross, float64(j)/racePuntAlong
		side := math.Abs(2*u - 1)
		return [3][2]float64{{side, v * 3}, {side, v}, {u, v}} // planks and dirt the same on both sides, the livery once round
	}
	shared := map[[2]int]int{}
	for j := range racePuntAlong {
		for i := range racePuntAcross {
			corners := [4][2]int{{i, j}, {i + 1, j}, {i + 1, j + 1}, {i, j + 1}}
			alone := chance.Float64() < 0.3 // a face that the export split off, with a normal of its own
			var own v3
			if alone {
				own = at(i+1, j).sub(at(i, j)).cross(at(i, j+1).sub(at(i, j))).unit()
			}
			var n [4]int
			for k, c := range corners {
				v, ok := shared[c]
				if alone || !ok {
					normal := own
					if !alone {
						normal = smooth(c[0], c[1])
					}
					v = hull.vertex(at(c[0], c[1]), normal, uv(c[0], c[1]))
				}
				if n[k] = v; !alone {
					shared[c] = v
				}
			}
			hull.tris = append(hull.tris, [3]int{n[0], n[1], n[2]}, [3]int{n[0], n[2], n[3]})
		}
	}
	for j := range racePuntAlong + 1 {
		for _, i := range []int{0, racePuntAcross} {
			p := at(i, j)
			u, v := float64(i)/racePuntAcross, float64(j)/racePuntAlong
			deck.vertex(v3{p[0], 0.5, p[2]}, v3{0, 1, 0}, [3][2]float64{{u, 3 * v}, {math.Abs(2*u - 1), v}, {u, v}})
		}
		if j > 0 {
			k := 2 * j
			deck.tris = append(deck.tris, [3]int{k - 2, k, k + 1}, [3]int{k - 2, k + 1, k - 1})
		}
	}
	g := &glbBuilder{}
	images := []m{}
	for _, p := range []struct {
		name string
		img  *image.NRGBA
	}{{"race_livery_c", raceLivery()}, {"race_dirt_o", raceDirt()}, {"race_deck_c", planks(5, wood, 31)}} {
		images = append(images, m{"name": p.name, "bufferView": g.view(pngBytes(p.img), 0), "mimeType": "image/png"})
	}
	painted := func(name string, picture, set, dirt int) m {
		return m{"name": name, "pbrMetallicRoughness": m{"baseColorTexture": m{"index": picture, "texCoord": set}, "metallicFactor": 0, "roughnessFactor": 0.5},
			"occlusionTexture": m{"index": 1, "texCoord": dirt}}
	}
	meshes := []m{
		{"name": "race_hull", "primitives": []m{hull.part(g, [3]int{0, 1, 2}, 0)}},
		{"name": "race_deck", "primitives": []m{deck.part(g, [3]int{0, 2, 1}, 1)}},
	}
	return g.file(m{
		"asset": m{"version": "2.0", "generator": "Sedgewater boatyard", "copyright": "Boatyard of Sedgewater, CC-BY-4.0"},
		"scene": 0, "scenes": []m{{"nodes": []int{0}}},
		"nodes":     []m{{"name": "race_punt", "children": []int{1, 2}}, {"name": "hull", "mesh": 0}, {"name": "deck", "mesh": 1}},
		"meshes":    meshes,
		"materials": []m{painted("race_hull", 0, 2, 1), painted("race_deck", 2, 0, 2)},
		"textures":  []m{{"source": 0}, {"source": 1}, {"source": 2}}, "images": images,
	})
}

// raceLivery is red on one side and blue on the other, with a band of straw.
func raceLivery() *image.NRGBA {
	return canvas(256, 256, 32).each(func(u, v float64) (rgb, float64) {
		side := math.Abs(2*u - 1)
		switch {
		case side > 0.82 && side < 0.9:
			return straw, 1
		case u < 0.5:
			return mix(madder, tar, 0.4*(1-side)), 1
		}
		return mix(slateBlue, tar, 0.4*(1-side)), 1
	}).NRGBA
}

// raceDirt is darker towards the keel.
func raceDirt() *image.NRGBA {
	return canvas(128, 128, 33).each(func(u, v float64) (rgb, float64) {
		x := 0.55 + 0.45*u*(0.8+0.2*wave(7*v))
		return rgb{x, x, x}, 1
	}).NRGBA
}

// brick is a box of the heron and its colour, in metres.
type brick struct {
	name     string
	min, max v3
	colour   string
}

// heronOfBricks is the heron automaton as children build it.
func heronOfBricks() (out []brick) {
	add := func(name, colour string, x, y, z, w, h, d float64) {
		out = append(out, brick{fmt.Sprintf("%s_%02d", name, len(out)+1), v3{x - w/2, y, z - d/2}, v3{x + w/2, y + h, z + d/2}, colour})
	}
	for _, x := range []float64{-0.08, 0.08} {
		add("foot", "brass", x, 0, 0.04, 0.08, 0.03, 0.16)
		for k := range 4 {
			add("leg", "brass", x, 0.03+0.1*float64(k), 0, 0.04, 0.1, 0.04)
		}
	}
	for k := range 5 {
		w := []float64{0.16, 0.24, 0.28, 0.24, 0.14}[k]
		add("body", "ash", 0, 0.43+0.06*float64(k), -0.02*float64(k), w, 0.06, 0.3+0.06*float64(k%3))
	}
	for _, x := range []float64{-0.17, 0.17} {
		for k := range 3 {
			add("wing", "slate", x, 0.5+0.05*float64(k), -0.1-0.06*float64(k), 0.05, 0.05, 0.3)
		}
	}
	for k := range 6 {
		add("neck", "ash", 0, 0.73+0.06*float64(k), 0.12+0.02*math.Sin(float64(k)), 0.07, 0.06, 0.07)
	}
	add("head", "ash", 0, 1.09, 0.15, 0.09, 0.08, 0.13)
	add("crest", "slate", 0, 1.16, 0.08, 0.03, 0.03, 0.16)
	add("beak", "brass", 0, 1.11, 0.31, 0.03, 0.03, 0.19)
	return out
}

const heronScale = 400

// heronShapesGLB is the heron's shapes: every brick a node of its own in small
// numbers, all below a parent that is 400 times as large, in one grey.
func heronShapesGLB() []byte {
	g := &glbBuilder{}
	var nodes, meshes []m
	var children []int
	nodes = append(nodes, nil)
	for _, b := range heronOfBricks() {
		s := &surface{}
		middle := b.min.lerp(b.max, 0.5)
		s.box(b.min.sub(middle).mul(1.0/heronScale), b.max.sub(middle).mul(1.0/heronScale), rect{0, 0, 1, 1}, bind{})
		attributes, indices := g.surface(s)
		meshes = append(meshes, m{"name": b.name, "primitives": []m{{"attributes": attributes, "indices": indices, "material": 0}}})
		children = append(children, len(nodes))
		nodes = append(nodes, m{"name": b.name, "mesh": len(meshes) - 1, "translation": middle.mul(1.0 / heronScale)})
	}
	nodes[0] = m{"name": "heron", "children": children, "scale": v3{heronScale, heronScale, heronScale}, "translation": v3{3, 0, -2}}
	return g.file(m{
		"asset": m{"version": "2.0", "generator": "Sedgewater brick builder", "copyright": "Boatyard of Sedgewater, CC-BY-4.0"},
		"scene": 0, "scenes": []m{{"nodes": []int{0}}}, "nodes": nodes, "meshes": meshes,
		"materials": []m{{"name": "brick", "pbrMetallicRoughness": m{"baseColorFactor": []float64{0.5, 0.5, 0.5, 1}, "metallicFactor": 0}}},
	})
}

// heronColours is the heron's other export: the same bricks in one mesh, in
// centimetres, with a material for each colour.
func heronColours() []byte {
	var b strings.Builder
	b.WriteString("# Sedgewater brick builder, colours\nmtllib heron_colours.mtl\n")
	n := 1
	for _, x := range heronOfBricks() {
		s := &surface{}
		s.box(x.min.mul(100), x.max.mul(100), rect{0, 0, 1, 1}, bind{})
		fmt.Fprintf(&b, "usemtl %s\n", x.colour)
		for _, v := range s.verts {
			fmt.Fprintf(&b, "v %.4f %.4f %.4f\n", v.p[0], v.p[1], v.p[2])
		}
		for _, t := range s.tris {
			fmt.Fprintf(&b, "f %d %d %d\n", t[0]+n, t[1]+n, t[2]+n)
		}
		n += len(s.verts)
	}
	return []byte(b.String())
}

func heronLibrary() []byte {
	return []byte("newmtl brass\nKd 0.72 0.55 0.22\nPm 1\nPr 0.35\n\nnewmtl ash\nKd 0.62 0.63 0.60\n\nnewmtl slate\nKd 0.26 0.36 0.43\n")
}
