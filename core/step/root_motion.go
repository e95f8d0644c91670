package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// RootMotionParams say where a motion's way over the ground goes.
type RootMotionParams struct {
	Motion string `json:"motion,omitempty" jsonschema:"title=Motions named,maxLength=1000,description=A pattern with *; empty is all of them"`
	To     string `json:"to" jsonschema:"title=The way over the ground,enum=in-place,enum=root,enum=hips,description=in-place: it goes; the swaying about it stays. root or hips: that bone goes it."`
}

var _ = register(Kind{Name: "root-motion", Title: "In place or travelling", Family: Rig, Version: 1,
	Purpose: "Let a motion stay in place, or its way over the ground be gone by the root or by the hips."},
	RootMotionParams{To: "in-place"}, rootMotion)

func rootMotion(ctx context.Context, s *scene.Scene, p RootMotionParams, r *Report) (*scene.Scene, error) {
	if s.Basis.Up == 0 {
		return nil, errNoUp
	}
	k := rig.Of(s)
	root := k.Root()
	if root == scene.None {
		r.Nothing("there are no bones")
		return s, nil
	}
	hips := root
	if h, ok := k.Map(nil)["hips"]; ok {
		hips = h.Bone
	}
	if p.To != "in-place" && hips == root {
		return nil, fmt.Errorf("the skeleton's root is its hips: there is no other bone to go the way; insert a root with bones-parent")
	}
	up := s.Basis.Up.Vec()
	most := 0.0
	out, err := eachMotion(ctx, s, p.Motion, r, func(m *scene.Motion) (bool, error) {
		far, did := travel(s, m, root, hips, up, p.To)
		most = max(most, far)
		return did, nil
	})
	if err != nil || out == s {
		return out, err
	}
	what := map[string]string{"in-place": "taken out", "root": "gone by " + k.Name(root), "hips": "gone by " + k.Name(hips)}[p.To]
	r.Say("the way over the ground, %s at most, is %s", length(s, most), what)
	return out, nil
}

// travel gives the way that root and hips go over the ground in a motion to one
// of them, or takes out what leads from its beginning to its end.
func travel(s *scene.Scene, m *scene.Motion, root, hips int, up geom.Vec3, to string) (far float64, did bool) {
	by := m.ByNode()
	var list []*scene.Channel
	var chain []int
	for n := hips; n >= 0; n = s.Nodes[n].Parent {
		chain = append(chain, n)
		list = append(list, by[n]...)
	}
	list = slices.DeleteFunc(slices.Clone(list), func(c *scene.Channel) bool { return c.Path == scene.PathWeights || len(c.Times) == 0 })
	if len(list) == 0 {
		return 0, false
	}
	times := scene.Instants(list, placeRate)
	if len(chain) > 1 {
		times = inBetween(times)
	}
	place := func(node int, t float64) geom.Mat4 {
		w := geom.Identity
		for n := node; n >= 0; n = s.Nodes[n].Parent {
			local := s.Nodes[n].Posed(by[n], t)
			w = local.Local().Mul(w)
		}
		return w
	}
	head := func(w geom.Mat4) geom.Vec3 { return geom.Vec3{w[12], w[13], w[14]} }
	flat := func(v geom.Vec3) geom.Vec3 { return v.Sub(up.Mul(v.Dot(up))) }
	first := float64(times[0])
	last := float64(times[len(times)-1])
	start, end := head(place(hips, first)), head(place(hips, last))
	rootStart, rootEnd := head(place(root, first)), head(place(root, last))
	hipsAt, rootAt := make([]geom.Mat4, len(times)), make([]geom.Mat4, len(times))
	for i, t := range times {
		h, o := place(hips, float64(t)), place(root, float64(t))
		way := flat(head(h).Sub(start))
		far = max(far, way.Len())
		shift := func(w geom.Mat4, d geom.Vec3) geom.Mat4 {
			for k := range 3 {
				w[12+k] += d[k]
			}
			return w
		}
		gone := flat(head(o).Sub(rootStart)) // by the root so far
		switch to {
		case "in-place":
			u := 0.0
			if last > first {
				u = (float64(t) - first) / (last - first)
			}
			// What leads from the beginning to the end goes; swaying about it stays.
			hipsAt[i] = shift(h, flat(end.Sub(start)).Mul(-u))
			rootAt[i] = shift(o, flat(rootEnd.Sub(rootStart)).Mul(-u))
		case "root":
			hipsAt[i], rootAt[i] = h, shift(o, way.Sub(gone))
		case "hips":
			hipsAt[i], rootAt[i] = h, shift(o, gone.Mul(-1))
		}
	}
	if far < 1e-6 {
		return far, false
	}
	moved := []scene.Channel{}
	write := func(node int, world []geom.Mat4, over func(i int) geom.Mat4) {
		c := scene.Channel{Node: node, Path: scene.PathTranslation, Interp: scene.Linear, Times: times}
		for i := range times {
			local := world[i]
			if inv, ok := over(i).Inverse(); ok {
				local = inv.Mul(local)
			}
			c.Values = append(c.Values, float32(local[12]), float32(local[13]), float32(local[14]))
		}
		moved = append(moved, c)
	}
	above := func(node int) func(i int) geom.Mat4 {
		return func(i int) geom.Mat4 {
			if up := s.Nodes[node].Parent; up >= 0 {
				return place(up, float64(times[i]))
			}
			return geom.Identity
		}
	}
	write(root, rootAt, above(root))
	if hips != root {
		// What stands between the two goes with the root.
		write(hips, hipsAt, func(i int) geom.Mat4 {
			up := s.Nodes[hips].Parent
			w := place(up, float64(times[i]))
			was := head(place(root, float64(times[i])))
			d := head(rootAt[i]).Sub(was)
			for k := range 3 {
				w[12+k] += d[k]
			}
			return w
		})
	}
	m.Channels = slices.DeleteFunc(m.Channels, func(c scene.Channel) bool {
		return c.Path == scene.PathTranslation && (c.Node == root || c.Node == hips)
	})
	m.Channels = append(m.Channels, moved...)
	return far, true
}
