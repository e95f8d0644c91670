package step

import (
	"slices"

	"excavate/core/scene"
)

// bearing tells which nodes are joints on which some vertex hangs.
func bearing(s *scene.Scene) []bool {
	out := make([]bool, len(s.Nodes))
	done := map[[2]int]bool{}
	for i := range s.Nodes {
		n := &s.Nodes[i]
		if key := [2]int{n.Mesh, n.Skin}; n.Mesh < 0 || n.Skin < 0 || done[key] {
			continue
		} else {
			done[key] = true
		}
		joints := s.Skins[n.Skin].Joints
		for _, p := range s.Meshes[n.Mesh].Parts {
			for k, w := range p.Weights {
				if w > 0 {
					out[joints[p.Joints[k]]] = true
				}
			}
		}
	}
	return out
}

// loneBones tells which bones carry nothing: no vertex hangs on them that
// counts, and nothing stands below them but bones that carry nothing either.
func loneBones(s *scene.Scene, counts []bool) []bool {
	bones, held := s.Bones(), namedByAvatar(s)
	gone := make([]bool, len(s.Nodes))
	carries := make([]bool, len(s.Nodes)) // something that stays
	for i := len(s.Nodes) - 1; i >= 0; i-- {
		n := &s.Nodes[i]
		if !bones[i] || counts[i] || held[i] || !n.Bare() {
			carries[i] = true
		}
		if gone[i] = !carries[i]; carries[i] && n.Parent >= 0 {
			carries[n.Parent] = true
		}
	}
	for i := range s.Skins { // a skin without joints is none
		if joints := s.Skins[i].Joints; len(joints) > 0 && !slices.ContainsFunc(joints, func(j int) bool { return !gone[j] }) {
			for n := joints[0]; n >= 0; n = s.Nodes[n].Parent {
				gone[n] = false
			}
		}
	}
	return gone
}

// withoutJoints takes joints out of the skins; what hangs on one hangs on the
// next above it that stays. A joint stays where none above it does. The nodes
// themselves remain. moved is how many vertices hang on others now.
func withoutJoints(s *scene.Scene, gone []bool) (res *scene.Scene, moved int) {
	out := *s
	out.Skins, out.Meshes, out.Nodes = slices.Clone(s.Skins), slices.Clone(s.Meshes), slices.Clone(s.Nodes)
	to := make([][]uint16, len(s.Skins)) // where each joint of a skin is now, or what takes its place
	for i := range s.Skins {
		out.Skins[i], to[i] = withoutSome(s, i, gone)
	}
	made := map[[2]int]int{}
	first := make([]bool, len(s.Meshes)) // whether the mesh's own place is given away
	for i := range out.Nodes {
		n := &out.Nodes[i]
		if n.Mesh < 0 || n.Skin < 0 || to[n.Skin] == nil {
			continue
		}
		key := [2]int{n.Mesh, n.Skin}
		at, ok := made[key]
		if !ok {
			mesh := s.Meshes[n.Mesh]
			mesh.Parts = slices.Clone(mesh.Parts)
			for j := range mesh.Parts {
				moved += hangOn(&mesh.Parts[j], to[n.Skin], s.Skins[n.Skin].Joints, gone)
			}
			if at = n.Mesh; first[at] || sharedUnbound(s, n.Mesh) {
				at = len(out.Meshes)
				out.Meshes = append(out.Meshes, mesh)
			}
			first[n.Mesh] = true
			out.Meshes[at] = mesh
			made[key] = at
		}
		n.Mesh = at
	}
	return &out, moved
}

// sharedUnbound tells whether a mesh is also shown by a node without a skin.
func sharedUnbound(s *scene.Scene, mesh int) bool {
	return slices.ContainsFunc(s.Nodes, func(n scene.Node) bool { return n.Mesh == mesh && n.Skin < 0 })
}

// withoutSome is a skin without joints that go; to is nil if none does.
func withoutSome(s *scene.Scene, skin int, gone []bool) (k scene.Skin, to []uint16) {
	k = s.Skins[skin]
	is := map[int]bool{}
	for _, node := range k.Joints {
		is[node] = true
	}
	at := map[int]int{} // the place of a joint that stays
	var joints []int
	var binds []float32
	for j, node := range k.Joints {
		if gone[node] && above(s, is, node, gone) >= 0 {
			continue
		}
		at[node] = len(joints)
		joints = append(joints, node)
		if len(k.InverseBind) > 0 {
			binds = append(binds, k.InverseBind[16*j:16*j+16]...)
		}
	}
	if len(joints) == len(k.Joints) {
		return k, nil
	}
	for _, node := range k.Joints {
		if _, stays := at[node]; !stays {
			node = above(s, is, node, gone)
		}
		to = append(to, uint16(at[node]))
	}
	k.Joints, k.InverseBind = joints, binds
	return k, to
}

// above is the next joint over a node that stays.
func above(s *scene.Scene, is map[int]bool, node int, gone []bool) int {
	for n := s.Nodes[node].Parent; n >= 0; n = s.Nodes[n].Parent {
		if !gone[n] && is[n] {
			return n
		}
	}
	return scene.None
}

// hangOn gives a part's weights to other joints; two of a vertex that come to
// be one are added up. It returns how many vertices hung on joints that go.
func hangOn(p *scene.Part, to []uint16, was []int, gone []bool) (moved int) {
	p.Joints, p.Weights = slices.Clone(p.Joints), slices.Clone(p.Weights)
	for v := 0; v+p.Influences <= len(p.Joints) && p.Influences > 0; v += p.Influences {
		joints, weights := p.Joints[v:v+p.Influences], p.Weights[v:v+p.Influences]
		any := false
		for k := range joints {
			any = any || weights[k] > 0 && gone[was[joints[k]]]
			joints[k] = to[joints[k]]
			if first := slices.Index(joints[:k], joints[k]); first >= 0 && weights[k] > 0 {
				weights[first] += weights[k]
				joints[k], weights[k] = 0, 0
			}
		}
		if any {
			moved++
		}
	}
	return moved
}
