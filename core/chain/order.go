package chain

import (
	"bytes"
	"encoding/json"
)

// OutOfOrder is a step that a later one undoes or spoils.
type OutOfOrder struct {
	Step  int    `json:"step"`  // from 0
	After int    `json:"after"` // the later step behind which it belongs
	Why   string `json:"why"`
}

// belongs are steps that belong behind others, and why.
var belongs = []struct {
	step, after string
	with        func(step, after json.RawMessage) bool // whether it holds for these parameters; nil always
	why         string
}{
	{step: "normals", after: "mirror", why: "normals that were weighted before the mirror leave a visible seam along the middle"},
	{step: "normals", after: "weld", why: "vertices that are joined afterwards get the mean of their normals, and hard edges soften"},
	{step: "normals", after: "facing", why: "faces that are turned round afterwards take their normals along, and the mean at their corners is wrong"},
	{step: "tangents", after: "weld", why: "joined vertices keep the tangent of one of them"},
	{step: "tangents", after: "normals", why: "tangents belong to normals; new ones throw them away"},
	{step: "tangents", after: "mirror", why: "vertices at the plane are joined afterwards"},
	{step: "tangents", after: "uv-transform", why: "tangents follow the UVs; when these turn they are thrown away"},
	{step: "tangents", after: "atlas", why: "tangents follow the UVs, which move to the sheet"},
	{step: "reduce", after: "weld", why: "along split edges nothing can be taken out until they are joined"},
	{step: "reduce", after: "fill-holes", why: "holes are open borders, and borders hold triangles"},
	{step: "reduce", after: "mirror", why: "the mirrored half would be reduced a second time, and the plane hold vertices"},
	{step: "colliders", after: "reduce", with: meshed, why: "colliders of hulls and meshes would have the triangles that go afterwards"},
	{step: "colliders", after: "pivot", why: "the pivot of what has a collider moves under it"},
	{step: "colliders", after: "join", why: "what is joined afterwards loses the node that its collider hangs on"},
	{step: "atlas", after: "alpha", why: "one material has one alpha mode: what is cut out and what is not has to be known before they become one"},
	{step: "atlas", after: "channels", why: "a channel of one picture is no longer one picture's on the sheet"},
	{step: "atlas", after: "materials", why: "pictures that come afterwards are not on the sheet"},
	{step: "atlas", after: "relink", why: "pictures that are found afterwards are not on the sheet"},
	{step: "alpha", after: "channels", with: intoAlpha, why: "it looks at an alpha that only comes afterwards"},
	{step: "alpha", after: "relink", why: "it looks at pictures that are only found afterwards"},
	{step: "alpha", after: "materials", why: "it looks at pictures that only come afterwards"},
	{step: "join", after: "sets", why: "sets are told apart by their names when they are joined, and get these only afterwards"},
	{step: "ground", after: "strip", why: "what goes afterwards was measured too, and the rest no longer stands on the ground"},
	{step: "ground", after: "keep", why: "what goes afterwards was measured too, and the rest no longer stands on the ground"},
	{step: "ground", after: "drop-loose", why: "what goes afterwards was measured too, and the rest no longer stands on the ground"},
	{step: "ground", after: "basis", why: "up is another way afterwards"},
	{step: "ground", after: "bake-pose", why: "the pose has another lowest point than the rest"},
	{step: "centre", after: "strip", why: "what goes afterwards was measured too"},
	{step: "centre", after: "keep", why: "what goes afterwards was measured too"},
	{step: "scale", after: "strip", with: byHeight, why: "what goes afterwards counts into the height"},
	{step: "scale", after: "bake-pose", with: byHeight, why: "the pose is of another height than the rest"},
}

// Order lists the steps that a later one undoes or spoils, each with the last
// such one. Steps that are switched off count for nothing.
func (c *Chain) Order() []OutOfOrder {
	out := []OutOfOrder{}
	for i := range c.Steps {
		if c.Steps[i].Off {
			continue
		}
		found := OutOfOrder{Step: i, After: -1}
		for k := i + 1; k < len(c.Steps); k++ {
			if c.Steps[k].Off {
				continue
			}
			for _, b := range belongs {
				if b.step == c.Steps[i].Step && b.after == c.Steps[k].Step && (b.with == nil || b.with(c.Steps[i].With, c.Steps[k].With)) {
					found.After, found.Why = k, b.why
				}
			}
		}
		if found.After >= 0 {
			out = append(out, found)
		}
	}
	return out
}

// param is a parameter as JSON, nil if it is left out.
func param(with json.RawMessage, name string) json.RawMessage {
	var p map[string]json.RawMessage
	if json.Unmarshal(with, &p) != nil {
		return nil
	}
	return p[name]
}

func meshed(step, _ json.RawMessage) bool {
	s := param(step, "shape")
	return bytes.Equal(s, []byte(`"hull"`)) || bytes.Equal(s, []byte(`"hulls"`)) || bytes.Equal(s, []byte(`"mesh"`))
}

func intoAlpha(_, after json.RawMessage) bool {
	return bytes.Equal(param(after, "into"), []byte(`"a"`))
}

func byHeight(step, _ json.RawMessage) bool { return param(step, "height") != nil }
