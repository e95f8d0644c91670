package step

import (
	"context"
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// GroundParams says where the asset comes to stand.
type GroundParams struct {
	Centre bool `json:"centre" jsonschema:"title=Centre over the origin,description=Also move the middle of the asset over the origin"`
}

var _ = register(Kind{Name: "ground", Title: "Sit on the ground", Family: Basis, Version: 1,
	Purpose: "Move the asset so that its lowest point lies at height zero."}, GroundParams{}, ground)

func ground(_ context.Context, s *scene.Scene, p GroundParams, r *Report) (*scene.Scene, error) {
	if s.Basis.Up == 0 {
		return nil, fmt.Errorf("nothing declares which way is up: change the basis first")
	}
	box := s.Bounds()
	if box.Empty() {
		r.Nothing("there is no mesh to stand on the ground")
		return s, nil
	}
	up := s.Basis.Up.Vec()
	lowest := math.Min(box.Min.Dot(up), box.Max.Dot(up))
	move := up.Mul(-lowest)
	if p.Centre {
		c := box.Centre()
		move = move.Sub(c.Sub(up.Mul(c.Dot(up))))
	}
	unit := s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	size := box.Size().Len()
	if move.Len() <= 1e-7*size {
		r.Nothing("it stands on the ground already")
		return s, nil
	}
	out := Translated(s, move)
	what := fmt.Sprintf("lifted by %.3f m", -lowest*unit)
	if lowest > 0 {
		what = fmt.Sprintf("lowered by %.3f m", lowest*unit)
	}
	if s.Basis.MetresPerUnit == 0 {
		what = fmt.Sprintf("moved up by %.4g units", -lowest)
	}
	if math.Abs(lowest) > 1e-7*size {
		r.Say("%s", what)
	}
	if side := move.Sub(up.Mul(move.Dot(up))).Len(); side > 1e-7*size {
		r.Say("moved sideways by %.3f m", side*unit)
	}
	return out, nil
}

// Translated moves the whole scene: every root node, and the motions that
// place root nodes. A node that only holds a skinned mesh stays: its bones
// place it.
func Translated(s *scene.Scene, by geom.Vec3) *scene.Scene {
	out := *s
	out.Nodes = slices.Clone(s.Nodes)
	parent := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		if p := s.Nodes[i].Parent; p >= 0 {
			parent[p] = true
		}
	}
	for i := range out.Nodes {
		if n := &s.Nodes[i]; n.Parent < 0 && (n.Skin < 0 || parent[i]) {
			for k := range by {
				out.Nodes[i].Translation[k] += float32(by[k])
			}
		}
	}
	out.Motions = slices.Clone(s.Motions)
	for i := range out.Motions {
		ch := slices.Clone(out.Motions[i].Channels)
		for j := range ch {
			c := &ch[j]
			if c.Path != scene.PathTranslation || s.Nodes[c.Node].Parent >= 0 {
				continue
			}
			v := slices.Clone(c.Values)
			for k := 0; k+2 < len(v); k += 3 {
				if c.Interp == scene.Cubic && (k/3)%3 != 1 {
					continue // a tangent is a difference and does not move
				}
				for a := range by {
					v[k+a] += float32(by[a])
				}
			}
			c.Values = v
		}
		out.Motions[i].Channels = ch
	}
	return &out
}
