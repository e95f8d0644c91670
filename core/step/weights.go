package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/scene"
)

// WeightsParams bound how vertices hang on bones.
type WeightsParams struct {
	Where
	Most  int     `json:"most" jsonschema:"title=Bones a vertex at most,minimum=1,maximum=64"`
	Least float64 `json:"least" jsonschema:"title=Weights below,minimum=0,maximum=0.5,description=These go; what is left adds up to one"`
}

var _ = register(Kind{Name: "weights", Title: "Joint weights", Family: Rig, On: Parts, Version: 2,
	Purpose: "Let each vertex hang on a few bones at most, drop small weights, and make what is left add up to one. How far vertices come to lie elsewhere is measured over all motions."},
	WeightsParams{Most: 4, Least: 0.01}, weights)

func weights(ctx context.Context, s *scene.Scene, p WeightsParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	var vertices, dropped, none int
	out, err := eachPart(s, c, func(q *scene.Part) (scene.Part, error) {
		if err := ctx.Err(); err != nil || q.Influences == 0 {
			return *q, err
		}
		n, counts := bounded(q, p.Most, float32(p.Least))
		vertices, dropped, none = vertices+counts[0], dropped+counts[1], none+counts[2]
		if counts[0] == 0 && n.Influences == q.Influences {
			return *q, nil
		}
		return n, nil
	})
	if err != nil {
		return nil, err
	}
	if none > 0 {
		r.Say("%s on no bone at all and stay where they are", count(none, "vertex hangs", "vertices hang"))
	}
	if vertices == 0 {
		r.Nothing("every vertex hangs on at most %s, with weights that add up to one",
			count(p.Most, "bone", "bones"))
		return s, nil
	}
	r.Say("weights of %s changed, %s dropped",
		count(vertices, "vertex", "vertices"), count(dropped, "weight", "weights"))
	far, frames, motion, err := farthestApart(ctx, s, out)
	if err != nil {
		return nil, err
	}
	if far > 0 {
		where := "at rest"
		if motion != "" {
			where = "in " + motion
		}
		r.Say("a vertex comes to lie %s elsewhere at most, %s (%s looked at)",
			millimetres(s, far), where, count(frames, "frame", "frames"))
	}
	return out, nil
}

// bounded is a part with its weights bounded. counts are the vertices that
// change, the weights that go, and the vertices that hang on nothing.
func bounded(p *scene.Part, most int, least float32) (out scene.Part, counts [3]int) {
	n, k := p.Vertices(), p.Influences
	type weight struct {
		joint uint16
		w     float32
	}
	lists := make([][]weight, n)
	widest := 0
	for v := range n {
		var list []weight
		sum, entries := float32(0), 0
		for i := v * k; i < (v+1)*k; i++ {
			if w := p.Weights[i]; w > 0 {
				sum += w
				entries++ // a bone may stand more than once
				if j := slices.IndexFunc(list, func(x weight) bool { return x.joint == p.Joints[i] }); j >= 0 {
					list[j].w += w
				} else {
					list = append(list, weight{p.Joints[i], w})
				}
			}
		}
		if len(list) == 0 {
			counts[2]++
			continue
		}
		had := len(list)
		slices.SortStableFunc(list, func(a, b weight) int {
			switch {
			case a.w > b.w:
				return -1
			case a.w < b.w:
				return 1
			}
			return int(a.joint) - int(b.joint)
		})
		list = list[:min(most, len(list))]
		for len(list) > 1 && list[len(list)-1].w < least*sum {
			list = list[:len(list)-1]
		}
		left := float32(0)
		for _, x := range list {
			left += x.w
		}
		if entries != len(list) || math.Abs(float64(left)-1) > 1e-4 {
			counts[0]++
			counts[1] += had - len(list)
			for i := range list {
				list[i].w /= left
			}
		}
		lists[v] = list
		widest = max(widest, len(list))
	}
	out = *p
	out.Influences = max(widest, 1)
	out.Joints, out.Weights = make([]uint16, n*out.Influences), make([]float32, n*out.Influences)
	for v, list := range lists {
		for i, x := range list {
			out.Joints[v*out.Influences+i], out.Weights[v*out.Influences+i] = x.joint, x.w
		}
	}
	return out, counts
}

// framesLooked is how many frames of a motion are looked at to see how far
// something moves.
const framesLooked = 60

// farthestApart is how far vertices of two scenes with the same nodes lie apart
// at most, at rest and in frames of all motions. Parts that are the same in both
// are not looked at.
func farthestApart(ctx context.Context, a, b *scene.Scene) (far float64, frames int, motion string, err error) {
	look := func(at func(s *scene.Scene) *scene.Scene, name string) {
		frames++
		x, y := at(a), at(b)
		wx, wy := x.World(), y.World()
		for i := range a.Nodes {
			if a.Nodes[i].Mesh < 0 || b.Nodes[i].Mesh < 0 {
				continue
			}
			pa, pb := a.Meshes[a.Nodes[i].Mesh].Parts, b.Meshes[b.Nodes[i].Mesh].Parts
			for j := range pa {
				if j >= len(pb) || len(pa[j].Positions) != len(pb[j].Positions) {
					continue
				}
				if sameList(pa[j].Weights, pb[j].Weights) && sameList(pa[j].Positions, pb[j].Positions) {
					continue
				}
				u, _ := x.Posed(i, &pa[j], wx)
				v, _ := y.Posed(i, &pb[j], wy)
				for k := 0; k+2 < len(u); k += 3 {
					x, y, z := float64(u[k]-v[k]), float64(u[k+1]-v[k+1]), float64(u[k+2]-v[k+2])
					if d := math.Sqrt(x*x + y*y + z*z); d > far {
						far, motion = d, name
					}
				}
			}
		}
	}
	look(func(s *scene.Scene) *scene.Scene { return s }, "")
	for m := range a.Motions {
		end := a.Motions[m].Seconds()
		for k := range framesLooked {
			if err := ctx.Err(); err != nil {
				return 0, 0, "", err
			}
			t := end * float64(k) / (framesLooked - 1)
			look(func(s *scene.Scene) *scene.Scene { return inMotion(s, &s.Motions[m], t) }, a.Motions[m].Name)
			if end == 0 {
				break
			}
		}
	}
	return far, frames, motion, nil
}

func sameList(a, b []float32) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// inMotion is a scene with its nodes as a motion has them at a time.
func inMotion(s *scene.Scene, m *scene.Motion, t float64) *scene.Scene {
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	for node, channels := range m.ByNode() {
		out.Nodes[node] = s.Nodes[node].Posed(channels, t)
	}
	return &out
}

// millimetres says a short length.
func millimetres(s *scene.Scene, d float64) string {
	if m := s.Basis.MetresPerUnit; m > 0 {
		return fmt.Sprintf("%.3g mm", 1000*d*m)
	}
	return fmt.Sprintf("%.3g of the file's units", d)
}
