package gltf

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"sort"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

// VRM (VRM Consortium) is glTF with extensions: VRM for version 0.x,
// VRMC_vrm, VRMC_springBone and VRMC_materials_mtoon for version 1.0. A 0.x
// avatar is brought to the words of 1.0; it looks along -z, one of 1.0 along z.

type vrm1 struct {
	Spec string    `json:"specVersion"`
	Meta vrm1Meta  `json:"meta"`
	Hum  vrm1Human `json:"humanoid"`
	Look *struct {
		Offset [3]float32 `json:"offsetFromHeadBone"`
		Type   string     `json:"type"`
		Inner  vrm1Range  `json:"rangeMapHorizontalInner"`
		Outer  vrm1Range  `json:"rangeMapHorizontalOuter"`
		Down   vrm1Range  `json:"rangeMapVerticalDown"`
		Up     vrm1Range  `json:"rangeMapVerticalUp"`
	} `json:"lookAt,omitempty"`
	Expr struct {
		Preset map[string]vrm1Expression `json:"preset,omitempty"`
		Custom map[string]vrm1Expression `json:"custom,omitempty"`
	} `json:"expressions"`
}

type vrm1Range struct {
	In  float32 `json:"inputMaxValue"`
	Out float32 `json:"outputScale"`
}

type vrm1Human struct {
	Bones map[string]struct {
		Node int `json:"node"`
	} `json:"humanBones"`
}

type vrm1Meta struct {
	Name       string   `json:"name"`
	Version    string   `json:"version,omitempty"`
	Authors    []string `json:"authors"`
	Copyright  string   `json:"copyrightInformation,omitempty"`
	Contact    string   `json:"contactInformation,omitempty"`
	References []string `json:"references,omitempty"`
	ThirdParty string   `json:"thirdPartyLicenses,omitempty"`
	Thumbnail  *int     `json:"thumbnailImage,omitempty"`
	Licence    string   `json:"licenseUrl"`
	Who        string   `json:"avatarPermission,omitempty"`
	Violent    bool     `json:"allowExcessivelyViolentUsage"`
	Sexual     bool     `json:"allowExcessivelySexualUsage"`
	Commercial string   `json:"commercialUsage,omitempty"`
	Political  bool     `json:"allowPoliticalOrReligiousUsage"`
	Antisocial bool     `json:"allowAntisocialOrHateUsage"`
	Credit     string   `json:"creditNotation,omitempty"`
	Redist     bool     `json:"allowRedistribution"`
	Modify     string   `json:"modification,omitempty"`
	Other      string   `json:"otherLicenseUrl,omitempty"`
}

type vrm1Expression struct {
	Morphs  []vrm1Morph  `json:"morphTargetBinds,omitempty"`
	Colours []vrm1Colour `json:"materialColorBinds,omitempty"`
	Moves   []any        `json:"textureTransformBinds,omitempty"`
	Binary  bool         `json:"isBinary,omitempty"`
	Blink   string       `json:"overrideBlink,omitempty"`
	LookAt  string       `json:"overrideLookAt,omitempty"`
	Mouth   string       `json:"overrideMouth,omitempty"`
}

type vrm1Morph struct {
	Node   int     `json:"node"`
	Index  int     `json:"index"`
	Weight float32 `json:"weight"`
}

type vrm1Colour struct {
	Material int        `json:"material"`
	Type     string     `json:"type"`
	Value    [4]float32 `json:"targetValue"`
}

type vrm1Springs struct {
	Spec      string         `json:"specVersion"`
	Colliders []vrm1Collider `json:"colliders,omitempty"`
	Groups    []vrm1Group    `json:"colliderGroups,omitempty"`
	Springs   []vrm1Spring   `json:"springs,omitempty"`
}

type vrm1Collider struct {
	Node  int `json:"node"`
	Shape struct {
		Sphere  *vrm1Ball `json:"sphere,omitempty"`
		Capsule *vrm1Ball `json:"capsule,omitempty"`
	} `json:"shape"`
}

type vrm1Ball struct {
	Offset [3]float32  `json:"offset"`
	Radius float32     `json:"radius"`
	Tail   *[3]float32 `json:"tail,omitempty"`
}

type vrm1Group struct {
	Name      string `json:"name,omitempty"`
	Colliders []int  `json:"colliders"`
}

type vrm1Spring struct {
	Name   string      `json:"name,omitempty"`
	Joints []vrm1Joint `json:"joints"`
	Groups []int       `json:"colliderGroups,omitempty"`
	Center *int        `json:"center,omitempty"`
}

type vrm1Joint struct {
	Node      int        `json:"node"`
	Radius    float32    `json:"hitRadius"`
	Stiffness *float32   `json:"stiffness,omitempty"`
	Power     float32    `json:"gravityPower"`
	Dir       [3]float32 `json:"gravityDir"`
	Drag      *float32   `json:"dragForce,omitempty"`
}

type mtoon struct {
	Spec             string      `json:"specVersion"`
	TransparentDepth bool        `json:"transparentWithZWrite,omitempty"`
	Shade            *[3]float32 `json:"shadeColorFactor,omitempty"`
	ShadeTex         *mtoonTex   `json:"shadeMultiplyTexture,omitempty"`
	Shift            float32     `json:"shadingShiftFactor"`
	ShiftTex         *mtoonTex   `json:"shadingShiftTexture,omitempty"`
	Toony            *float32    `json:"shadingToonyFactor,omitempty"`
	GI               *float32    `json:"giEqualizationFactor,omitempty"`
	MatcapTex        *mtoonTex   `json:"matcapTexture,omitempty"`
	Rim              *[3]float32 `json:"parametricRimColorFactor,omitempty"`
	RimTex           *mtoonTex   `json:"rimMultiplyTexture,omitempty"`
	RimFresnel       *float32    `json:"parametricRimFresnelPowerFactor,omitempty"`
	RimLift          float32     `json:"parametricRimLiftFactor"`
	OutlineMode      string      `json:"outlineWidthMode,omitempty"`
	OutlineWidth     float32     `json:"outlineWidthFactor"`
	OutlineTex       *mtoonTex   `json:"outlineWidthMultiplyTexture,omitempty"`
	OutlineColour    *[3]float32 `json:"outlineColorFactor,omitempty"`
}

// mtoonTex is a textureInfo whose scale, where it has one, is its own.
type mtoonTex struct {
	Index      int                        `json:"index"`
	TexCoord   int                        `json:"texCoord,omitempty"`
	Extensions map[string]json.RawMessage `json:"extensions,omitempty"`
}

func (t *mtoonTex) info() *textureInfo {
	if t == nil {
		return nil
	}
	return &textureInfo{Index: t.Index, TexCoord: t.TexCoord, Extensions: t.Extensions}
}

func (r *reader) toon(m *scene.Material, raw json.RawMessage, textures map[scene.Role]*textureInfo, at string) error {
	var x mtoon
	if err := decode(raw, &x, at); err != nil {
		return err
	}
	if x.OutlineMode == "none" {
		x.OutlineMode = ""
	}
	m.Toon = &scene.Toon{ShadeColour: *or(x.Shade, [3]float32{}), ShadingShift: x.Shift, ShadingToony: *or(x.Toony, 0.9), GIEqualisation: *or(x.GI, 0.9),
		RimColour: *or(x.Rim, [3]float32{}), RimFresnel: *or(x.RimFresnel, 5), RimLift: x.RimLift, OutlineMode: x.OutlineMode, OutlineWidth: x.OutlineWidth,
		OutlineColour: *or(x.OutlineColour, [3]float32{}), TransparentDepth: x.TransparentDepth}
	for role, t := range map[scene.Role]*mtoonTex{scene.RoleShade: x.ShadeTex, scene.RoleShift: x.ShiftTex, scene.RoleMatcap: x.MatcapTex, scene.RoleRim: x.RimTex, scene.RoleOutline: x.OutlineTex} {
		textures[role] = t.info()
	}
	return nil
}

// avatar reads what makes the file a VRM.
func (r *reader) avatar() error {
	x := r.doc.Extensions
	switch {
	case x == nil:
		return nil
	case len(x.VRM) > 0:
		return r.vrm1(x.VRM, x.Springs)
	case len(x.VRM0) > 0:
		return r.vrm0(x.VRM0)
	}
	return nil
}

// node is the scene's node of one of the document's; a note is left where the
// file names one that is not there.
func (r *reader) node(n int, what string) (int, bool) {
	if n < 0 || n >= len(r.at) || r.at[n] < 0 {
		r.Lose("%s names a node that is not there, and was left out", what)
		return 0, false
	}
	return r.at[n], true
}

func (r *reader) vrm1(raw, springs json.RawMessage) error {
	var x vrm1
	at := "extensions.VRMC_vrm"
	if err := decode(raw, &x, at); err != nil {
		return err
	}
	m := &x.Meta
	a := &scene.Avatar{Version: "1.0", Bones: map[string]int{}, Meta: scene.AvatarMeta{Name: m.Name, Version: m.Version, Authors: m.Authors, Copyright: m.Copyright, Contact: m.Contact,
		References: m.References, ThirdParty: m.ThirdParty, LicenceURL: m.Licence, OtherLicenceURL: m.Other, WhoMayUse: m.Who, CommercialUse: m.Commercial, Modification: m.Modify, Credit: m.Credit,
		ViolentUse: m.Violent, SexualUse: m.Sexual, PoliticalUse: m.Political, AntisocialUse: m.Antisocial, Redistribution: m.Redist, ThumbnailOfPicture: r.thumbnail(m.Thumbnail)}}
	for name, b := range x.Hum.Bones {
		if n, ok := r.node(b.Node, "a humanoid bone"); ok {
			a.Bones[name] = n
		}
	}
	if l := x.Look; l != nil {
		a.LookAt = &scene.LookAt{Type: l.Type, Offset: l.Offset, Ranges: [4][2]float32{{l.Inner.In, l.Inner.Out}, {l.Outer.In, l.Outer.Out}, {l.Down.In, l.Down.Out}, {l.Up.In, l.Up.Out}}}
	}
	for i, set := range []map[string]vrm1Expression{x.Expr.Preset, x.Expr.Custom} {
		for _, name := range sorted(set) {
			g := set[name]
			e := scene.Expression{Name: name, Preset: i == 0, Binary: g.Binary}
			for k, v := range map[string]string{"blink": g.Blink, "lookAt": g.LookAt, "mouth": g.Mouth} {
				if v != "" && v != "none" {
					if e.Overrides == nil {
						e.Overrides = map[string]string{}
					}
					e.Overrides[k] = v
				}
			}
			for _, b := range g.Morphs {
				if n, ok := r.node(b.Node, "an expression"); ok && r.hasMorph(n, b.Index) {
					e.Morphs = append(e.Morphs, scene.ExpressionMorph{Node: n, Index: b.Index, Weight: b.Weight})
				}
			}
			for _, b := range g.Colours {
				if b.Material < 0 || b.Material >= len(r.s.Materials) {
					r.Lose("an expression names a material that is not there")
					continue
				}
				e.Colours = append(e.Colours, scene.ColourBind{Material: b.Material, Type: b.Type, Value: b.Value})
			}
			if len(g.Moves) > 0 {
				r.Lose("what an expression does to texture coordinates was left out")
			}
			a.Expressions = append(a.Expressions, e)
		}
	}
	if len(springs) > 0 {
		if err := r.springs1(a, springs); err != nil {
			return err
		}
	}
	r.finish(a)
	return nil
}

func (r *reader) springs1(a *scene.Avatar, raw json.RawMessage) error {
	var x vrm1Springs
	if err := decode(raw, &x, "extensions.VRMC_springBone"); err != nil {
		return err
	}
	names := make([]string, len(x.Groups))
	of := map[int][]string{}
	for i, g := range x.Groups {
		if names[i] = g.Name; g.Name == "" || slices.Contains(names[:i], g.Name) {
			names[i] = strings.TrimSpace(fmt.Sprintf("group %d %s", i, g.Name))
		}
		for _, c := range g.Colliders {
			of[c] = append(of[c], names[i])
		}
	}
	for i, c := range x.Colliders {
		b := c.Shape.Sphere
		if b == nil {
			b = c.Shape.Capsule
		}
		n, ok := r.node(c.Node, "a collider")
		if b == nil || !ok {
			r.Lose("a collider of a shape other than sphere and capsule was left out")
			continue
		}
		out := scene.SpringCollider{Node: n, Offset: b.Offset, Radius: b.Radius, Groups: of[i]}
		if c.Shape.Sphere == nil {
			out.Tail = or(b.Tail, [3]float32{})
		}
		a.Colliders = append(a.Colliders, out)
	}
	for _, s := range x.Springs {
		out := scene.Spring{Name: s.Name, Center: scene.None}
		if s.Center != nil {
			if n, ok := r.node(*s.Center, "a spring"); ok {
				out.Center = n
			}
		}
		for _, j := range s.Joints {
			if n, ok := r.node(j.Node, "a spring"); ok {
				out.Joints = append(out.Joints, scene.SpringJoint{Node: n, Radius: j.Radius, Stiffness: *or(j.Stiffness, 1), GravityPower: j.Power, GravityDir: j.Dir, Drag: *or(j.Drag, 0.5)})
			}
		}
		for _, g := range s.Groups {
			if g >= 0 && g < len(names) {
				out.Groups = append(out.Groups, names[g])
			}
		}
		a.Springs = append(a.Springs, out)
	}
	return nil
}

func (r *reader) thumbnail(i *int) int {
	if i == nil || *i < 0 || *i >= len(r.s.Pictures) {
		return scene.None
	}
	return *i
}

func (r *reader) hasMorph(node, index int) bool {
	m := r.s.Nodes[node].Mesh
	if m >= 0 && m < len(r.s.Meshes) {
		for _, p := range r.s.Meshes[m].Parts {
			if index >= 0 && index < len(p.Morphs) {
				return true
			}
		}
	}
	r.Lose("an expression names a morph target that is not there")
	return false
}

// finish puts the avatar into the scene with its terms.
func (r *reader) finish(a *scene.Avatar) {
	r.s.Avatar = a
	if t := &r.s.Terms; len(a.Meta.Authors) > 0 {
		t.Owner = strings.Join(a.Meta.Authors, ", ")
	}
	if a.Meta.LicenceURL != "" && r.s.Terms.Licence == "" { // what the file says in words of its own stays
		r.s.Terms.Licence = a.Meta.LicenceURL
	}
	if a.Meta.Name != "" {
		r.s.Name = a.Meta.Name
	}
}

func sorted[T any](m map[string]T) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// vrm0 is the extension of VRM 0.x.
type vrm0 struct {
	Meta struct {
		Title, Version, Author, ContactInformation, Reference, AllowedUserName string
		ViolentUssageName, SexualUssageName, CommercialUssageName              string
		OtherPermissionURL                                                     string `json:"otherPermissionUrl"`
		LicenseName                                                            string
		OtherLicenseURL                                                        string `json:"otherLicenseUrl"`
		Texture                                                                *int
	}
	Humanoid struct {
		HumanBones []struct {
			Bone string
			Node int
		}
	}
	FirstPerson struct {
		FirstPersonBone       *int
		FirstPersonBoneOffset xyz
		LookAtTypeName        string
		LookAtHorizontalInner vrm0Curve
		LookAtHorizontalOuter vrm0Curve
		LookAtVerticalDown    vrm0Curve
		LookAtVerticalUp      vrm0Curve
	}
	BlendShapeMaster struct {
		BlendShapeGroups []struct {
			Name, PresetName string
			IsBinary         bool
			Binds            []struct {
				Mesh, Index int
				Weight      float32
			}
			MaterialValues []struct {
				MaterialName, PropertyName string
				TargetValue                []float32
			}
		}
	}
	SecondaryAnimation struct {
		BoneGroups []struct {
			Comment                             string
			Stiffiness, GravityPower, DragForce float32
			HitRadius                           float32
			GravityDir                          xyz
			Center                              *int
			Bones, ColliderGroups               []int
		}
		ColliderGroups []struct {
			Node      int
			Colliders []struct {
				Offset xyz
				Radius float32
			}
		}
	}
	MaterialProperties []struct {
		Name, Shader      string
		FloatProperties   map[string]float32
		VectorProperties  map[string][]float32
		TextureProperties map[string]int
	}
}

type xyz struct{ X, Y, Z float32 }

// turned is an offset of VRM 0.x, whose z counts the other way round.
func (v xyz) turned() [3]float32 { return [3]float32{v.X, v.Y, -v.Z} }

type vrm0Curve struct{ XRange, YRange float32 }

// presets0 are the names of VRM 1.0 for the presets of 0.x; bones0 for bones.
var (
	presets0 = map[string]string{"neutral": "neutral", "joy": "happy", "angry": "angry", "sorrow": "sad", "fun": "relaxed", "a": "aa", "i": "ih", "u": "ou", "e": "ee", "o": "oh",
		"blink": "blink", "blink_l": "blinkLeft", "blink_r": "blinkRight", "lookup": "lookUp", "lookdown": "lookDown", "lookleft": "lookLeft", "lookright": "lookRight"}
	bones0 = map[string]string{"leftThumbProximal": "leftThumbMetacarpal", "leftThumbIntermediate": "leftThumbProximal", "rightThumbProximal": "rightThumbMetacarpal", "rightThumbIntermediate": "rightThumbProximal"}
	uses0  = map[string]string{"OnlyAuthor": "onlyAuthor", "ExplicitlyLicensedPerson": "onlySeparatelyLicensedPerson", "Everyone": "everyone"}
	// colours0 are the colours of toon materials that an expression may change.
	colours0 = map[string]string{"_Color": "color", "_EmissionColor": "emissionColor", "_ShadeColor": "shadeColor", "_RimColor": "rimColor", "_OutlineColor": "outlineColor"}
)

func (r *reader) vrm0(raw json.RawMessage) error {
	var x vrm0
	if err := decode(raw, &x, "extensions.VRM"); err != nil {
		return err
	}
	r.s.Basis = geom.Basis{Up: geom.GLTF.Up, Front: -geom.GLTF.Front, Handed: geom.GLTF.Handed, MetresPerUnit: 1}
	m := &x.Meta
	a := &scene.Avatar{Version: "0.x", Bones: map[string]int{}, Meta: scene.AvatarMeta{Name: m.Title, Version: m.Version, Contact: m.ContactInformation, WhoMayUse: uses0[m.AllowedUserName],
		OtherLicenceURL: m.OtherLicenseURL, ViolentUse: m.ViolentUssageName == "Allow", SexualUse: m.SexualUssageName == "Allow", ThumbnailOfPicture: scene.None}}
	if m.Author != "" {
		a.Meta.Authors = []string{m.Author}
	}
	if m.Reference != "" {
		a.Meta.References = []string{m.Reference}
	}
	if a.Meta.CommercialUse = "personalNonProfit"; m.CommercialUssageName == "Allow" {
		a.Meta.CommercialUse = "corporation"
	}
	a.Meta.LicenceURL = m.LicenseName
	if m.LicenseName == "Other" && m.OtherLicenseURL != "" {
		a.Meta.LicenceURL = m.OtherLicenseURL
	}
	// The licences of 0.x by name, and what they allow.
	switch m.LicenseName {
	case "CC0", "CC_BY", "CC_BY_NC", "CC_BY_SA", "CC_BY_NC_SA":
		a.Meta.Redistribution, a.Meta.Modification = true, "allowModificationRedistribution"
	case "CC_BY_ND", "CC_BY_NC_ND":
		a.Meta.Redistribution, a.Meta.Modification = true, "prohibited"
	}
	if m.Texture != nil && *m.Texture >= 0 && *m.Texture < len(r.doc.Textures) {
		a.Meta.ThumbnailOfPicture = r.thumbnail(r.doc.Textures[*m.Texture].Source)
	}
	for _, b := range x.Humanoid.HumanBones {
		name := b.Bone
		if n, ok := bones0[name]; ok {
			name = n
		}
		if n, ok := r.node(b.Node, "a humanoid bone"); ok {
			a.Bones[name] = n
		}
	}
	f := &x.FirstPerson
	a.LookAt = &scene.LookAt{Type: "bone", Offset: f.FirstPersonBoneOffset.turned(), Ranges: [4][2]float32{{f.LookAtHorizontalInner.XRange, f.LookAtHorizontalInner.YRange},
		{f.LookAtHorizontalOuter.XRange, f.LookAtHorizontalOuter.YRange}, {f.LookAtVerticalDown.XRange, f.LookAtVerticalDown.YRange}, {f.LookAtVerticalUp.XRange, f.LookAtVerticalUp.YRange}}}
	if f.LookAtTypeName == "BlendShape" {
		a.LookAt.Type = "expression"
	}
	r.expressions0(a, &x)
	r.springs0(a, &x)
	r.toon0(&x)
	r.finish(a)
	return nil
}

func (r *reader) expressions0(a *scene.Avatar, x *vrm0) {
	for _, g := range x.BlendShapeMaster.BlendShapeGroups {
		e := scene.Expression{Name: g.Name, Binary: g.IsBinary}
		if p := presets0[strings.ToLower(g.PresetName)]; p != "" {
			e.Name, e.Preset = p, true
		}
		for _, b := range g.Binds {
			found := false
			for n := range r.s.Nodes {
				if b.Mesh >= 0 && r.s.Nodes[n].Mesh == b.Mesh && r.hasMorph(n, b.Index) {
					e.Morphs = append(e.Morphs, scene.ExpressionMorph{Node: n, Index: b.Index, Weight: b.Weight / 100})
					found = true
				}
			}
			if !found {
				r.Lose("an expression names a mesh that no node shows")
			}
		}
		for _, v := range g.MaterialValues {
			k := slices.IndexFunc(r.s.Materials, func(m scene.Material) bool { return m.Name == v.MaterialName })
			t, ok := colours0[v.PropertyName]
			if k < 0 || !ok || len(v.TargetValue) < 3 {
				r.Lose("an expression that changes %s of a material was left out", v.PropertyName)
				continue
			}
			c := scene.ColourBind{Material: k, Type: t, Value: [4]float32{3: 1}}
			for i := range min(len(v.TargetValue), 4) {
				if c.Value[i] = v.TargetValue[i]; i < 3 {
					c.Value[i] = format.Linear(float64(v.TargetValue[i]))
				}
			}
			e.Colours = append(e.Colours, c)
		}
		a.Expressions = append(a.Expressions, e)
	}
}

// springs0 makes chains of the bones below each root that 0.x names.
func (r *reader) springs0(a *scene.Avatar, x *vrm0) {
	for i, g := range x.SecondaryAnimation.ColliderGroups {
		n, ok := r.node(g.Node, "a collider")
		if !ok {
			continue
		}
		for _, c := range g.Colliders {
			a.Colliders = append(a.Colliders, scene.SpringCollider{Node: n, Offset: c.Offset.turned(), Radius: c.Radius, Groups: []string{fmt.Sprintf("group %d", i)}})
		}
	}
	children := make([][]int, len(r.s.Nodes))
	for i, n := range r.s.Nodes {
		if n.Parent >= 0 {
			children[n.Parent] = append(children[n.Parent], i)
		}
	}
	taken := make([]bool, len(r.s.Nodes)) // a bone swings in one spring only
	for _, g := range x.SecondaryAnimation.BoneGroups {
		var starts []int
		for _, b := range g.Bones {
			if n, ok := r.node(b, "a spring"); ok {
				starts = append(starts, n)
			}
		}
		for len(starts) > 0 {
			s := scene.Spring{Name: g.Comment, Center: scene.None}
			if g.Center != nil && *g.Center >= 0 {
				if n, ok := r.node(*g.Center, "a spring"); ok {
					s.Center = n
				}
			}
			for _, k := range g.ColliderGroups {
				s.Groups = append(s.Groups, fmt.Sprintf("group %d", k))
			}
			n := starts[0]
			starts = starts[1:]
			for !taken[n] {
				taken[n] = true
				d := g.GravityDir
				s.Joints = append(s.Joints, scene.SpringJoint{Node: n, Radius: g.HitRadius, Stiffness: g.Stiffiness, GravityPower: g.GravityPower, GravityDir: [3]float32{d.X, d.Y, d.Z}, Drag: g.DragForce})
				if len(children[n]) == 0 {
					break
				}
				starts = append(starts, children[n][1:]...)
				n = children[n][0]
			}
			if len(s.Joints) > 0 {
				a.Springs = append(a.Springs, s)
			}
		}
	}
}

// toon0 brings the toon surfaces of 0.x to the terms of 1.0: colours to linear
// light, the shading's two borders to a shift and a width, outlines from
// centimetres to metres.
func (r *reader) toon0(x *vrm0) {
	for _, p := range x.MaterialProperties {
		k := slices.IndexFunc(r.s.Materials, func(m scene.Material) bool { return m.Name == p.Name })
		if k < 0 || p.Shader != "VRM/MToon" {
			continue
		}
		m := &r.s.Materials[k]
		colour := func(name string, usual [3]float32) [3]float32 {
			if v := p.VectorProperties[name]; len(v) >= 3 {
				return [3]float32{format.Linear(float64(v[0])), format.Linear(float64(v[1])), format.Linear(float64(v[2]))}
			}
			return usual
		}
		f := func(name string, usual float32) float32 {
			if v, ok := p.FloatProperties[name]; ok {
				return v
			}
			return usual
		}
		shift, toony := float64(f("_ShadeShift", 0)), float64(f("_ShadeToony", 0.9))
		lo, hi := shift, 1+(shift-1)*toony
		t := &scene.Toon{ShadeColour: colour("_ShadeColor", [3]float32{1, 1, 1}), ShadingShift: float32(math.Max(-1, math.Min(1, -(lo+hi)/2))), ShadingToony: float32(math.Max(0, math.Min(1, (2-(hi-lo))/2))),
			GIEqualisation: 1 - f("_IndirectLightIntensity", 0.1), RimColour: colour("_RimColor", [3]float32{}), RimFresnel: f("_RimFresnelPower", 1), RimLift: f("_RimLift", 0), OutlineColour: colour("_OutlineColor", [3]float32{})}
		switch f("_OutlineWidthMode", 0) {
		case 1:
			t.OutlineMode, t.OutlineWidth = "worldCoordinates", f("_OutlineWidth", 0)/100
		case 2:
			t.OutlineMode, t.OutlineWidth = "screenCoordinates", f("_OutlineWidth", 0)/200
		}
		m.Toon = t
		for name, role := range map[string]scene.Role{"_ShadeTexture": scene.RoleShade, "_SphereAdd": scene.RoleMatcap, "_RimTexture": scene.RoleRim, "_OutlineWidthTexture": scene.RoleOutline} {
			if i, ok := p.TextureProperties[name]; ok && m.Texture(role) == nil {
				if t, err := r.texture(role, &textureInfo{Index: i}, "extensions.VRM"); err == nil && t != nil {
					m.Textures = append(m.Textures, *t)
				}
			}
		}
		slices.SortStableFunc(m.Textures, func(a, b scene.Texture) int {
			return slices.Index(scene.Roles, a.Role) - slices.Index(scene.Roles, b.Role)
		})
	}
}
