package rig

import (
	"math"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Aim says where a bone points: from its head to that of another bone below it.
// With a second direction, from one bone to another, it is also turned about
// the first.
type Aim struct {
	Child      int
	To         geom.Vec3
	From, Till int // of the second direction; the same bone is none
	Second     geom.Vec3
}

// Arc is the least turn from one direction to another.
func Arc(from, to geom.Vec3) geom.Quat {
	a, b := from.Norm(), to.Norm()
	axis := a.Cross(b)
	if axis.Len() < 1e-12 {
		if a.Dot(b) >= 0 || a.Len() == 0 {
			return geom.IdentityQuat
		}
		// Half a turn, about anything square to it.
		side := a.Cross(geom.Vec3{1, 0, 0})
		if side.Len() < 1e-6 {
			side = a.Cross(geom.Vec3{0, 1, 0})
		}
		return geom.AxisAngle(side.Norm(), math.Pi)
	}
	return geom.AxisAngle(axis.Norm(), math.Atan2(axis.Len(), a.Dot(b)))
}

// Aimed is where all nodes come to stand when bones are turned to their aims,
// those above first. Whatever hangs on a bone goes with it.
func (r *Rig) Aimed(aims map[int]Aim) []geom.Mat4 {
	world := make([]geom.Mat4, len(r.World))
	for i := range r.Scene.Nodes {
		n := &r.Scene.Nodes[i]
		world[i] = n.Local()
		if n.Parent >= 0 {
			world[i] = world[n.Parent].Mul(world[i])
		}
		aim, ok := aims[i]
		if !ok {
			continue
		}
		inv, sound := r.World[i].Inverse()
		if !sound {
			continue
		}
		by := world[i].Mul(inv) // what the bones above have done to this one
		at := func(bone int) geom.Vec3 { p := r.At(bone); return by.Point(p) }
		head := at(i)
		q := Arc(at(aim.Child).Sub(head), aim.To)
		if aim.From != aim.Till {
			axis := aim.To.Norm()
			flat := func(v geom.Vec3) geom.Vec3 { return v.Sub(axis.Mul(v.Dot(axis))) }
			have, want := flat(q.Rotate(at(aim.Till).Sub(at(aim.From)))), flat(aim.Second)
			if have.Len() > 1e-9 && want.Len() > 1e-9 {
				angle := math.Atan2(have.Cross(want).Dot(axis), have.Dot(want))
				q = geom.AxisAngle(axis, angle).Mul(q)
			}
		}
		world[i] = about(head, q).Mul(world[i])
	}
	return world
}

// about is a turn about a point.
func about(p geom.Vec3, q geom.Quat) geom.Mat4 {
	one := geom.Vec3{1, 1, 1}
	there, back := geom.TRS(p, geom.IdentityQuat, one), geom.TRS(p.Mul(-1), geom.IdentityQuat, one)
	return there.Mul(geom.TRS(geom.Vec3{}, q, one)).Mul(back)
}

// TPose are the aims of a body that stands with its arms level, palms down.
func (r *Rig) TPose(b Body) map[int]Aim { return r.stance(b, r.side) }

// APose are the aims of a body whose arms hang half way down.
func (r *Rig) APose(b Body) map[int]Aim { return r.stance(b, r.side.Sub(r.up).Norm()) }

// stance aims the left arm along a direction, the right one along its mirror
// image, and the legs down.
func (r *Rig) stance(b Body, left geom.Vec3) map[int]Aim {
	aims := map[int]Aim{}
	aim := func(limb, child string, to geom.Vec3) {
		x, ok := b[limb]
		y, there := b[child]
		if ok && there {
			aims[x.Bone] = Aim{Child: y.Bone, To: to}
		}
	}
	for _, side := range []string{"left", "right"} {
		arm := left
		if side == "right" {
			arm = left.Sub(r.side.Mul(2 * left.Dot(r.side)))
		}
		aim(side+"UpperArm", side+"LowerArm", arm)
		aim(side+"LowerArm", side+"Hand", arm)
		for _, f := range []string{"Middle", "Index", "Ring", "Little"} {
			if _, ok := b[side+f+"Proximal"]; ok {
				aim(side+"Hand", side+f+"Proximal", arm)
				if x, ok := aims[b[side+"Hand"].Bone]; ok {
					little, there := b[side+"LittleProximal"]
					index, both := b[side+"IndexProximal"]
					if there && both { // palms down
						x.From, x.Till, x.Second = little.Bone, index.Bone, r.front
						aims[b[side+"Hand"].Bone] = x
					}
				}
				break
			}
		}
		for _, f := range fingers[1:] {
			seg := segments(f)
			aim(side+seg[0], side+seg[1], arm)
			aim(side+seg[1], side+seg[2], arm)
		}
		down := r.up.Mul(-1)
		aim(side+"UpperLeg", side+"LowerLeg", down)
		aim(side+"LowerLeg", side+"Foot", down)
		if foot, ok := b[side+"Foot"]; ok {
			if toes, there := b[side+"Toes"]; there { // feet stay on the ground as they were
				aims[foot.Bone] = Aim{Child: toes.Bone, To: r.At(toes.Bone).Sub(r.At(foot.Bone))}
			}
		}
	}
	return aims
}

// Pairs are the bones of two skeletons that are the same limb.
type Pairs struct {
	List []Pair
	// Lacking are limbs that only the first has.
	Lacking []string
}

// Pair is one bone of each.
type Pair struct {
	Limb  string
	A, B  int
	child int // the pair whose bones these point to, or -1
}

// PairsOf are the limbs that two bodies share.
func PairsOf(a, b Body) (p Pairs) {
	at := map[string]int{}
	for _, l := range Limbs {
		x, ok := a[l]
		if !ok {
			continue
		}
		y, there := b[l]
		if !there {
			p.Lacking = append(p.Lacking, l)
			continue
		}
		at[l] = len(p.List)
		p.List = append(p.List, Pair{l, x.Bone, y.Bone, -1})
	}
	// Each points to the first limb below it that both have: the spine up, the
	// hand to its middle finger.
	first := map[string][]string{}
	trunk := []string{"hips", "spine", "chest", "upperChest", "neck", "head"}
	for i, l := range trunk {
		first[l] = trunk[i+1:]
	}
	for _, s := range []string{"left", "right"} {
		for _, l := range [][2]string{{"Shoulder", "UpperArm"}, {"UpperArm", "LowerArm"}, {"LowerArm", "Hand"},
			{"UpperLeg", "LowerLeg"}, {"LowerLeg", "Foot"}, {"Foot", "Toes"}} {
			first[s+l[0]] = []string{s + l[1]}
		}
		first[s+"Hand"] = []string{s + "MiddleProximal", s + "IndexProximal", s + "RingProximal"}
		for _, f := range fingers {
			seg := segments(f)
			first[s+seg[0]], first[s+seg[1]] = []string{s + seg[1]}, []string{s + seg[2]}
		}
	}
	for i := range p.List {
		for _, l := range first[p.List[i].Limb] {
			if k, ok := at[l]; ok {
				p.List[i].child = k
				break
			}
		}
	}
	return p
}

// PairsAlike are the bones that are the same in two skeletons of any kind; each
// points to the one below it that carries most.
func PairsAlike(a, b *Rig) (p Pairs) {
	same := Same(a, b)
	at := map[int]int{} // of bones of the first
	for _, x := range a.Bones {
		if y, ok := same[x]; ok {
			at[x] = len(p.List)
			p.List = append(p.List, Pair{a.Name(x), x, y, -1})
		} else {
			p.Lacking = append(p.Lacking, a.Name(x))
		}
	}
	for i := range p.List {
		most := 0
		for _, k := range a.Kids[p.List[i].A] {
			n, ok := at[k]
			if size := a.under(k); ok && size > most && b.within(p.List[n].B, p.List[i].B) {
				most, p.List[i].child = size, n
			}
		}
	}
	return p
}

// across are the bones between which a limb's second direction lies.
func across(limb string) (from, till string) {
	switch {
	case limb == "hips":
		return "rightUpperLeg", "leftUpperLeg"
	case limb == "spine" || limb == "chest" || limb == "upperChest":
		return "rightUpperArm", "leftUpperArm"
	case limb == "leftHand":
		return "leftLittleProximal", "leftIndexProximal"
	case limb == "rightHand":
		return "rightLittleProximal", "rightIndexProximal"
	}
	return "", ""
}

// Aligned are the aims that turn the second skeleton's limbs as the first's
// are at rest. Both have the same axes.
func (p Pairs) Aligned(a, b *Rig) map[int]Aim {
	at := map[string]Pair{}
	for _, x := range p.List {
		at[x.Limb] = x
	}
	aims := map[int]Aim{}
	for _, x := range p.List {
		if x.child < 0 {
			continue
		}
		y := p.List[x.child]
		to := a.At(y.A).Sub(a.At(x.A))
		if to.Len() < 1e-9 || b.At(y.B).Sub(b.At(x.B)).Len() < 1e-9 {
			continue
		}
		aim := Aim{Child: y.B, To: to}
		f, t := across(x.Limb)
		from, ok := at[f]
		till, both := at[t]
		below := func(y Pair) bool { return a.within(y.A, x.A) && b.within(y.B, x.B) }
		if ok && both && below(from) && below(till) {
			aim.From, aim.Till, aim.Second = from.B, till.B, a.At(till.A).Sub(a.At(from.A))
		}
		aims[x.B] = aim
	}
	return aims
}

// LegLength is how long a body's legs are on average, from the hip joint over
// the knee to the ankle; 0 where it has none.
func (r *Rig) LegLength(b Body) float64 {
	sum, n := 0.0, 0.0
	for _, side := range []string{"left", "right"} {
		hip, ok1 := b[side+"UpperLeg"]
		knee, ok2 := b[side+"LowerLeg"]
		foot, ok3 := b[side+"Foot"]
		if ok1 && ok2 && ok3 {
			sum += r.At(knee.Bone).Sub(r.At(hip.Bone)).Len() + r.At(foot.Bone).Sub(r.At(knee.Bone)).Len()
			n++
		}
	}
	if n == 0 {
		return 0
	}
	return sum / n
}

// Locals are the local transforms of nodes that stand at places in the world.
func Locals(s *scene.Scene, world []geom.Mat4) []geom.Mat4 {
	out := make([]geom.Mat4, len(world))
	for i := range s.Nodes {
		out[i] = world[i]
		if p := s.Nodes[i].Parent; p >= 0 {
			if inv, ok := world[p].Inverse(); ok {
				out[i] = inv.Mul(world[i])
			}
		}
	}
	return out
}
