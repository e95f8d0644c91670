package scene

import (
	"fmt"
	"slices"

	"excavate/core/geom"
)

// Avatar is what makes a scene a person's: which bone is which limb, faces to
// make, where the eyes look, what swings. Its words are those of VRM 1.0
// (VRM Consortium, VRMC_vrm-1.0 and VRMC_springBone-1.0), to which older files
// are brought. Lengths are in the scene's unit and axes.
type Avatar struct {
	Version     string           `json:"version"` // of the file: 0.x or 1.0
	Bones       map[string]int   `json:"bones"`   // node of each humanoid bone: hips, leftUpperArm, …
	Expressions []Expression     `json:"expressions"`
	LookAt      *LookAt          `json:"lookAt,omitempty"`
	Colliders   []SpringCollider `json:"colliders,omitempty"`
	Springs     []Spring         `json:"springs,omitempty"`
	Meta        AvatarMeta       `json:"meta"`
}

// AvatarMeta is what the file says of itself. Licence words are VRM 1.0's.
type AvatarMeta struct {
	Name               string   `json:"name,omitempty"`
	Version            string   `json:"version,omitempty"`
	Authors            []string `json:"authors,omitempty"`
	Copyright          string   `json:"copyright,omitempty"`
	Contact            string   `json:"contact,omitempty"`
	References         []string `json:"references,omitempty"`
	ThirdParty         string   `json:"thirdParty,omitempty"`
	LicenceURL         string   `json:"licenceURL,omitempty"`
	OtherLicenceURL    string   `json:"otherLicenceURL,omitempty"`
	WhoMayUse          string   `json:"whoMayUse,omitempty"`
	CommercialUse      string   `json:"commercialUse,omitempty"`
	Modification       string   `json:"modification,omitempty"`
	Credit             string   `json:"credit,omitempty"`
	ViolentUse         bool     `json:"violentUse,omitempty"`
	SexualUse          bool     `json:"sexualUse,omitempty"`
	PoliticalUse       bool     `json:"politicalUse,omitempty"`
	AntisocialUse      bool     `json:"antisocialUse,omitempty"`
	Redistribution     bool     `json:"redistribution,omitempty"`
	ThumbnailOfPicture int      `json:"thumbnail"` // a picture, or None
}

// Expression is a face to make: morph targets and material colours together.
type Expression struct {
	Name      string            `json:"name"`
	Preset    bool              `json:"preset,omitempty"` // its name is one of VRM's
	Binary    bool              `json:"binary,omitempty"` // only fully on or off
	Morphs    []ExpressionMorph `json:"morphs,omitempty"`
	Colours   []ColourBind      `json:"colours,omitempty"`
	Overrides map[string]string `json:"overrides,omitempty"` // blink, lookAt, mouth: block or blend
}

// ExpressionMorph is a morph target of the mesh of a node.
type ExpressionMorph struct {
	Node   int     `json:"node"`
	Index  int     `json:"index"`
	Weight float32 `json:"weight"` // 0 to 1
}

// ColourBind changes a colour of a material.
type ColourBind struct {
	Material int        `json:"material"`
	Type     string     `json:"type"` // color, emissionColor, …
	Value    [4]float32 `json:"value"`
}

// LookAt says where the eyes are and how far they turn.
type LookAt struct {
	Type   string     `json:"type"`   // bone or expression
	Offset [3]float32 `json:"offset"` // from the head bone
	// Ranges: input in degrees, output in degrees or weight, of inner and outer
	// horizontal, down and up.
	Ranges [4][2]float32 `json:"ranges"`
}

// SpringCollider is a sphere or capsule that springs keep out of.
type SpringCollider struct {
	Node   int         `json:"node"`
	Offset [3]float32  `json:"offset"`
	Radius float32     `json:"radius"`
	Tail   *[3]float32 `json:"tail,omitempty"` // of a capsule
	Groups []string    `json:"groups,omitempty"`
}

// Spring is a chain of bones that swings.
type Spring struct {
	Name   string        `json:"name,omitempty"`
	Joints []SpringJoint `json:"joints"`
	Groups []string      `json:"groups,omitempty"` // of colliders
	Center int           `json:"center"`           // a node, or None
}

// SpringJoint is one bone of a spring.
type SpringJoint struct {
	Node         int        `json:"node"`
	Radius       float32    `json:"radius"`
	Stiffness    float32    `json:"stiffness"`
	GravityPower float32    `json:"gravityPower"`
	GravityDir   [3]float32 `json:"gravityDir"`
	Drag         float32    `json:"drag"`
}

// Toon is a toon surface, under the names of VRMC_materials_mtoon-1.0. Colours
// are linear.
type Toon struct {
	ShadeColour      [3]float32 `json:"shadeColour"`
	ShadingShift     float32    `json:"shadingShift"`
	ShadingToony     float32    `json:"shadingToony"`
	GIEqualisation   float32    `json:"giEqualisation"`
	RimColour        [3]float32 `json:"rimColour"`
	RimFresnel       float32    `json:"rimFresnel"`
	RimLift          float32    `json:"rimLift"`
	OutlineMode      string     `json:"outlineMode,omitempty"` // worldCoordinates, screenCoordinates; empty for none
	OutlineWidth     float32    `json:"outlineWidth,omitempty"`
	OutlineColour    [3]float32 `json:"outlineColour"`
	TransparentDepth bool       `json:"transparentDepth,omitempty"` // writes depth where it is blended
}

func (a *Avatar) validate(s *Scene) error {
	if a == nil {
		return nil
	}
	node := func(what string, n int) error {
		if n < 0 || n >= len(s.Nodes) {
			return fmt.Errorf("%s: node %d: there are %d", what, n, len(s.Nodes))
		}
		return nil
	}
	for name, n := range a.Bones {
		if err := node("bone "+name, n); err != nil {
			return err
		}
	}
	for _, e := range a.Expressions {
		for _, m := range e.Morphs {
			if err := node("expression "+e.Name, m.Node); err != nil {
				return err
			}
		}
		for _, c := range e.Colours {
			if c.Material < 0 || c.Material >= len(s.Materials) {
				return fmt.Errorf("expression %s: material %d: there are %d",
					e.Name, c.Material, len(s.Materials))
			}
		}
	}
	for i, c := range a.Colliders {
		if err := node(fmt.Sprintf("collider %d", i), c.Node); err != nil {
			return err
		}
	}
	for _, sp := range a.Springs {
		for _, j := range sp.Joints {
			if err := node("spring "+sp.Name, j.Node); err != nil {
				return err
			}
		}
		if sp.Center >= len(s.Nodes) {
			return node("spring "+sp.Name, sp.Center)
		}
	}
	if a.Meta.ThumbnailOfPicture >= len(s.Pictures) {
		return fmt.Errorf("thumbnail: picture %d: there are %d", a.Meta.ThumbnailOfPicture, len(s.Pictures))
	}
	return nil
}

// moved is the avatar after nodes have moved to at, or went where that is None.
func (a *Avatar) moved(at []int) *Avatar {
	if a == nil {
		return nil
	}
	o := *a
	o.Bones = map[string]int{}
	for name, n := range a.Bones {
		if at[n] >= 0 {
			o.Bones[name] = at[n]
		}
	}
	o.Expressions = slices.Clone(a.Expressions)
	for i := range o.Expressions {
		e := &o.Expressions[i]
		e.Morphs = keep(e.Morphs, func(m *ExpressionMorph) bool { m.Node = at[m.Node]; return m.Node >= 0 })
	}
	o.Colliders = keep(a.Colliders, func(c *SpringCollider) bool { c.Node = at[c.Node]; return c.Node >= 0 })
	o.Springs = slices.Clone(a.Springs)
	for i := range o.Springs {
		s := &o.Springs[i]
		s.Joints = keep(s.Joints, func(j *SpringJoint) bool { j.Node = at[j.Node]; return j.Node >= 0 })
		if s.Center >= 0 {
			s.Center = at[s.Center]
		}
	}
	return &o
}

// keep clones a list, changes its elements and leaves out those for which f
// is false.
func keep[T any](v []T, f func(*T) bool) []T {
	var out []T
	for _, x := range v {
		if f(&x) {
			out = append(out, x)
		}
	}
	return out
}

// inBasis is the avatar after a change of basis. Node-local offsets turn with
// the axes of the nodes, as scene.InBasis turns them.
func (a *Avatar) inBasis(c *geom.Change) *Avatar {
	if a == nil {
		return nil
	}
	o := *a
	k := float32(c.Scale)
	if a.LookAt != nil {
		l := *a.LookAt
		mapVec(l.Offset[:], c.Point)
		o.LookAt = &l
	}
	o.Colliders = slices.Clone(a.Colliders)
	for i := range o.Colliders {
		x := &o.Colliders[i]
		mapVec(x.Offset[:], c.Point)
		x.Radius *= k
		if x.Tail != nil {
			t := *x.Tail
			mapVec(t[:], c.Point)
			x.Tail = &t
		}
	}
	o.Springs = slices.Clone(a.Springs)
	for i := range o.Springs {
		o.Springs[i].Joints = slices.Clone(o.Springs[i].Joints)
		for j := range o.Springs[i].Joints {
			x := &o.Springs[i].Joints[j]
			x.Radius *= k
			mapVec(x.GravityDir[:], c.Dir)
		}
	}
	return &o
}

// WithExpressions is the avatar with its expressions changed by f, without
// those for which it is false.
func (a *Avatar) WithExpressions(f func(*Expression) bool) *Avatar {
	o := *a
	o.Expressions = keep(a.Expressions, f)
	return &o
}
