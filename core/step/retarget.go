package step

import (
	"context"
	"fmt"
	"slices"

	"excavate/core/distinct"
	"excavate/core/pick"
	"excavate/core/rig"
	"excavate/core/scene"
)

// RetargetParams say whose motions come, and how.
type RetargetParams struct {
	From    string `json:"from" jsonschema:"title=Motions of,minLength=1,maxLength=4096,description=An asset in the search order or beside the chain's document; or chain: and the name of another chain" jsonschema_extras:"chooser=model"`
	Motions string `json:"motions,omitempty" jsonschema:"title=Motions named,maxLength=1000,description=A pattern with *; empty is all of them"`
	Travel  string `json:"travel" jsonschema:"title=The way over the ground,enum=keep,enum=root,enum=remove,description=keep: the hips go it. root: the root bone goes it. remove: in place."`
	Feet    bool   `json:"feet" jsonschema:"title=Feet stay where they touch,description=By bending hip and knee"`
	Replace bool   `json:"replace" jsonschema:"title=Instead of its own,description=The asset's own motions go"`
	Limbs
	Theirs []LimbRow `json:"their_limbs,omitempty" jsonschema:"title=Limbs of the other,description=Bones of the other asset that are other limbs than can be told"`
}

func (p *RetargetParams) asks() []Ask { return []Ask{{Asset: p.From}} }

var _ = registerBeyond(Kind{Name: "retarget", Title: "Motions of another", Family: Rig, Version: 1,
	Purpose: "Let the figure move as another does: limb by limb against both rest poses, the way scaled by the legs' lengths, feet kept where they touch the ground."},
	RetargetParams{Travel: "keep", Feet: true}, retarget)

func retarget(ctx context.Context, s *scene.Scene, p RetargetParams, b Beyond, r *Report) (*scene.Scene, error) {
	if p.From == "" {
		r.Nothing("no asset is named")
		return s, nil
	}
	o, err := other(ctx, b, p.From, s, r)
	if err != nil {
		return nil, err
	}
	if len(o.Motions) == 0 {
		return nil, fmt.Errorf("%s has no motions", p.From)
	}
	from, to := rig.Of(o), rig.Of(s)
	if bad := append(unknownLimbs(p.Limbs.Limbs, to), unknownLimbs(p.Theirs, from)...); len(bad) > 0 {
		return nil, fmt.Errorf("limbs: %s", named(bad))
	}
	theirs, ours := from.Map(fixedLimbs(p.Theirs)), to.Map(p.fixed())
	k, err := retargeter(p, from, to, theirs, ours, r)
	if err != nil {
		return nil, err
	}
	out := *s
	out.Motions = slices.Clone(s.Motions)
	if p.Replace {
		out.Motions = nil
	}
	var names distinct.Names
	for i := range out.Motions {
		names.Name(out.Motions[i].Name, " ")
	}
	lacking := map[string]bool{}
	var carried, contacts, stretched int
	var slid, slides, sunk float64
	var morphs int
	for i := range o.Motions {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		m := &o.Motions[i]
		if p.Motions != "" && !pick.Fits(p.Motions, m.Name) {
			continue
		}
		x := k.Motion(m)
		if x.TooLong > 0 {
			return nil, tooLong(m.Name, x.TooLong, len(to.Bones))
		}
		for _, l := range rig.Moved(m, from, theirs) {
			if _, ok := ours[l]; !ok {
				lacking[l] = true
			}
		}
		for _, c := range m.Channels {
			if c.Path == scene.PathWeights {
				morphs++
			}
		}
		if len(x.Motion.Channels) == 0 {
			continue
		}
		x.Motion.Name = names.Name(x.Motion.Name, " ")
		out.Motions = append(out.Motions, x.Motion)
		carried++
		contacts, stretched = contacts+x.Contacts, stretched+x.Stretched
		slid, slides, sunk = max(slid, x.Slid), max(slides, x.Slides), max(sunk, x.Sunk)
	}
	if carried == 0 {
		r.Nothing("no motion of %s%s moves a limb", p.From, ifNamed(" named %s", p.Motions))
		return s, nil
	}
	r.Say("%s carried over, on %s",
		count(carried, "motion", "motions"), count(len(k.Pairs.List), "limb", "limbs"))
	r.Say("the way over the ground is %.3g of the other's, as the legs are", k.Scale)
	if contacts > 0 {
		r.Say("feet touch the ground %s: they slid by up to %s, and do by %s",
			count(contacts, "time", "times"), centimetres(s, slid), centimetres(s, slides))
	}
	if unit := s.Basis.MetresPerUnit; sunk*max(unit, 1e-9) > 1e-3 || unit == 0 && sunk > 0 {
		r.Say("a foot goes up to %s below where it stands at rest", centimetres(s, sunk))
	}
	if stretched > 0 {
		r.Say("in %s a leg is too short to reach", count(stretched, "frame", "frames"))
	}
	if len(lacking) > 0 {
		var list []string
		for _, l := range rig.Limbs {
			if lacking[l] {
				list = append(list, l)
			}
		}
		r.Lose("what %s does: this skeleton has no such bone", named(list))
	}
	if morphs > 0 {
		r.Lose("%s of morph targets", count(morphs, "motion channel", "motion channels"))
	}
	if lost := len(s.Motions); p.Replace && lost > 0 {
		r.Say("its own %s let go", count(lost, "motion is", "motions are"))
	}
	return &out, nil
}

// mayLack is how many limbs a skeleton may lack and still be taken for a body.
const mayLack = 3

// retargeter pairs two skeletons: limb by limb where both are bodies, else by
// the bones' names and places.
func retargeter(p RetargetParams, from, to *rig.Rig, theirs, ours rig.Body, r *Report) (*rig.Retarget, error) {
	if len(theirs.Missing()) <= mayLack && len(ours.Missing()) <= mayLack {
		k := rig.NewRetarget(from, to, theirs, ours, rig.Travel(p.Travel), p.Feet)
		if k.Travel == rig.TravelRoot && to.Root() == ours["hips"].Bone {
			r.Say("the hips are the root: the way stays with them")
		}
		return k, nil
	}
	k := rig.NewRetargetAlike(from, to, rig.Travel(p.Travel))
	if n := len(k.Pairs.List); n < 3 || 2*n < len(from.Bones) && 2*n < len(to.Bones) {
		for _, x := range []struct {
			who  string
			body rig.Body
		}{{p.From, theirs}, {"this asset", ours}} {
			if missing := x.body.Missing(); len(missing) > mayLack {
				return nil, fmt.Errorf("the skeleton of %s has no %s that can be told, and too few bones are alike: say which they are (limbs), or rename them first (bones-rename)",
					x.who, named(missing))
			}
		}
	}
	r.Say("no two whole bodies: bones are paired by their names and places")
	return k, nil
}

func tooLong(motion string, keys, bones int) error {
	return fmt.Errorf("the motion %s has keys at %d times for %d bones, which is more than can be held: cut it or give it fewer keys first (keys)",
		motion, keys, bones)
}

// centimetres says a length.
func centimetres(s *scene.Scene, d float64) string {
	if m := s.Basis.MetresPerUnit; m > 0 {
		if d*m < 1e-4 { // what is left of rounding
			return "less than 0.1 mm"
		}
		return fmt.Sprintf("%.2g cm", 100*d*m)
	}
	return fmt.Sprintf("%.3g of the file's units", d)
}
