package step

import "excavate/core/rig"

// Limbs are the parameter of steps that work on a body: what the porter knows
// better than what can be told.
type Limbs struct {
	Limbs []LimbRow `json:"limbs,omitempty" jsonschema:"title=Limbs,description=Bones that are other limbs than can be told; the rest follows them"`
}

// LimbRow says which bone is a limb.
type LimbRow struct {
	Limb string `json:"limb" jsonschema:"title=Limb,minLength=1,description=In the words of VRM 1.0 such as leftUpperArm"`
	Bone string `json:"bone" jsonschema:"title=Is the bone,minLength=1"`
}

// fixed are the rows as rig.Map takes them.
func (l *Limbs) fixed() map[string]string { return fixedLimbs(l.Limbs) }

func fixedLimbs(rows []LimbRow) map[string]string {
	out := map[string]string{}
	for _, x := range rows {
		out[x.Limb] = x.Bone
	}
	return out
}

// unknownLimbs lists rows that name no limb, or no bone of a skeleton.
func unknownLimbs(rows []LimbRow, k *rig.Rig) (out []string) {
	for _, x := range rows {
		limb, bone := false, false
		for _, l := range rig.Limbs {
			limb = limb || l == x.Limb
		}
		for _, b := range k.Bones {
			bone = bone || k.Name(b) == x.Bone
		}
		switch {
		case !limb:
			out = append(out, "there is no limb "+x.Limb)
		case !bone:
			out = append(out, "there is no bone "+x.Bone)
		}
	}
	return out
}
