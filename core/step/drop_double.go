package step

import (
	"context"
	"math"

	"excavate/core/geom"
	"excavate/core/scene"
)

// DropDoubleParams says which faces count as the same.
type DropDoubleParams struct {
	Where
	Backs bool `json:"backs" jsonschema:"title=Also back to back,description=Of two faces in one place that look opposite ways the second goes too"`
}

var _ = register(Kind{Name: "drop-double", Title: "Drop double faces", Family: Clean, On: Parts, Version: 1,
	Purpose: "Take out faces that lie on another face of the same part, and faces without area."},
	DropDoubleParams{}, dropDouble)

func dropDouble(ctx context.Context, s *scene.Scene, p DropDoubleParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var double, flat int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		if err := ctx.Err(); err != nil {
			return *q, err
		}
		stays, d, f := singleFaces(q, p.Backs)
		if d+f == 0 {
			return *q, nil
		}
		double, flat = double+d, flat+f
		return withTriangles(q, stays, true), nil
	})
	if err != nil {
		return nil, err
	}
	if double+flat == 0 {
		r.Nothing("no face lies on another, and all have an area")
		return s, nil
	}
	if double > 0 {
		r.Say("%s removed", count(double, "double face", "double faces"))
	}
	if flat > 0 {
		r.Say("%s removed", count(flat, "face without area", "faces without area"))
	}
	return out, nil
}

// singleFaces marks the triangles that stay. Two are the same if their corners
// lie in the same places in the same turn; backs also takes the other turn.
func singleFaces(p *scene.Part, backs bool) (stays []bool, double, flat int) {
	type corner [3]uint32
	type face [3]corner
	seen := map[face]bool{}
	stays = make([]bool, len(p.Triangles)/3)
	for t := range stays {
		var f face
		var x [3]geom.Vec3
		for k, v := range p.Triangles[3*t : 3*t+3] {
			for a := range 3 {
				c := p.Positions[3*int(v)+a] + 0 // -0 + 0 is 0
				f[k][a], x[k][a] = math.Float32bits(c), float64(c)
			}
		}
		if x[1].Sub(x[0]).Cross(x[2].Sub(x[0])).Len() == 0 {
			flat++
			continue
		}
		f = turned(f)
		other := turned(face{f[0], f[2], f[1]})
		if seen[f] || backs && seen[other] {
			double++
			continue
		}
		seen[f], stays[t] = true, true
	}
	return stays, double, flat
}

// turned begins a face with its least corner.
func turned[C interface{ ~[3]uint32 }](f [3]C) [3]C {
	least := 0
	for k := 1; k < 3; k++ {
		for a := range 3 {
			if f[k][a] != f[least][a] {
				if f[k][a] < f[least][a] {
					least = k
				}
				break
			}
		}
	}
	return [3]C{f[least], f[(least+1)%3], f[(least+2)%3]}
}
