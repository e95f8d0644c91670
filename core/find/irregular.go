package find

import (
	"fmt"

	"excavate/core/parallel"
	"excavate/core/scene"
)

// unitWithin is how far the length of a normal may be from 1: normals of eight
// bits a number are off by up to a hundredth.
const unitWithin = 0.02

// irregular says what of a scene is odd though it could be read, whatever its
// format. Nothing is changed.
func irregular(s *scene.Scene) {
	note := func(f string, a ...any) { s.Notes = append(s.Notes, scene.Note{Text: fmt.Sprintf(f, a...)}) }
	if len(s.Meshes)+len(s.Skins)+len(s.Motions)+len(s.Cameras)+len(s.Lights) == 0 {
		note("there is nothing in it: no mesh, bone, motion, camera or light")
	}
	odd, normals := 0, 0
	type lack struct{ material, set int }
	lacks, order := map[lack]int{}, []lack(nil)
	for m := range s.Meshes {
		for i := range s.Meshes[m].Parts {
			p := &s.Meshes[m].Parts[i]
			normals += len(p.Normals) / 3
			for _, n := range parallel.Gather(len(p.Normals)/3, 1<<14, func(from, to int) (n int) {
				for v := from; v < to; v++ {
					x, y, z := float64(p.Normals[3*v]), float64(p.Normals[3*v+1]), float64(p.Normals[3*v+2])
					if l := x*x + y*y + z*z; !(l > (1-unitWithin)*(1-unitWithin) && l < (1+unitWithin)*(1+unitWithin)) {
						n++
					}
				}
				return n
			}) {
				odd += n
			}
			if p.Material < 0 {
				continue
			}
			asked := map[int]bool{}
			for _, t := range s.Materials[p.Material].Textures {
				if t.UVSet >= len(p.UVs) && !asked[t.UVSet] {
					asked[t.UVSet] = true
					l := lack{p.Material, t.UVSet}
					if lacks[l]++; lacks[l] == 1 {
						order = append(order, l)
					}
				}
			}
		}
	}
	if odd > 0 {
		note("the normals of %d of %d vertices are not of unit length", odd, normals)
	}
	for i, l := range order {
		if i == mostLacks {
			note("%d more materials ask for a UV set that is not there", len(order)-i)
			break
		}
		name := fmt.Sprintf("material %d", l.material+1)
		if own := s.Materials[l.material].Name; own != "" {
			name = fmt.Sprintf("the material %q", own)
		}
		note("%s asks for UV set %d, which %s", name, l.set+1, meshesLack(lacks[l]))
	}
}

// mostLacks is how many materials are named each.
const mostLacks = 8

func meshesLack(n int) string {
	if n == 1 {
		return "a part of a mesh that it is on does not have"
	}
	return fmt.Sprintf("%d parts of meshes that it is on do not have", n)
}
