package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/geom"
	"excavate/core/rig"
	"excavate/core/scene"
)

// FitSkeletonParams say which skeleton the figure gets.
type FitSkeletonParams struct {
	From string `json:"from" jsonschema:"title=Skeleton of,minLength=1,maxLength=4096,description=An asset in the search order or beside the chain's document; or chain: and the name of another chain" jsonschema_extras:"chooser=model"`
	Move bool   `json:"move" jsonschema:"title=Move joints to the reference's places,description=Limbs become as long as the reference's, and the surface follows; off: only the pose and names are taken"`
}

func (p *FitSkeletonParams) asks() []Ask { return []Ask{{Asset: p.From}} }

var _ = registerBeyond(Kind{Name: "fit-skeleton", Title: "Fit a skeleton", Family: Rig, Version: 1,
	Purpose: "Give the figure exactly the skeleton of another: its names, order, parents and rest pose. What hung on a bone hangs on the one that is the same limb; motions are carried over."},
	FitSkeletonParams{Move: true}, fitSkeleton)

func fitSkeleton(ctx context.Context, s *scene.Scene, p FitSkeletonParams, b Beyond, r *Report) (*scene.Scene, error) {
	if p.From == "" {
		r.Nothing("no asset is named")
		return s, nil
	}
	if !slices.Contains(s.Bones(), true) {
		r.Nothing("there are no bones")
		return s, nil
	}
	o, err := other(ctx, b, p.From, s, r)
	if err != nil {
		return nil, err
	}
	ours, ref := rig.Of(s), rig.Of(o)
	if len(ref.Bones) == 0 || !slices.Contains(o.Bones(), true) {
		return nil, fmt.Errorf("%s has no bones", p.From)
	}
	metres := s.Basis.MetresPerUnit
	if metres == 0 {
		metres = 1
	}
	before := rig.Against(ours, ref, metres)
	if len(before) == 0 {
		r.Nothing("the skeleton is that of %s already", p.From)
		return s, nil
	}
	f := &skeletonFitter{s: s, ours: ours, ref: ref, same: rig.Same(ours, ref), r: r}
	if len(f.same)*2 < len(ref.Bones) && len(f.same) < 10 {
		return nil, fmt.Errorf("only %d bones of %s could be told in this skeleton: rename its bones first (bones-rename)",
			len(f.same), p.From)
	}
	out, err := f.fitted(ctx, p.Move)
	if err != nil {
		return nil, err
	}
	kinds := map[string]int{}
	for _, d := range before {
		kinds[d.Kind]++
	}
	r.Say("%s of the reference: %s",
		count(len(before), "difference to the skeleton", "differences to the skeleton"),
		joinedWords(counts(
			kinds["root"], "root name", "root names",
			kinds["missing"], "missing bone", "missing bones",
			kinds["additional"], "additional bone", "additional bones",
			kinds["name"], "other name", "other names",
			kinds["parent"], "other parent", "other parents",
			kinds["order"], "other order", "other orders",
			kinds["rest"], "bone turned otherwise", "bones turned otherwise",
			kinds["place"], "bone in another place", "bones in other places",
			kinds["scale"], "other scale", "other scales")))
	left := rig.Against(rig.Of(out), ref, metres)
	for _, d := range left[:min(len(left), 5)] {
		r.Say("left: %s", d.Text)
	}
	return out, nil
}

func joinedWords(list []string) string {
	out := ""
	for i, x := range list {
		if i > 0 {
			out += ", "
		}
		out += x
	}
	return out
}

// skeletonFitter gives a figure another skeleton.
type skeletonFitter struct {
	s         *scene.Scene
	ours, ref *rig.Rig
	same      map[int]int // of ours the reference's
	r         *Report
}

func (f *skeletonFitter) fitted(ctx context.Context, move bool) (*scene.Scene, error) {
	// The figure in the reference's pose; then its surface hangs on the new bones.
	world := f.pose(move)
	posed, lost := atRest(f.s, f.ours, world)
	if lost > 0 {
		f.r.Lose("the tangents of %s, which bend with several bones", count(lost, "part", "parts"))
	}
	posed.Motions = f.s.Motions
	nodes, to, bone := f.nodes(posed, world)
	out := *posed
	out.Nodes = nodes
	out.Skins, out.Meshes = slices.Clone(posed.Skins), slices.Clone(posed.Meshes)
	out.Avatar = nil
	joints, binds := f.joints(&out, bone)
	jointAt := map[int]int{}
	for j, n := range joints {
		jointAt[n] = j
	}
	gone := map[string]bool{}
	for i := range out.Skins {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		place := make([]uint16, len(posed.Skins[i].Joints))
		for j, n := range posed.Skins[i].Joints {
			at := f.stand(n, gone)
			k, ok := jointAt[at]
			for !ok && at >= 0 { // something hangs on joints only
				at = f.ref.Parent[at]
				k, ok = jointAt[at]
			}
			if !ok {
				return nil, fmt.Errorf("what hangs on %s has no bone there on which something hangs", f.s.Nodes[n].Name)
			}
			place[j] = uint16(k)
		}
		f.hang(&out, i, place)
		out.Skins[i].Joints, out.Skins[i].InverseBind = slices.Clone(joints), slices.Clone(binds)
		out.Skins[i].Root = bone[f.ref.Root()]
		for j := range out.Skins[i].Joints {
			out.Skins[i].Joints[j] = bone[joints[j]]
		}
	}
	if len(gone) > 0 {
		var names []string
		for n := range gone {
			names = append(names, n)
		}
		slices.Sort(names)
		f.r.Say("what hung on %s hangs on the bone above", named(names))
	}
	out.Avatar = f.avatar(to, bone)
	var err error
	if out.Motions, err = f.motions(&out, to, bone); err != nil {
		return nil, err
	}
	if err := out.Validate(); err != nil {
		return nil, err
	}
	return out.Sweep(posed), nil
}

// pose is where our nodes come to stand: each limb turned as the reference's
// is, and moved to its place.
func (f *skeletonFitter) pose(move bool) []geom.Mat4 {
	pairs := rig.PairsAlike(f.ref, f.ours)
	if f.bodies() {
		pairs = rig.PairsOf(f.ref.Map(nil), f.ours.Map(nil))
	}
	aims := pairs.Aligned(f.ref, f.ours)
	if f.alike() { // the same skeleton: nothing is turned
		aims = nil
	}
	world := f.ours.Aimed(aims)
	if !move {
		return world
	}
	// Moved, parents first, so that what is no limb goes with its parent.
	shift := make([]geom.Vec3, len(world))
	out := slices.Clone(world)
	for i := range world {
		if p := f.s.Nodes[i].Parent; p >= 0 {
			shift[i] = shift[p]
		}
		if y, ok := f.same[i]; ok && f.ours.Is[i] {
			here := geom.Vec3{world[i][12], world[i][13], world[i][14]}
			shift[i] = f.ref.At(y).Sub(here)
		}
		for k := range 3 {
			out[i][12+k] += shift[i][k]
		}
	}
	return out
}

// bodies tells whether both skeletons are whole bodies, or nearly.
func (f *skeletonFitter) bodies() bool {
	return len(f.ours.Map(nil).Missing()) <= mayLack && len(f.ref.Map(nil).Missing()) <= mayLack
}

// alike tells whether paired bones are turned alike at rest already.
func (f *skeletonFitter) alike() bool {
	for x, y := range f.same {
		if turnBetween(f.ours.World[x], f.ref.World[y]) > 0.1 {
			return false
		}
	}
	return true
}

func turnBetween(a, b geom.Mat4) float64 {
	k := &rig.Rig{World: []geom.Mat4{a}}
	return turnOf(k, []geom.Mat4{b}, 0)
}

// nodes are the reference's bones as they stand there, then our nodes that are
// no bones. to tells where each of ours is now, None for bones that the
// reference has not; bone where each of the reference's is.
func (f *skeletonFitter) nodes(posed *scene.Scene, world []geom.Mat4) (list []scene.Node, to []int, bone map[int]int) {
	bone = map[int]int{}
	for _, y := range f.ref.Bones {
		n := f.ref.Scene.Nodes[y]
		n.Mesh, n.Skin, n.Camera, n.Light, n.Collider, n.Props = scene.None, scene.None, scene.None, scene.None, nil, nil
		// What stood above the skeleton there stays behind: its root has its place.
		up := f.ref.Parent[y]
		if n.Parent = scene.None; up >= 0 {
			n.Parent = bone[up]
		}
		if up < 0 || f.ref.Scene.Nodes[y].Parent != up {
			local := f.ref.World[y]
			if up >= 0 {
				if inv, ok := f.ref.World[up].Inverse(); ok {
					local = inv.Mul(local)
				}
			}
			t, q, z, _ := local.Decompose()
			n.Put(t, q, z)
		}
		bone[y] = len(list)
		list = append(list, n)
	}
	to = make([]int, len(f.s.Nodes))
	for i := range f.s.Nodes {
		n := posed.Nodes[i]
		if f.ours.Is[i] {
			to[i] = scene.None
			if y, ok := f.same[i]; ok {
				to[i] = bone[y]
			}
			if n.Bare() {
				continue
			}
			// What a bone carried by itself hangs on what took its place.
			n.Parent = bone[f.stand(i, nil)]
			f.keep(&n, world[i], list)
			list = append(list, n)
			continue
		}
		if up := n.Parent; up >= 0 && f.ours.Is[up] {
			n.Parent = bone[f.stand(up, nil)]
			f.keep(&n, world[i], list)
		} else if up >= 0 {
			n.Parent = to[up]
		}
		to[i] = len(list)
		list = append(list, n)
	}
	return list, to, bone
}

// keep puts a node where it stands in the world, below what is in the list.
func (f *skeletonFitter) keep(n *scene.Node, world geom.Mat4, list []scene.Node) {
	up := geom.Identity
	for at := n.Parent; at >= 0; at = list[at].Parent {
		up = list[at].Local().Mul(up)
	}
	if inv, ok := up.Inverse(); ok {
		t, q, z, _ := inv.Mul(world).Decompose()
		n.Put(t, q, z)
	}
}

// stand is the reference's bone on which hangs what hung on one of ours: the
// same, or that of the next above. gone gathers those that have none.
func (f *skeletonFitter) stand(node int, gone map[string]bool) int {
	for n := node; n >= 0; n = f.s.Nodes[n].Parent {
		if y, ok := f.same[n]; ok {
			if n != node && gone != nil {
				gone[f.s.Nodes[node].Name] = true
			}
			return y
		}
	}
	return f.ref.Root()
}

// joints are the reference's in its order, with binds of their places.
func (f *skeletonFitter) joints(out *scene.Scene, bone map[int]int) (joints []int, binds []float32) {
	seen := map[int]bool{}
	for i := range f.ref.Scene.Skins {
		for _, j := range f.ref.Scene.Skins[i].Joints {
			if !seen[j] {
				seen[j] = true
				joints = append(joints, j)
			}
		}
	}
	world := out.World()
	for _, j := range joints {
		inv, ok := world[bone[j]].Inverse()
		if !ok {
			inv = geom.Identity
		}
		for _, v := range inv {
			binds = append(binds, float32(v))
		}
	}
	return joints, binds
}

// hang gives the meshes of a skin their new joints.
func (f *skeletonFitter) hang(out *scene.Scene, skin int, place []uint16) {
	same := make([]int, len(place))
	none := make([]bool, len(place))
	for i := range same {
		same[i] = i
	}
	done := map[int]bool{}
	for i := range out.Nodes {
		m := out.Nodes[i].Mesh
		if m < 0 || out.Nodes[i].Skin != skin || done[m] {
			continue
		}
		done[m] = true
		mesh := out.Meshes[m]
		mesh.Parts = slices.Clone(mesh.Parts)
		for j := range mesh.Parts {
			hangOn(&mesh.Parts[j], place, same, none)
		}
		out.Meshes[m] = mesh
	}
}

// avatar is the figure's with its bones where they are now.
func (f *skeletonFitter) avatar(to []int, bone map[int]int) *scene.Avatar {
	if f.s.Avatar == nil {
		return nil
	}
	at := slices.Clone(to)
	for i := range at {
		if at[i] < 0 && f.ours.Is[i] {
			if y, ok := f.same[i]; ok {
				at[i] = bone[y]
			}
		}
	}
	with := *f.s
	return with.WithNodesAt(at).Avatar
}

// motions are ours on the new bones. Where a bone stands as before in what it
// hangs on, its keys are as before.
func (f *skeletonFitter) motions(out *scene.Scene, to []int, bone map[int]int) (list []scene.Motion, err error) {
	now := rig.Of(out)
	direct := func(n int) bool {
		y, ok := f.same[n]
		if !ok {
			return false
		}
		a, b := f.s.Nodes[n].Local(), out.Nodes[bone[y]].Local()
		up, theirs := f.ours.Parent[n], f.ref.Parent[y]
		return sameMatrix(a, b) && (up < 0 && theirs < 0 || up >= 0 && theirs >= 0 && f.same[up] == theirs)
	}
	all := true
	for n := range f.same {
		all = all && direct(n)
	}
	var k *rig.Retarget
	switch {
	case all:
	case f.bodies():
		k = rig.NewRetarget(f.ours, now, f.ours.Map(nil), now.Map(nil), rig.TravelHips, false)
	default:
		k = rig.NewRetargetAlike(f.ours, now, rig.TravelHips)
	}
	for i := range f.s.Motions {
		m := &f.s.Motions[i]
		res := scene.Motion{Name: m.Name}
		lost := 0
		if k != nil {
			carried := k.Motion(m)
			if carried.TooLong > 0 {
				return nil, tooLong(m.Name, carried.TooLong, len(now.Bones))
			}
			res = carried.Motion
		}
		for _, c := range m.Channels {
			at := to[c.Node]
			if f.ours.Is[c.Node] && k != nil {
				continue
			}
			if at < 0 {
				lost++
				continue
			}
			c.Node = at
			res.Channels = append(res.Channels, c)
		}
		if lost > 0 {
			f.r.Lose("%s of the motion %s: the reference has no such bone",
				count(lost, "channel", "channels"), m.Name)
		}
		list = append(list, res)
	}
	return list, nil
}

func sameMatrix(a, b geom.Mat4) bool {
	for i := range a {
		if d := a[i] - b[i]; d > 1e-4 || d < -1e-4 {
			return false
		}
	}
	return true
}
