package demo

import (
	_ "embed"
	"fmt"
	"image"
	"math"
	"strings"
)

// WeirHouse is the chain that takes the weir house to an engine.
//
//go:embed weir_house.yaml
var WeirHouse []byte

// levels is what the archive levels.zip holds: a game's weir house as solids,
// once closed and once with a board of the roof left out.
func levels() map[string][]byte {
	return map[string][]byte{
		"maps/weir_house.map":         []byte(weirHouse(false)),
		"maps/weir_house_draught.map": []byte(weirHouse(true)),
		"textures/weir/boards.png":    pngBytes(planks(4, rgb{0.55, 0.50, 0.43}, 11)),
		"textures/weir/beams.png":     pngBytes(planks(9, rgb{0.35, 0.27, 0.20}, 3)),
		"textures/weir/stone.png":     pngBytes(stones()),
		"textures/weir/thatch.png":    pngBytes(reedThatch()),
		"licence.txt":                 []byte("Owner: Sedgewater Lantern Company\nThe levels of this game are for private use.\n"),
	}
}

func stones() image.Image {
	return canvas(128, 128, 21).each(func(u, v float64) (rgb, float64) {
		row := math.Floor(v * 6)
		x := math.Mod(u*4+0.5*math.Mod(row, 2), 1)
		y := math.Mod(v*6, 1)
		if x < 0.05 || y < 0.08 {
			return rgb{0.32, 0.31, 0.29}, 1
		}
		return mix(rgb{0.55, 0.54, 0.50}, rgb{0.42, 0.43, 0.42},
			0.5+0.5*wave(row*3.7+math.Floor(u*4+0.5*row)*1.9+0.2*wave(u*40))), 1
	})
}

// mapText writes a level. A unit is 1/32 m, Z is up.
type mapText struct{ strings.Builder }

func (m *mapText) entity(keys string, inside func()) {
	m.WriteString("{\n")
	for line := range strings.SplitSeq(keys, "; ") {
		key, value, _ := strings.Cut(line, " ")
		fmt.Fprintf(m, "%q %q\n", key, value)
	}
	if inside != nil {
		inside()
	}
	m.WriteString("}\n")
}

// prism writes a solid of an outline, counter-clockwise in the plane of the
// axes u and v, from a to b along the third one.
func (m *mapText) prism(axis int, outline [][2]float64, a, b float64, lay string) {
	at := func(p [2]float64, along float64) string {
		var q [3]float64
		q[(axis+1)%3], q[(axis+2)%3], q[axis] = p[0], p[1], along
		return fmt.Sprintf("( %g %g %g ) ", q[0], q[1], q[2])
	}
	m.WriteString("{\n")
	o := outline
	m.WriteString(at(o[0], b) + at(o[2], b) + at(o[1], b) + lay + "\n")
	m.WriteString(at(o[0], a) + at(o[1], a) + at(o[2], a) + lay + "\n")
	for i := range o {
		j := (i + 1) % len(o)
		m.WriteString(at(o[i], a) + at(o[i], b) + at(o[j], b) + lay + "\n")
	}
	m.WriteString("}\n")
}

// block writes a box.
func (m *mapText) block(x0, y0, z0, x1, y1, z1 float64, lay string) {
	m.prism(2, [][2]float64{{x0, y0}, {x1, y0}, {x1, y1}, {x0, y1}}, z0, z1, lay)
}

// arch writes a curved patch over a doorway along y, between two heights.
func (m *mapText) arch(x0, x1, y0, y1, foot, top float64, material string) {
	fmt.Fprintf(m, "{\npatchDef2\n{\n%s\n( 3 3 0 0 0 )\n(\n", material)
	for i, p := range [3][2]float64{{y0, foot}, {(y0 + y1) / 2, 2*top - foot}, {y1, foot}} {
		m.WriteString("( ")
		for j := range 3 {
			fmt.Fprintf(m, "( %g %g %g %g %g ) ", x0+(x1-x0)*float64(j)/2, p[0], p[1], float64(i), float64(j)/2)
		}
		m.WriteString(")\n")
	}
	m.WriteString(")\n}\n}\n")
}

// weirHouse is two rooms by a weir, with a slanted roof and eight-sided posts.
func weirHouse(draught bool) string {
	const (
		stone  = "weir/stone 0 0 0 0.5 0.5"
		boards = "weir/boards 16 0 90 0.5 0.5"
		beams  = "weir/beams [ 1 0 0 0 ] [ 0 0 -1 0 ] 0 0.25 0.25"
		thatch = "weir/thatch 0 0 0 0.5 0.5"
		clip   = "common/clip 0 0 0 1 1"
	)
	m := &mapText{}
	m.entity("classname worldspawn; message The weir house", func() {
		m.block(-136, -104, -8, 136, 104, 0, boards)    // floor
		m.block(-136, -104, 0, -128, 104, 96, stone)    // walls
		m.block(128, -104, 0, 136, 104, 96, stone)      //
		m.block(-128, -104, 0, 128, -96, 96, stone)     //
		m.block(-128, 96, 0, 128, 104, 96, stone)       //
		m.block(-4, -96, 0, 4, -24, 96, stone)          // between the rooms
		m.block(-4, 24, 0, 4, 96, 96, stone)            //
		m.block(-4, -24, 72, 4, 24, 96, stone)          //
		m.arch(-4, 4, -24, 24, 56, 72, "weir/beams")    //
		m.block(-4, -24, 0, 4, -22, 56, beams)          // door posts
		m.block(-4, 22, 0, 4, 24, 56, beams)            //
		for i, y := range []float64{-104, -52, 0, 52} { // the roof in boards
			if draught && i == 3 {
				m.roof(y, y+30, thatch)
				continue
			}
			m.roof(y, y+52, thatch)
		}
		for _, y := range []float64{-104, 96} { // gables
			m.prism(1, [][2]float64{{96, -136}, {168, 0}, {96, 136}}, y, y+8, boards)
		}
		for _, x := range []float64{-72, 72} {
			for _, y := range []float64{-56, 56} {
				m.post(x, y, 6, 0, 96, beams)
			}
		}
		for i := range 6 { // stairs to the weir, and what keeps feet off their edges
			m.block(40+8*float64(i), 60, 0, 48+8*float64(i), 96, 8*float64(i+1), stone)
		}
		m.prism(1, [][2]float64{{0, 88}, {0, 36}, {52, 88}}, 60, 96, clip)
		m.block(-4, -22, 0, 4, 22, 56, "common/hint 0 0 0 1 1")
	})
	m.entity("classname sluice_door; targetname gate; state shut; lift 40", func() {
		m.block(-2, -22, 0, 2, 22, 54, "weir/boards [ 0 1 0 0 ] [ 0 0 -1 0 ] 0 0.5 0.5")
	})
	m.entity("classname wet_feet_trigger; target gate",
		func() { m.block(96, -96, 0, 128, 96, 16, "common/trigger 0 0 0 1 1") })
	for i, at := range []string{"-64 0 80", "64 0 80", "64 64 60"} {
		m.entity(fmt.Sprintf("classname light; origin %s; light %d; _color 1 0.85 0.6", at, 200+50*i), nil)
	}
	m.entity("classname keeper_start; origin -96 0 28; angle 0", nil)
	m.entity("classname heron_perch; targetname perch; origin 100 -60 20; angles 0 135 0", nil)
	return m.String()
}

// roof writes both slopes of the roof from y to y.
func (m *mapText) roof(from, to float64, lay string) {
	m.prism(1, [][2]float64{{92, -144}, {176, 0}, {168, 0}, {84, -144}}, from, to, lay)
	m.prism(1, [][2]float64{{84, 144}, {168, 0}, {176, 0}, {92, 144}}, from, to, lay)
}

// post writes an eight-sided pillar.
func (m *mapText) post(x, y, r, from, to float64, lay string) {
	var o [][2]float64
	for i := range 8 {
		s, c := math.Sincos(math.Pi * (float64(i) + 0.5) / 4)
		o = append(o, [2]float64{math.Round(1000*(x+r*c)) / 1000, math.Round(1000*(y+r*s)) / 1000})
	}
	m.prism(2, o, from, to, lay)
}
