package gltf

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

// VRMWriter writes VRM 1.0.
func VRMWriter(generator string) format.Writer {
	return format.Writer{Name: "vrm", Title: "VRM 1.0", Ending: ".vrm", Basis: geom.GLTF, Write: func(s *scene.Scene, name string) ([]format.Written, []scene.Note, error) {
		b, notes, err := WriteVRM(s, generator)
		return []format.Written{{Name: name + ".vrm", Data: b}}, notes, err
	}}
}

// required are the bones without which VRM 1.0 does not call a skeleton a
// humanoid (VRMC_vrm-1.0, humanoid).
var required = []string{"hips", "spine", "head", "leftUpperLeg", "leftLowerLeg", "leftFoot", "rightUpperLeg", "rightLowerLeg", "rightFoot",
	"leftUpperArm", "leftLowerArm", "leftHand", "rightUpperArm", "rightLowerArm", "rightHand"}

var humanoid = regexp.MustCompile(`^(hips|spine|chest|upperChest|neck|head|jaw|(left|right)(Eye|Shoulder|UpperArm|LowerArm|Hand|UpperLeg|LowerLeg|Foot|Toes|Thumb(Metacarpal|Proximal|Distal)|(Index|Middle|Ring|Little)(Proximal|Intermediate|Distal)))$`)

// WriteVRM writes a scene as VRM 1.0. A scene that was no avatar becomes one
// if its bones bear the names of the standard's. Scenes with a known basis
// are turned into the one that VRM asks for.
func WriteVRM(s *scene.Scene, generator string) ([]byte, []scene.Note, error) {
	s, notes, err := s.TurnedTo(geom.GLTF, "VRM 1.0")
	if err != nil {
		return nil, nil, fmt.Errorf("write VRM of %q: %w", s.Name, err)
	}
	a := scene.Avatar{Meta: scene.AvatarMeta{ThumbnailOfPicture: scene.None}}
	if s.Avatar != nil {
		a = *s.Avatar
	}
	if len(a.Bones) == 0 {
		a.Bones = byName(s)
		notes = append(notes, scene.Note{Text: fmt.Sprintf("%d bones were told by their names", len(a.Bones))})
	}
	var lack []string
	for _, b := range required {
		if _, ok := a.Bones[b]; !ok {
			lack = append(lack, b)
		}
	}
	if len(lack) > 0 {
		return nil, nil, fmt.Errorf("write VRM of %q: an avatar needs the bones %s; give the bones these names first", s.Name, strings.Join(lack, ", "))
	}
	if len(a.Meta.Authors) == 0 {
		owner := s.Terms.Owner
		if owner == "" {
			owner = "unknown"
			notes = append(notes, scene.Note{Text: "the author is not known; VRM asks for one, and the file says unknown"})
		}
		a.Meta.Authors = []string{owner}
	}
	w := newWriter(s, Options{Generator: generator, AsStands: true})
	w.vrm = &a
	b, more, err := w.write()
	return b, append(notes, more...), err
}

// byName finds the humanoid bones among bones that bear their names, whatever
// the capitals and what stands between the words.
func byName(s *scene.Scene) map[string]int {
	plain := func(t string) string {
		return strings.Map(func(r rune) rune {
			if r == '_' || r == ' ' || r == '.' || r == '-' {
				return -1
			}
			return r
		}, strings.ToLower(t))
	}
	out := map[string]int{}
	bones := s.Bones()
	names := map[string]string{}
	for _, b := range required {
		names[plain(b)] = b
	}
	for _, b := range []string{"chest", "upperChest", "neck", "jaw", "leftEye", "rightEye", "leftShoulder", "rightShoulder", "leftToes", "rightToes"} {
		names[plain(b)] = b
	}
	for i := range s.Nodes {
		if b, ok := names[plain(s.Nodes[i].Name)]; ok && bones[i] {
			if _, taken := out[b]; !taken {
				out[b] = i
			}
		}
	}
	return out
}

// toon is the extension of a toon material.
func (w *writer) toon(m *scene.Material) mtoon {
	t := m.Toon
	tex := func(r scene.Role) *mtoonTex {
		i := w.texture(m.Texture(r))
		if i == nil {
			return nil
		}
		return &mtoonTex{i.Index, i.TexCoord, i.Extensions}
	}
	mode := t.OutlineMode
	if mode == "" {
		mode = "none"
	}
	return mtoon{Spec: "1.0", TransparentDepth: t.TransparentDepth, Shade: &t.ShadeColour, ShadeTex: tex(scene.RoleShade), Shift: t.ShadingShift, ShiftTex: tex(scene.RoleShift), Toony: &t.ShadingToony, GI: &t.GIEqualisation,
		MatcapTex: tex(scene.RoleMatcap), Rim: &t.RimColour, RimTex: tex(scene.RoleRim), RimFresnel: &t.RimFresnel, RimLift: t.RimLift, OutlineMode: mode, OutlineWidth: t.OutlineWidth, OutlineTex: tex(scene.RoleOutline), OutlineColour: &t.OutlineColour}
}

// avatar writes the extensions of the document.
func (w *writer) avatar() error {
	a := w.vrm
	m := &a.Meta
	first := func(s ...string) string {
		for _, x := range s {
			if x != "" {
				return x
			}
		}
		return ""
	}
	x := vrm1{Spec: "1.0", Hum: vrm1Human{Bones: map[string]struct {
		Node int `json:"node"`
	}{}}, Meta: vrm1Meta{Name: first(m.Name, w.s.Name, "avatar"), Version: m.Version, Authors: m.Authors, Copyright: m.Copyright, Contact: m.Contact, References: m.References, ThirdParty: m.ThirdParty,
		Licence: first(m.LicenceURL, w.s.Terms.Licence), Other: m.OtherLicenceURL, Who: first(m.WhoMayUse, "onlyAuthor"), Violent: m.ViolentUse, Sexual: m.SexualUse, Political: m.PoliticalUse, Antisocial: m.AntisocialUse,
		Commercial: first(m.CommercialUse, "personalNonProfit"), Credit: first(m.Credit, "required"), Redist: m.Redistribution, Modify: first(m.Modification, "prohibited")}}
	if !strings.Contains(x.Meta.Licence, "://") { // VRM 1.0 wants the address of a licence text
		if l := x.Meta.Licence; l != "" {
			x.Meta.ThirdParty = strings.TrimSpace(x.Meta.ThirdParty + "\nLicence: " + l)
		}
		x.Meta.Licence = "https://vrm.dev/licenses/1.0/"
	}
	if t := m.ThumbnailOfPicture; t >= 0 && w.image[t] >= 0 {
		i := w.image[t]
		x.Meta.Thumbnail = &i
	}
	for name, n := range a.Bones {
		if !humanoid.MatchString(name) {
			w.lose("%d bones of a name that VRM 1.0 does not know were left out of the humanoid", 1)
			continue
		}
		x.Hum.Bones[name] = struct {
			Node int `json:"node"`
		}{n}
	}
	if l := a.LookAt; l != nil {
		r := func(i int) vrm1Range { return vrm1Range{l.Ranges[i][0], l.Ranges[i][1]} }
		x.Look = &struct {
			Offset [3]float32 `json:"offsetFromHeadBone"`
			Type   string     `json:"type"`
			Inner  vrm1Range  `json:"rangeMapHorizontalInner"`
			Outer  vrm1Range  `json:"rangeMapHorizontalOuter"`
			Down   vrm1Range  `json:"rangeMapVerticalDown"`
			Up     vrm1Range  `json:"rangeMapVerticalUp"`
		}{l.Offset, l.Type, r(0), r(1), r(2), r(3)}
	}
	for _, e := range a.Expressions {
		g := vrm1Expression{Binary: e.Binary, Blink: e.Overrides["blink"], LookAt: e.Overrides["lookAt"], Mouth: e.Overrides["mouth"]}
		for _, b := range e.Morphs {
			g.Morphs = append(g.Morphs, vrm1Morph{b.Node, b.Index, min(max(b.Weight, 0), 1)})
		}
		for _, c := range e.Colours {
			g.Colours = append(g.Colours, vrm1Colour{c.Material, c.Type, c.Value})
		}
		set := &x.Expr.Custom
		if e.Preset {
			set = &x.Expr.Preset
		}
		if *set == nil {
			*set = map[string]vrm1Expression{}
		}
		(*set)[e.Name] = g
	}
	raw, err := json.Marshal(&x)
	if err != nil {
		return err
	}
	if w.doc.Extensions == nil {
		w.doc.Extensions = &docExtensions{}
	}
	w.doc.Extensions.VRM = raw
	w.use("VRMC_vrm")
	if len(a.Springs)+len(a.Colliders) == 0 {
		return nil
	}
	if w.doc.Extensions.Springs, err = json.Marshal(springs(a)); err != nil {
		return err
	}
	w.use("VRMC_springBone")
	return nil
}

func springs(a *scene.Avatar) vrm1Springs {
	x := vrm1Springs{Spec: "1.0"}
	group := func(name string) int {
		i := slices.IndexFunc(x.Groups, func(g vrm1Group) bool { return g.Name == name })
		if i < 0 {
			x.Groups = append(x.Groups, vrm1Group{Name: name, Colliders: []int{}})
			i = len(x.Groups) - 1
		}
		return i
	}
	for i, c := range a.Colliders {
		g := vrm1Collider{Node: c.Node}
		b := &vrm1Ball{Offset: c.Offset, Radius: c.Radius, Tail: c.Tail}
		if c.Tail == nil {
			g.Shape.Sphere = b
		} else {
			g.Shape.Capsule = b
		}
		x.Colliders = append(x.Colliders, g)
		for _, name := range c.Groups {
			k := group(name)
			x.Groups[k].Colliders = append(x.Groups[k].Colliders, i)
		}
	}
	for _, s := range a.Springs {
		g := vrm1Spring{Name: s.Name}
		for _, j := range s.Joints {
			g.Joints = append(g.Joints, vrm1Joint{j.Node, j.Radius, &j.Stiffness, j.GravityPower, j.GravityDir, &j.Drag})
		}
		for _, name := range s.Groups {
			g.Groups = append(g.Groups, group(name))
		}
		if s.Center >= 0 {
			g.Center = &s.Center
		}
		x.Springs = append(x.Springs, g)
	}
	return x
}
