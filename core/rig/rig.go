// Package rig knows skeletons: which bone is which limb of a body, by names, by
// hierarchy, by place and by symmetry; how two skeletons correspond and in what
// they differ.
//
// The words for limbs are those of the humanoid bones of VRM 1.0 (VRM
// Consortium, VRMC_vrm-1.0, humanoid).
package rig

import (
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Rig is the skeleton of a scene at rest.
type Rig struct {
	Scene *scene.Scene
	Bones []int // nodes, parents before children
	// Of each node: the bone above it, whether it is a bone, its place.
	Parent []int
	Is     []bool
	World  []geom.Mat4
	Kids   map[int][]int // bones of a bone, or of scene.None for roots

	up, side, front geom.Vec3 // of the body; side points to its left
	low, high       float64   // along up
}

// Of is the skeleton of a scene: its joints and what stands between them, or
// where nothing is bound all nodes that motions move and what hangs on these, or
// all that show nothing.
func Of(s *scene.Scene) *Rig {
	r := &Rig{Scene: s, Is: s.Bones(), World: s.World(), Kids: map[int][]int{}}
	if !slices.Contains(r.Is, true) {
		for i := range s.Motions {
			for _, c := range s.Motions[i].Channels {
				if c.Path != scene.PathWeights {
					r.Is[c.Node] = true
				}
			}
		}
		// With what they carry and is nothing else: hands and ends that stand still.
		for i := range s.Nodes {
			if p := s.Nodes[i].Parent; p >= 0 && r.Is[p] && s.Nodes[i].Bare() {
				r.Is[i] = true
			}
		}
	}
	if !slices.Contains(r.Is, true) {
		for i := range s.Nodes {
			r.Is[i] = s.Nodes[i].Bare()
		}
	}
	// A node between two bones is one too.
	below := make([]bool, len(s.Nodes))
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		if p := s.Nodes[i].Parent; p >= 0 && (r.Is[i] || below[i]) {
			below[p] = true
		}
	}
	r.Parent = make([]int, len(s.Nodes))
	over := make([]bool, len(s.Nodes))
	for i := range s.Nodes {
		p := s.Nodes[i].Parent
		r.Parent[i] = scene.None
		if p >= 0 {
			over[i] = over[p] || r.Is[p]
			if r.Is[p] {
				r.Parent[i] = p
			}
		}
		if !r.Is[i] && below[i] && over[i] {
			r.Is[i] = true
		}
		if r.Is[i] {
			r.Bones = append(r.Bones, i)
			r.Kids[r.Parent[i]] = append(r.Kids[r.Parent[i]], i)
		}
	}
	r.axes()
	return r
}

// At is where a bone's head lies.
func (r *Rig) At(bone int) geom.Vec3 {
	m := &r.World[bone]
	return geom.Vec3{m[12], m[13], m[14]}
}

// Name of a bone.
func (r *Rig) Name(bone int) string { return r.Scene.Nodes[bone].Name }

// Root is the bone that stands over most others; None if there are none.
func (r *Rig) Root() int {
	root, most := scene.None, -1
	for _, b := range r.Kids[scene.None] {
		if n := r.under(b); n > most {
			root, most = b, n
		}
	}
	return root
}

// under is how many bones stand below one, with it.
func (r *Rig) under(bone int) (n int) {
	stack := []int{bone}
	for len(stack) > 0 {
		b := stack[len(stack)-1]
		stack = append(stack[:len(stack)-1], r.Kids[b]...)
		n++
	}
	return n
}

// axes sets the body's directions: those of the basis, and what it leaves open
// as files without it have it most often.
func (r *Rig) axes() {
	b := r.Scene.Basis.Or(geom.GLTF)
	r.up, r.front = b.Up.Vec(), b.Front.Vec()
	r.side = r.up.Cross(r.front) // the left of who looks to the front, right-handed
	if b.Handed == geom.Left {
		r.side = r.side.Mul(-1)
	}
	r.low, r.high = math.Inf(1), math.Inf(-1)
	for _, n := range r.Bones {
		h := r.At(n).Dot(r.up)
		r.low, r.high = min(r.low, h), max(r.high, h)
	}
}

func (r *Rig) height(bone int) float64 { return r.At(bone).Dot(r.up) }
func (r *Rig) aside(bone int) float64  { return r.At(bone).Dot(r.side) }

// path lists the bones from one down to another below it, both with it; nil if
// it is not below.
func (r *Rig) path(from, to int) []int {
	var out []int
	for b := to; b != scene.None; b = r.Parent[b] {
		out = append(out, b)
		if b == from {
			slices.Reverse(out)
			return out
		}
	}
	return nil
}

// within tells whether a bone is another or stands below it.
func (r *Rig) within(bone, top int) bool {
	for b := bone; b != scene.None; b = r.Parent[b] {
		if b == top {
			return true
		}
	}
	return false
}

// leaves lists the bones below one that have none below them.
func (r *Rig) leaves(bone int) (out []int) {
	stack := []int{bone}
	for len(stack) > 0 {
		b := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		kids := r.Kids[b]
		if len(kids) == 0 {
			out = append(out, b)
		}
		for i := len(kids) - 1; i >= 0; i-- {
			stack = append(stack, kids[i])
		}
	}
	return out
}

// end is the leaf that is reached from a bone by the first bone below each.
func (r *Rig) end(bone int) int {
	for len(r.Kids[bone]) > 0 {
		bone = r.Kids[bone][0]
	}
	return bone
}

// extremes are what of the leaves below each bone lies farthest: the lowest, the
// one most to the left, the one most to the right; and how many there are.
type extremes struct{ lowest, left, right, leaves int }

// ends gathers the extremes of every bone, in one pass from the leaves up.
func (r *Rig) ends() map[int]extremes {
	out := make(map[int]extremes, len(r.Bones))
	for i := len(r.Bones) - 1; i >= 0; i-- {
		b := r.Bones[i]
		x := extremes{b, b, b, 1}
		for k, kid := range r.Kids[b] {
			y := out[kid]
			if k == 0 {
				x = y
				continue
			}
			if r.height(y.lowest) < r.height(x.lowest) {
				x.lowest = y.lowest
			}
			if r.aside(y.left) > r.aside(x.left) {
				x.left = y.left
			}
			if r.aside(y.right) < r.aside(x.right) {
				x.right = y.right
			}
			x.leaves += y.leaves
		}
		out[b] = x
	}
	return out
}
