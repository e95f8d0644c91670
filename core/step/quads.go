package step

import (
	"context"

	"excavate/core/quad"
	"excavate/core/scene"
)

// QuadsParams say which triangles are paired.
type QuadsParams struct {
	Where
	Bend float64 `json:"bend" jsonschema:"title=Bent at most,minimum=0,maximum=90,description=Between the two triangles of a face" jsonschema_extras:"unit=degrees"`
	Skew float64 `json:"skew" jsonschema:"title=Corners off a right angle at most,minimum=0,maximum=89,description=Of the faces that come out" jsonschema_extras:"unit=degrees"`
	Off  bool    `json:"off" jsonschema:"title=Keep triangles,description=Take the mark off again"`
}

var _ = register(Kind{Name: "quads", Title: "Pair to quads", Family: Geometry, On: Parts, Version: 1,
	Purpose: "Pair triangles to faces of four corners, in files of formats that have them: OBJ, PLY, COLLADA, USD, X3D. Seams and hard edges are not crossed."},
	QuadsParams{Bend: 20, Skew: 60}, quads)

func quads(ctx context.Context, s *scene.Scene, p QuadsParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	rule := &scene.Quads{Bend: float32(p.Bend), Skew: float32(p.Skew)}
	if p.Off {
		rule = nil
	}
	var changed, four, three int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		n := *q
		if err := ctx.Err(); err != nil || len(q.Triangles) == 0 {
			return n, err
		}
		n.Quads = rule
		sizes, _ := quad.Faces(rule, q.Positions, q.Triangles)
		paired := 0
		for _, k := range sizes {
			if k == 4 {
				paired++
			}
		}
		four, three = four+paired, three+len(sizes)-paired
		if paired == 0 && q.Quads == nil { // there is nothing to mark
			n.Quads = nil
		}
		if (n.Quads == nil) != (q.Quads == nil) || n.Quads != nil && *n.Quads != *q.Quads {
			changed++
		}
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if changed == 0 {
		r.Nothing("no two triangles make a face of four corners that is not marked already")
		return s, nil
	}
	if p.Off {
		r.Say("%s as triangles again", count(changed, "part", "parts"))
		return out, nil
	}
	r.Say("%s and %s of %s",
		count(four, "quad", "quads"), count(three, "triangle", "triangles"), count(four*2+three, "triangle", "triangles"))
	r.Say("GLB, STL and 3MF go on holding triangles")
	return out, nil
}
