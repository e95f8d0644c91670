package appraise

import (
	"fmt"
	"image"
	"math"

	"excavate/core/scene"
)

// RoleOf is what a scene uses a picture for: the role in the first material
// that has it, or empty.
func RoleOf(s *scene.Scene, picture int) scene.Role {
	for i := range s.Materials {
		for _, t := range s.Materials[i].Textures {
			if t.Picture == picture {
				return t.Role
			}
		}
	}
	return ""
}

// Used appraises a picture by how a scene uses it, too: whether its alpha is
// used, and whether it lies right way up on the surface. img is the picture.
func Used(s *scene.Scene, picture int, img *image.NRGBA) Appraisal {
	a := Appraise(img, string(RoleOf(s, picture)))
	opaque := false
	for i := range s.Materials {
		m := &s.Materials[i]
		if t := m.Texture(scene.RoleColour); t != nil && t.Picture == picture {
			if m.Alpha != scene.Opaque {
				opaque = false
				break
			}
			opaque = true
		}
	}
	if opaque && a.Spread[3] > 8 {
		a.Notices = append(a.Notices, "its alpha is not used: the materials are opaque")
	}
	if as, over, ok := empty(s, picture, img); ok && as > 0.2 && over < as/4 {
		a.Notices = append(a.Notices, fmt.Sprintf("it may be upside down: %.0f %% of what the surface uses of it is empty ground, turned over only %.0f %%", 100*as, 100*over))
	}
	return a
}

// cells is the side of the grid in which a picture's use is looked at.
const cells = 128

// empty is how much of what surfaces use of a picture is its ground, as it is
// and turned over. ok is false where the picture has no ground to tell by:
// texels of one colour, or clear ones, in a part of it.
func empty(s *scene.Scene, picture int, img *image.NRGBA) (as, over float64, ok bool) {
	w, h := img.Rect.Dx(), img.Rect.Dy()
	if w == 0 || h == 0 {
		return 0, 0, false
	}
	var used [cells * cells]bool
	budget := 16 << 20
	for i := range s.Meshes {
		for k := range s.Meshes[i].Parts {
			p := &s.Meshes[i].Parts[k]
			if p.Material < 0 {
				continue
			}
			t := s.Materials[p.Material].Texture(scene.RoleColour)
			if t == nil || t.Picture != picture || t.UVSet >= len(p.UVs) {
				continue
			}
			d := p.UVs[t.UVSet].Data
			for c := 0; c+2 < len(p.Triangles); c += 3 {
				var x, y [3]float64
				for v := range 3 {
					a, b := d[2*p.Triangles[c+v]], d[2*p.Triangles[c+v]+1]
					if t.Transform != nil {
						a, b = t.Transform.Apply(a, b)
					}
					x[v], y[v] = float64(a)*cells, float64(b)*cells
				}
				fill(x, y, func(px, py int) bool {
					used[(py&(cells-1))*cells+px&(cells-1)] = true
					budget--
					return budget > 0
				})
			}
		}
	}
	// The ground is the commonest colour, or what is clear.
	at := func(cx, cy int) [4]byte {
		return [4]byte(img.Pix[(cy*h/cells)*img.Stride+4*(cx*w/cells):][:4])
	}
	key := func(c [4]byte) int {
		if c[3] < 8 {
			return -1
		}
		return int(c[0])>>2<<12 | int(c[1])>>2<<6 | int(c[2])>>2
	}
	count := map[int]int{}
	ground, most := 0, 0
	for cy := range cells {
		for cx := range cells {
			k := key(at(cx, cy))
			if count[k]++; count[k] > most {
				ground, most = k, count[k]
			}
		}
	}
	if share := float64(most) / (cells * cells); share < 0.08 || share > 0.85 {
		return 0, 0, false
	}
	n := 0.0
	for cy := range cells {
		for cx := range cells {
			if !used[cy*cells+cx] {
				continue
			}
			n++
			if key(at(cx, cy)) == ground {
				as++
			}
			if key(at(cx, cells-1-cy)) == ground {
				over++
			}
		}
	}
	return as / math.Max(n, 1), over / math.Max(n, 1), n > cells
}
