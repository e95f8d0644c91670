package step

import (
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// rehung hangs nodes elsewhere, as withParents does, and lets motions go on as
// they look: a node whose parent is another moves through the same places.
func rehung(s *scene.Scene, nodes []scene.Node, parent []int) (out *scene.Scene, to []int) {
	out, to = withParents(s, nodes, parent)
	if len(s.Motions) == 0 {
		return out, to
	}
	var changed []int
	for i := range s.Nodes {
		if nodes[i].Parent != parent[i] {
			changed = append(changed, i)
		}
	}
	res := *out
	res.Motions = slices.Clone(out.Motions)
	for k := range s.Motions {
		was := &s.Motions[k]
		by := was.ByNode()
		m := res.Motions[k]
		m.Channels = slices.Clone(m.Channels)
		for _, i := range changed {
			list := between(nodes, by, i, parent[i])
			if len(list) == 0 {
				continue
			}
			m.Channels = slices.DeleteFunc(m.Channels, func(c scene.Channel) bool { return c.Node == to[i] && c.Path != scene.PathWeights })
			m.Channels = append(m.Channels, sampled(nodes, by, list, i, parent[i], to[i])...)
		}
		res.Motions[k] = m
	}
	return &res, to
}

// between lists the channels by which a node moves against what is to be its
// parent: those of both and of what stands above only one of them.
func between(nodes []scene.Node, by map[int][]*scene.Channel, node, parent int) (list []*scene.Channel) {
	over := map[int]int{}
	for n := node; n >= 0; n = nodes[n].Parent {
		over[n]++
	}
	for n := parent; n >= 0; n = nodes[n].Parent {
		over[n]++
	}
	for n, times := range over {
		if times == 1 {
			for _, c := range by[n] {
				if c.Path != scene.PathWeights {
					list = append(list, c)
				}
			}
		}
	}
	return list
}

// placeRate is how often a second places are looked at: what turns and moves at
// once goes along a curve between keys.
const placeRate = 60

// mostPlaces is how many places in time lie between keys at most: of a motion of
// hours they lie farther apart.
const mostPlaces = 100_000

// inBetween is times and what lies between them where they are farther apart
// than a place is looked at.
func inBetween(times []float32) (out []float32) {
	if len(times) == 0 {
		return nil
	}
	rate := min(placeRate, mostPlaces/max(float64(times[len(times)-1]-times[0]), 1e-9))
	for k, t := range times {
		if k > 0 {
			last := times[k-1]
			n := int(math.Ceil(float64(t-last)*rate - 1e-3))
			for i := 1; i < n; i++ {
				out = append(out, last+(t-last)*float32(i)/float32(n))
			}
		}
		out = append(out, t)
	}
	return out
}

// sampled is a node's motion against another parent, at every time at which
// one of the channels has a key and in between.
func sampled(nodes []scene.Node, by map[int][]*scene.Channel, list []*scene.Channel, node, parent, now int) []scene.Channel {
	times := scene.Instants(list, placeRate)
	if !allStep(list) {
		times = inBetween(times)
	}
	t := scene.Channel{Node: now, Path: scene.PathTranslation, Interp: scene.Linear, Times: times}
	r := scene.Channel{Node: now, Path: scene.PathRotation, Interp: scene.Linear, Times: times}
	z := scene.Channel{Node: now, Path: scene.PathScale, Interp: scene.Linear, Times: times}
	if allStep(list) {
		t.Interp, r.Interp, z.Interp = scene.Step, scene.Step, scene.Step
	}
	place := func(n int, at float64) geom.Mat4 {
		m := geom.Identity
		for ; n >= 0; n = nodes[n].Parent {
			local := nodes[n].Posed(by[n], at)
			m = local.Local().Mul(m)
		}
		return m
	}
	scales := false
	var last geom.Quat
	for k, at := range times {
		m := place(node, float64(at))
		if parent >= 0 {
			if inv, ok := place(parent, float64(at)).Inverse(); ok {
				m = inv.Mul(m)
			}
		}
		p, q, size, _ := m.Decompose()
		if k > 0 && q[0]*last[0]+q[1]*last[1]+q[2]*last[2]+q[3]*last[3] < 0 {
			q = geom.Quat{-q[0], -q[1], -q[2], -q[3]}
		}
		last = q
		for i := range 3 {
			t.Values, z.Values = append(t.Values, float32(p[i])), append(z.Values, float32(size[i]))
			scales = scales || size[i] < 0.9999 || size[i] > 1.0001
		}
		for _, x := range q {
			r.Values = append(r.Values, float32(x))
		}
	}
	if !scales {
		return []scene.Channel{t, r}
	}
	return []scene.Channel{t, r, z}
}

func allStep(list []*scene.Channel) bool {
	return !slices.ContainsFunc(list, func(c *scene.Channel) bool { return c.Interp != scene.Step })
}
