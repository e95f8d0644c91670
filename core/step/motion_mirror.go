package step

import (
	"context"
	"fmt"

	"excavate/core/distinct"
	"excavate/core/rig"
	"excavate/core/scene"
)

// MotionMirrorParams say which motions are mirrored.
type MotionMirrorParams struct {
	Motion string `json:"motion,omitempty" jsonschema:"title=Motions named,maxLength=1000,description=A pattern with *; empty is all of them"`
	Keep   bool   `json:"keep" jsonschema:"title=Keep the original,description=The mirrored one comes beside it, with mirrored after its name"`
}

var _ = register(Kind{Name: "motion-mirror", Title: "Mirror motions", Family: Rig, Version: 1,
	Purpose: "Do with the left what was done with the right. Each bone's partner is the one that stands where its mirror image does at rest."},
	MotionMirrorParams{}, motionMirror)

func motionMirror(ctx context.Context, s *scene.Scene, p MotionMirrorParams, r *Report) (*scene.Scene, error) {
	k := rig.Of(s)
	if len(k.Bones) > rig.MostMirrored {
		return nil, fmt.Errorf("a skeleton of %d bones is not mirrored, of %d at most", len(k.Bones), rig.MostMirrored)
	}
	mirror, alone := rig.NewMirror(k)
	n := 0
	var names distinct.Names
	for i := range s.Motions {
		names.Name(s.Motions[i].Name, " ")
	}
	var also []scene.Motion
	out, err := eachMotion(ctx, s, p.Motion, r, func(m *scene.Motion) (bool, error) {
		carried := mirror.Motion(m)
		if carried.TooLong > 0 {
			return false, tooLong(m.Name, carried.TooLong, len(k.Bones))
		}
		x := carried.Motion
		if len(x.Channels) == 0 {
			return false, nil
		}
		for _, c := range m.Channels { // what no bone does stays as it is
			if c.Path == scene.PathWeights || !k.Is[c.Node] {
				x.Channels = append(x.Channels, c)
			}
		}
		n++
		if p.Keep {
			x.Name = names.Name(m.Name+" mirrored", " ")
			also = append(also, x)
			return true, nil
		}
		m.Channels = x.Channels
		return true, nil
	})
	if err != nil || out == s {
		return out, err
	}
	out.Motions = append(out.Motions, also...)
	r.Say("%s mirrored", count(n, "motion", "motions"))
	if len(alone) > 0 {
		r.Say("without a partner, and so mirrored in itself: %s", named(alone))
	}
	return out, nil
}
