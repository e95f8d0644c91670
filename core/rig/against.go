package rig

import (
	"fmt"
	"math"
	"slices"

	"excavate/core/geom"
	"excavate/core/scene"
)

// Difference is one thing in which a skeleton is not its reference.
type Difference struct {
	Kind  string `json:"kind"` // root, missing, additional, parent, order, rest, place, scale
	Bone  string `json:"bone"`
	Text  string `json:"text"`
	Bone2 string `json:"bone2,omitempty"` // what the bone is in the reference, where it has another name
}

// How far bones may be off before it is said: rounding of 32-bit numbers and of
// what exporters write.
const (
	turnOff  = 0.1   // degrees
	placeOff = 0.001 // of the skeleton's height
)

// Same pairs the bones of two skeletons that mean the same: of one name, then
// of one limb, then those whose parents are paired and that alone stand where
// the other does.
func Same(a, b *Rig) map[int]int {
	out := map[int]int{}
	taken := map[int]bool{}
	pair := func(x, y int) {
		if _, ok := out[x]; !ok && !taken[y] {
			out[x], taken[y] = y, true
		}
	}
	byName := map[string]int{}
	for _, y := range b.Bones {
		if _, twice := byName[b.Name(y)]; !twice {
			byName[b.Name(y)] = y
		}
	}
	for _, x := range a.Bones {
		if y, ok := byName[a.Name(x)]; ok {
			pair(x, y)
		}
	}
	if len(out) < len(a.Bones) || len(out) < len(b.Bones) {
		ours, theirs := a.Map(nil), b.Map(nil)
		for _, l := range Limbs {
			x, ok := ours[l]
			y, there := theirs[l]
			if ok && there {
				pair(x.Bone, y.Bone)
			}
		}
		if ra, rb := a.Root(), b.Root(); ra >= 0 && rb >= 0 && ours["hips"].Bone != ra && theirs["hips"].Bone != rb {
			pair(ra, rb)
		}
		byPlace(a, b, out, taken)
	}
	return out
}

// mostCompared is how many pairs of bones below two are looked at: of more, as
// where thousands hang on one, none is told by its place.
const mostCompared = 1_000_000

// byPlace pairs what is left below paired bones by where it stands: seen from
// the parent, in the same direction and as far.
func byPlace(a, b *Rig, out map[int]int, taken map[int]bool) {
	size := func(r *Rig) float64 {
		box := geom.EmptyBox()
		for _, n := range r.Bones {
			box.Add(r.At(n))
		}
		return box.Size().Len()
	}
	sa, sb := size(a), size(b)
	if sa == 0 || sb == 0 {
		return
	}
	if len(out) == 0 {
		if x, y := a.Root(), b.Root(); x >= 0 && y >= 0 {
			out[x], taken[y] = y, true
		}
	}
	endsA, endsB := a.ends(), b.ends()
	for _, x := range a.Bones {
		y, ok := out[x]
		if !ok || len(a.Kids[x])*len(b.Kids[y]) > mostCompared {
			continue
		}
		for _, k := range a.Kids[x] {
			if _, done := out[k]; done {
				continue
			}
			best, at := 0.08, scene.None
			for _, o := range b.Kids[y] {
				if taken[o] {
					continue
				}
				d := a.At(k).Sub(a.At(x)).Mul(1 / sa).Sub(b.At(o).Sub(b.At(y)).Mul(1 / sb)).Len()
				d += 0.02 * math.Abs(float64(endsA[k].leaves-endsB[o].leaves))
				if d < best {
					best, at = d, o
				}
			}
			if at != scene.None {
				out[k], taken[at] = at, true
			}
		}
	}
}

// Against says in what a skeleton is not its reference; both have the same axes
// and unit, which is metres for the centimetres that are said.
func Against(r, ref *Rig, metres float64) (out []Difference) {
	same := Same(r, ref)
	back := map[int]int{}
	for x, y := range same {
		back[y] = x
	}
	add := func(kind string, bone, other string, f string, v ...any) {
		out = append(out, Difference{Kind: kind, Bone: bone, Bone2: other, Text: fmt.Sprintf(f, v...)})
	}
	root, theirs := r.Root(), ref.Root()
	if root >= 0 && theirs >= 0 && r.Name(root) != ref.Name(theirs) {
		add("root", r.Name(root), ref.Name(theirs), "the root is called “%s”, and should be “%s”", r.Name(root), ref.Name(theirs))
	}
	for _, y := range ref.Bones {
		if _, ok := back[y]; !ok {
			add("missing", ref.Name(y), "", "the bone %s is missing", ref.Name(y))
		}
	}
	for _, x := range r.Bones {
		y, ok := same[x]
		if !ok {
			add("additional", r.Name(x), "", "the bone %s is not in the reference", r.Name(x))
			continue
		}
		if r.Name(x) != ref.Name(y) && x != root {
			add("name", r.Name(x), ref.Name(y), "%s should be called %s", r.Name(x), ref.Name(y))
		}
		px, py := r.Parent[x], ref.Parent[y]
		if want, ok := back[py]; py >= 0 && ok && want != px || py < 0 && px >= 0 {
			is, should := "nothing", "nothing"
			if px >= 0 {
				is = r.Name(px)
			}
			if py >= 0 {
				should = ref.Name(py)
			}
			add("parent", r.Name(x), ref.Name(y), "%s hangs on %s, and should on %s", r.Name(x), is, should)
		}
	}
	out = append(out, inOrder(r, ref, same)...)
	return append(out, atRest(r, ref, same, metres)...)
}

// inOrder says where joints stand in another order than the reference's.
func inOrder(r, ref *Rig, same map[int]int) []Difference {
	list := func(k *Rig) []int {
		if len(k.Scene.Skins) > 0 {
			return k.Scene.Skins[0].Joints
		}
		return k.Bones
	}
	place := map[int]int{}
	for i, y := range list(ref) {
		place[y] = i
	}
	last := -1
	for _, x := range list(r) {
		at, ok := place[same[x]]
		if _, paired := same[x]; !ok || !paired {
			continue
		}
		if at < last {
			text := fmt.Sprintf("the joints stand in another order, from %s on", r.Name(x))
			return []Difference{{Kind: "order", Bone: r.Name(x), Text: text}}
		}
		last = at
	}
	return nil
}

// atRest says what stands otherwise at rest.
func atRest(r, ref *Rig, same map[int]int, metres float64) (out []Difference) {
	tall, theirs := r.high-r.low, ref.high-ref.low
	if tall <= 0 || theirs <= 0 {
		return nil
	}
	scale := theirs / tall
	if math.Abs(scale-1) > 0.02 {
		text := fmt.Sprintf("the reference's skeleton is %.3g times as tall", scale)
		out = append(out, Difference{Kind: "scale", Text: text})
	}
	bones := slices.Clone(r.Bones)
	for _, x := range bones {
		y, ok := same[x]
		if !ok {
			continue
		}
		_, a, _, _ := r.World[x].Decompose()
		_, b, _, _ := ref.World[y].Decompose()
		q := b.Mul(a.Inverse())
		deg := 2 * math.Atan2(math.Sqrt(q[0]*q[0]+q[1]*q[1]+q[2]*q[2]), math.Abs(q[3])) * 180 / math.Pi
		off := r.At(x).Mul(scale).Sub(ref.At(y)).Len()
		if deg > turnOff {
			text := fmt.Sprintf("%s is turned by %.3g degrees at rest", r.Name(x), deg)
			out = append(out, Difference{Kind: "rest", Bone: r.Name(x), Text: text})
		}
		if off > placeOff*theirs {
			text := fmt.Sprintf("%s stands %.3g cm away from where the reference has it", r.Name(x), 100*off*metres)
			out = append(out, Difference{Kind: "place", Bone: r.Name(x), Text: text})
		}
	}
	return out
}

// HeldAgainst is Against for scenes of any axes and units: the reference is
// brought to those of the scene.
func HeldAgainst(s, ref *scene.Scene) ([]Difference, error) {
	if s.Basis.Oriented() && ref.Basis != s.Basis {
		full := *ref
		full.Basis = ref.Basis.Completed(s.Basis)
		to := s.Basis
		if to.MetresPerUnit == 0 {
			to.MetresPerUnit = full.Basis.MetresPerUnit
		}
		var err error
		if ref, err = full.InBasis(to); err != nil {
			return nil, err
		}
	}
	r, other := Of(s), Of(ref)
	if len(r.Bones) == 0 || len(other.Bones) == 0 {
		return []Difference{{Kind: "missing", Text: "one of the two has no bones"}}, nil
	}
	metres := s.Basis.MetresPerUnit
	if metres == 0 {
		metres = 1
	}
	return Against(r, other, metres), nil
}
