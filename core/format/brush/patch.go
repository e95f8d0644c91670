package brush

import (
	"excavate/core/geom"
	"excavate/core/scene"
)

// curved makes triangles of a patch: every three by three control points are a
// biquadratic Bézier surface, cut into n by n (Farin, "Curves and Surfaces for
// CAGD", 5th edition 2002, section 4.3 and 15.2).
//
// Places are relative to one, which is not 0 for what lies far away. The file
// does not say which side is the front. It is the one from which the
// picture is not seen mirrored; of one without a picture's area it is where
// columns run to the right and rows up.
func (q *patch) curved(n int, smooth bool, far geom.Vec3) scene.Part {
	nu, nv := (q.columns-1)/2*n+1, (q.rows-1)/2*n+1
	places, normals, uvs := make([]geom.Vec3, nu*nv), make([]geom.Vec3, nu*nv), make([][2]float64, nu*nv)
	turned := 0.0
	for i := range nu {
		for j := range nv {
			s := q.at(i, j, n)
			places[i*nv+j], uvs[i*nv+j] = s.place, s.uv
			normals[i*nv+j] = s.du.Cross(s.dv).Norm()
			turned += s.turn
		}
	}
	// u counts to the right and v down: seen from the front they turn clockwise.
	front := 1.0
	if turned > 0 {
		front = -1
	}
	p := scene.Part{UVs: []scene.AttrSet{{Name: "uv"}}}
	add := func(k int, normal geom.Vec3) {
		for m := range 3 {
			p.Positions = append(p.Positions, float32(places[k][m]-far[m]))
			p.Normals = append(p.Normals, float32(normal[m]))
		}
		p.UVs[0].Data = append(p.UVs[0].Data, float32(uvs[k][0]), float32(uvs[k][1]))
	}
	if smooth {
		for k := range places {
			if normals[k] == (geom.Vec3{}) {
				normals[k] = beside(normals, k, nv)
			}
			add(k, normals[k].Mul(front))
		}
	}
	for i := range nu - 1 {
		for j := range nv - 1 {
			a, b, c, d := i*nv+j, (i+1)*nv+j, (i+1)*nv+j+1, i*nv+j+1
			for _, t := range [2][3]int{{a, b, c}, {a, c, d}} {
				if front < 0 {
					t[1], t[2] = t[2], t[1]
				}
				normal := places[t[1]].Sub(places[t[0]]).Cross(places[t[2]].Sub(places[t[0]]))
				if normal == (geom.Vec3{}) {
					continue // the surface is drawn together to a point here
				}
				for _, k := range t {
					if smooth {
						p.Triangles = append(p.Triangles, uint32(k))
						continue
					}
					p.Triangles = append(p.Triangles, uint32(p.Vertices()))
					add(k, normal.Norm())
				}
			}
		}
	}
	return p
}

// beside is the normal of a neighbour where a patch is drawn together to a point.
func beside(normals []geom.Vec3, k, nv int) geom.Vec3 {
	for _, by := range []int{1, -1, nv, -nv, nv + 1, -nv - 1} {
		if o := k + by; o >= 0 && o < len(normals) && normals[o] != (geom.Vec3{}) {
			return normals[o]
		}
	}
	return geom.Vec3{0, 0, 1}
}

type sample struct {
	place, du, dv geom.Vec3
	uv            [2]float64
	turn          float64 // above 0 where UVs turn as columns and rows do
}

// at is the surface at a step along columns and rows.
func (q *patch) at(i, j, n int) (s sample) {
	ci, cj := min(i/n, (q.columns-3)/2), min(j/n, (q.rows-3)/2)
	bu, du := bernstein(float64(i-ci*n) / float64(n))
	bv, dv := bernstein(float64(j-cj*n) / float64(n))
	var uvU, uvV [2]float64
	for a := range 3 {
		for b := range 3 {
			k := (2*ci+a)*q.rows + 2*cj + b
			p := geom.Vec3(q.places[k])
			s.place = s.place.Add(p.Mul(bu[a] * bv[b]))
			s.du, s.dv = s.du.Add(p.Mul(du[a]*bv[b])), s.dv.Add(p.Mul(bu[a]*dv[b]))
			for m := range 2 {
				s.uv[m] += q.uvs[k][m] * bu[a] * bv[b]
				uvU[m] += q.uvs[k][m] * du[a] * bv[b]
				uvV[m] += q.uvs[k][m] * bu[a] * dv[b]
			}
		}
	}
	s.turn = uvU[0]*uvV[1] - uvU[1]*uvV[0]
	return s
}

// bernstein are the quadratic Bernstein polynomials at t, and their slopes.
func bernstein(t float64) (b, d [3]float64) {
	return [3]float64{(1 - t) * (1 - t), 2 * t * (1 - t), t * t}, [3]float64{2*t - 2, 2 - 4*t, 2 * t}
}
