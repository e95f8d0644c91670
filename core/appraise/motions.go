package appraise

import (
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// instants is at how many times, evenly over a motion, two are held against
// each other.
const instants = 17

// Slack of motions: of places over the size of the scene, of turns in radians,
// of the weights of shapes.
const (
	placeSlack  = 2e-3
	turnSlack   = 0.02
	weightSlack = 5e-3
)

// motionRows hold motions of the same name against each other by where they
// bring what bears the same name, over time.
func motionRows(a, b *scene.Scene, size float64) []Row {
	said := rows(motions(a), motions(b))
	index := func(s *scene.Scene) map[string]int {
		out := map[string]int{}
		for i := range s.Motions {
			if _, twice := out[s.Motions[i].Name]; !twice {
				out[s.Motions[i].Name] = i
			}
		}
		return out
	}
	inA, inB := index(a), index(b)
	for k := range said {
		r := &said[k]
		i, okA := inA[r.Name]
		j, okB := inB[r.Name]
		if r.Differ || !okA || !okB {
			continue
		}
		if far := apartMoving(a, b, &a.Motions[i], &b.Motions[j], size); far != "" {
			r.Differ = true
			r.B += ", " + far
		}
	}
	return said
}

// apartMoving says what is farthest from where it should be; empty if nothing
// is too far.
func apartMoving(a, b *scene.Scene, ma, mb *scene.Motion, size float64) string {
	type worst struct {
		over float64 // times the slack
		says string
	}
	w := worst{over: 1}
	note := func(by float64, f string, args ...any) {
		if by > w.over {
			w = worst{by, fmt.Sprintf(f, args...)}
		}
	}
	for k := range instants {
		t := ma.Seconds() * float64(k) / (instants - 1)
		pa, pb := pose(a, ma, t), pose(b, mb, t)
		for name, x := range pa.nodes {
			y, ok := pb.nodes[name]
			if !ok {
				continue // that is told among the bones
			}
			note(x.at.Sub(y.at).Len()/size/placeSlack, "%s elsewhere at %.2f s: by %.3g", name, t, x.at.Sub(y.at).Len())
			note(x.scale.Sub(y.scale).Len()/math.Max(x.scale.Len(), 1e-9)/placeSlack, "%s scaled otherwise at %.2f s: %.3g beside %.3g", name, t, x.scale, y.scale)
			angle := between(x.turn, y.turn)
			note(angle/turnSlack, "%s turned otherwise at %.2f s: by %.1f°", name, t, angle*180/math.Pi)
		}
		for name, x := range pa.shapes {
			note(math.Abs(x-pb.shapes[name])/weightSlack, "shape %s otherwise at %.2f s: %.2f beside %.2f", name, t, x, pb.shapes[name])
		}
		for name, y := range pb.shapes {
			if _, ok := pa.shapes[name]; !ok {
				note(math.Abs(y)/weightSlack, "shape %s at %.2f s: %.2f, and none", name, t, y)
			}
		}
	}
	return w.says
}

// standing is a place, or a scale, and a turn.
type standing struct {
	at   geom.Vec3
	turn geom.Quat
}

// between is the angle between two turns, in radians. A rotation and its
// negative are one.
func between(a, b geom.Quat) float64 {
	dot := math.Abs(a[0]*b[0] + a[1]*b[1] + a[2]*b[2] + a[3]*b[3])
	return 2 * math.Acos(math.Min(dot, 1))
}

type brought struct {
	standing
	scale geom.Vec3
}

type posed struct {
	nodes  map[string]brought
	shapes map[string]float64
}

// pose is where bones and what moves are at a time, and the weights of shapes.
func pose(s *scene.Scene, m *scene.Motion, t float64) posed {
	out := posed{map[string]brought{}, map[string]float64{}}
	by := m.ByNode()
	moving := *s
	moving.Nodes = slices.Clone(s.Nodes)
	for i := range moving.Nodes {
		moving.Nodes[i] = moving.Nodes[i].Posed(by[i], t)
	}
	bones := s.Bones()
	for i, w := range moving.World() {
		if !bones[i] && len(by[i]) == 0 {
			continue
		}
		if _, twice := out.nodes[s.Nodes[i].Name]; twice {
			continue
		}
		p, q, scale, _ := w.Decompose()
		out.nodes[s.Nodes[i].Name] = brought{standing{p, q}, scale}
	}
	for i, list := range by {
		for _, c := range list {
			if c.Path != scene.PathWeights {
				continue
			}
			for k, v := range c.At(t) {
				out.shapes[morphName(s, scene.ExpressionMorph{Node: i, Index: k})] = float64(v)
			}
		}
	}
	return out
}
