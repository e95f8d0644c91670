package appraise

import (
	"fmt"
	"math"
	"strings"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Clue is one thing that speaks for a basis.
type Clue struct {
	About string `json:"about"` // up, front, handedness, unit
	Says  string `json:"says"`  // the value: Z, -Y, left, 0.01
	Why   string `json:"why"`
}

// figure is the height of the scale figure in metres.
const figure = 1.75

// Basis gathers what a scene says of its axes, hand and unit beside what the
// file declares.
func Basis(s *scene.Scene) []Clue {
	out := []Clue{}
	add := func(about, says, why string, a ...any) { out = append(out, Clue{about, says, fmt.Sprintf(why, a...)}) }
	box := s.Bounds()
	if box.Empty() {
		return out
	}
	size := box.Size()
	axes := []geom.Axis{geom.PlusX, geom.PlusY, geom.PlusZ}
	// A skeleton's head is above its feet, and its left is on its left.
	world := s.World()
	var left, right, head, foot geom.Vec3
	lefts, rights, heads, feet := 0.0, 0.0, 0.0, 0.0
	for i := range s.Nodes {
		name := strings.ToLower(s.Nodes[i].Name)
		at := world[i].Point(geom.Vec3{})
		switch side := sideOf(name); {
		case side < 0:
			left, lefts = left.Add(at), lefts+1
		case side > 0:
			right, rights = right.Add(at), rights+1
		}
		if strings.Contains(name, "head") {
			head, heads = head.Add(at), heads+1
		}
		if strings.Contains(name, "foot") || strings.Contains(name, "ankle") {
			foot, feet = foot.Add(at), feet+1
		}
	}
	var up geom.Axis
	if heads > 0 && feet > 0 {
		if a, sure := longest(head.Mul(1 / heads).Sub(foot.Mul(1 / feet))); sure {
			up = a
			add("up", word(a), "the bones called head lie along %s from those called foot", word(a))
		}
	}
	if up == 0 {
		for k, a := range []geom.Axis{geom.PlusY, geom.PlusZ} {
			i := []int{1, 2}[k]
			if math.Abs(box.Min[i]) < 0.02*size[i] && size[i] > 0 && !(math.Abs(box.Min[3-i]) < 0.02*size[3-i]) {
				add("up", word(a), "the lowest point along %s is %.3g: it stands on the ground that way", word(a), box.Min[i])
				up = a
			}
		}
	}
	if lefts > 0 && rights > 0 {
		d := left.Mul(1 / lefts).Sub(right.Mul(1 / rights))
		if a, sure := longest(d); sure {
			add("left", word(a), "%d bones are named left and %d right; left lies towards %s", int(lefts), int(rights), word(a))
			if up != 0 && a != up && a != -up {
				// Facing front with up above, left is up x front in a right-handed system.
				for _, hand := range []geom.Handedness{geom.Right, geom.Left} {
					f := a.Vec().Cross(up.Vec())
					if hand == geom.Left {
						f = f.Mul(-1)
					}
					fa, _ := longest(f)
					if s.Basis.Handed == hand || s.Basis.Handed == "" && hand == geom.Right {
						add("front", word(fa), "with %s up and %s on its left, a %s-handed figure looks towards %s", word(up), word(a), hand, word(fa))
					}
				}
			}
		}
	}
	// The unit: a figure is about a man's height.
	tall := size[1]
	if up != 0 {
		for i, a := range axes {
			if up == a || up == -a {
				tall = size[i]
			}
		}
	}
	if heads > 0 && tall > 0 {
		best, name := 0.0, ""
		for _, u := range []struct {
			m    float64
			name string
		}{{1, "metres"}, {0.01, "centimetres"}, {0.001, "millimetres"}, {0.0254, "inches"}, {0.3048, "feet"}, {0.1, "decimetres"}} {
			if best == 0 || math.Abs(math.Log(tall*u.m/figure)) < math.Abs(math.Log(tall*best/figure)) {
				best, name = u.m, u.name
			}
		}
		add("unit", fmt.Sprint(best), "it is %.4g units tall; as %s that is %.2f m, nearest to a figure of %.2f m", tall, name, tall*best, figure)
	} else if m := s.Basis.MetresPerUnit; m > 0 {
		most := math.Max(size[0], math.Max(size[1], size[2])) * m
		add("unit", fmt.Sprint(m), "its longest side is then %.3g m, %.2g times the scale figure", most, most/figure)
	}
	return out
}

// sideOf tells left (-1) or right (1) by a name.
func sideOf(name string) int {
	ends := func(marks ...string) bool {
		for _, m := range marks {
			if strings.HasSuffix(name, m) {
				return true
			}
		}
		return false
	}
	switch {
	case strings.Contains(name, "left") || ends("_l", ".l", " l", "-l"):
		return -1
	case strings.Contains(name, "right") || ends("_r", ".r", " r", "-r"):
		return 1
	}
	return 0
}

// longest is the axis along which a vector mostly points.
func longest(v geom.Vec3) (geom.Axis, bool) {
	best := 0
	for i := range v {
		if math.Abs(v[i]) > math.Abs(v[best]) {
			best = i
		}
	}
	a := geom.Axis(best + 1)
	if v[best] < 0 {
		a = -a
	}
	return a, math.Abs(v[best]) > 1.5*(math.Abs(v[(best+1)%3])+math.Abs(v[(best+2)%3])) && v[best] != 0
}

// word is an axis as people write it: Y, -Z.
func word(a geom.Axis) string { return strings.TrimPrefix(a.String(), "+") }
