package target

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/rig"
	"excavate/core/scene"
)

// The skeleton and what hangs on it.

// roots are the bones that hang on no bone.
func (r *rehearsal) roots() (out []Thing) {
	for i, b := range r.isBone() {
		if b && (r.s.Nodes[i].Parent < 0 || !r.isBone()[r.s.Nodes[i].Parent]) {
			out = append(out, r.node(i))
		}
	}
	return out
}

func (r *rehearsal) root(name string) {
	want := r.t.RootBone
	if want == "" || r.st.Bones == 0 {
		return
	}
	roots := r.roots()
	named := slices.IndexFunc(roots, func(t Thing) bool { return t.Name == want })
	if len(roots) > 1 {
		f := Finding{Rule: name, Severity: Stops, Title: "The skeleton has more than one root",
			Where: few(names(roots)), Things: roots,
			Why: "The target merges skeletons from one root bone."}
		if named < 0 {
			f.Mends, f.MendText = []chain.Step{mend("bones-parent", params{"insert": want})},
				fmt.Sprintf("Insert “%s” above them", want)
		} else {
			var rows []params
			for _, t := range roots {
				if t.Name != want {
					rows = append(rows, params{"bone": t.Name, "parent": want})
				}
			}
			f.Mends, f.MendText = []chain.Step{mend("bones-parent", params{"rows": rows})},
				fmt.Sprintf("Hang them on “%s”", want)
		}
		r.add(f)
		return
	}
	if roots[0].Name == want {
		r.holds(name, "The root bone has the target's name", "“"+want+"”")
		return
	}
	r.add(Finding{Rule: name, Severity: Stops, Title: "The root bone has another name",
		Where: fmt.Sprintf("“%s”, the target wants “%s”", roots[0].Name, want), Things: roots,
		Why:      "The target could not merge the skeleton with its own and would make a second one.",
		Mends:    []chain.Step{mend("root", params{"name": want})},
		MendText: fmt.Sprintf("Rename it to “%s”", want)})
}

// ends are bones with nothing below them on which no vertex hangs.
func (r *rehearsal) ends() (out []Thing) {
	hung := map[int]bool{}
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Parent >= 0 {
			hung[n.Parent] = true
		}
		if n.Skin < 0 || n.Mesh < 0 {
			continue
		}
		joints := r.s.Skins[n.Skin].Joints
		for j := range r.s.Meshes[n.Mesh].Parts {
			p := &r.s.Meshes[n.Mesh].Parts[j]
			for k, w := range p.Weights {
				if w != 0 && int(p.Joints[k]) < len(joints) {
					hung[joints[p.Joints[k]]] = true
				}
			}
		}
	}
	for i, b := range r.isBone() {
		if b && !hung[i] && r.s.Nodes[i].Mesh < 0 {
			out = append(out, r.node(i))
		}
	}
	return out
}

func (r *rehearsal) endBones(name string) {
	if r.t.EndBones == nil || *r.t.EndBones || r.st.Bones == 0 {
		return
	}
	there := map[string]bool{} // of the target's own skeleton
	if k := r.t.Skeleton; k != nil {
		for _, b := range k.Bones {
			there[b.Name] = true
		}
	}
	ends := slices.DeleteFunc(r.ends(), func(t Thing) bool { return there[t.Name] })
	if len(ends) == 0 {
		r.holds(name, "No end bones", "")
		return
	}
	with := params{"ends": true}
	if len(there) > 0 {
		with = params{"where": where("node", names(ends)), "ends": false}
	}
	r.add(Finding{Rule: name, Severity: Stops, Title: "End bones were added", Where: few(names(ends)),
		Things: ends,
		Why:    "The target has no such bones: it could not merge the skeleton.",
		Mends:  []chain.Step{mend("bones-trim", with)}, MendText: "Add “Trim bones”"})
}

// skeleton holds names and parents against the sheet's bones.
func (r *rehearsal) skeleton(name string) {
	k := r.t.Skeleton
	if k == nil || len(k.Bones) == 0 || r.st.Bones == 0 {
		return
	}
	at := map[string]int{}
	for i, b := range r.isBone() {
		if b {
			at[r.s.Nodes[i].Name] = i
		}
	}
	parent := map[string]string{}
	var missing, moved []string
	var things []Thing
	for _, b := range k.Bones {
		parent[b.Name] = b.Parent
		i, ok := at[b.Name]
		if !ok {
			missing = append(missing, b.Name)
			continue
		}
		if up := r.boneAbove(i); up != b.Parent {
			moved = append(moved, fmt.Sprintf("%s hangs on %s, not on %s", b.Name, orNothing(up), orNothing(b.Parent)))
			things = append(things, r.node(i))
		}
	}
	var more []Thing
	for i, b := range r.isBone() {
		if _, ok := parent[r.s.Nodes[i].Name]; b && !ok {
			more = append(more, r.node(i))
		}
	}
	if len(missing)+len(moved)+len(more) == 0 {
		r.holds(name, "The skeleton is the target's", fmt.Sprintf("%d bones", len(k.Bones)))
		return
	}
	var says []string
	if missing != nil {
		says = append(says, "missing: "+few(missing))
	}
	if more != nil {
		says = append(says, "additional: "+few(names(more)))
	}
	if moved != nil {
		says = append(says, few(moved))
	}
	f := Finding{Rule: name, Severity: Stops, Title: "The skeleton is not the target's",
		Where: strings.Join(says, "; "), Things: append(things, more...),
		Why: "The target could not merge the bones and would offer to rebuild its skeleton, " +
			"which ruins every motion it has."}
	f.Mends, f.MendText, f.Evidence = r.fitted(k, at, missing, more)
	r.add(f)
}

func orNothing(bone string) string {
	if bone == "" {
		return "nothing"
	}
	return bone
}

// boneAbove is the name of the bone that a bone hangs on, through nodes that
// are none.
func (r *rehearsal) boneAbove(i int) string {
	for p := r.s.Nodes[i].Parent; p >= 0; p = r.s.Nodes[p].Parent {
		if r.isBone()[p] {
			return r.s.Nodes[p].Name
		}
	}
	return ""
}

// fitted are the steps that make the skeleton the target's: the asset's own
// where the sheet names one; else bones of other names are told by the limbs
// that they are, what is more goes, and parents follow.
func (r *rehearsal) fitted(k *Skeleton, at map[string]int, missing []string, more []Thing) (mends []chain.Step,
	text, evidence string) {
	if k.Like != "" {
		return []chain.Step{mend("fit-skeleton", params{"from": k.Like})}, "Fit the target's skeleton", ""
	}
	renamed := map[string]string{}
	if missing != nil && more != nil {
		body := rig.Of(r.s).Map(nil)
		ref := sheetBody(k.Bones)
		for _, name := range missing {
			limb := ref.Limb(slices.IndexFunc(k.Bones, func(b SheetBone) bool { return b.Name == name }))
			if m, ok := body[limb]; ok && limb != "" {
				if old := r.s.Nodes[m.Bone].Name; slices.ContainsFunc(more,
					func(t Thing) bool { return t.Name == old }) {
					renamed[old] = name
				}
			}
		}
	}
	var rows []params
	for _, t := range more {
		if to := renamed[t.Name]; to != "" {
			rows = append(rows, params{"from": t.Name, "to": to})
		}
	}
	if rows != nil {
		mends = append(mends, mend("bones-rename", params{"map": rows}))
		evidence = fmt.Sprintf("%d bones of other names were told by the limbs that they are", len(rows))
	}
	var gone []string
	for _, t := range more {
		if renamed[t.Name] == "" {
			gone = append(gone, t.Name)
		}
	}
	if gone != nil {
		mends = append(mends, mend("bones-trim", params{"where": where("node", gone), "ends": false}))
	}
	var hang []params
	for _, b := range k.Bones {
		i, ok := at[b.Name]
		if ok && b.Parent != "" && r.boneAbove(i) != b.Parent {
			if _, there := at[b.Parent]; there {
				hang = append(hang, params{"bone": b.Name, "parent": b.Parent})
			}
		}
	}
	if hang != nil {
		mends = append(mends, mend("bones-parent", params{"rows": hang}))
	}
	if mends == nil {
		return nil, "", ""
	}
	return mends, "Fit the target's skeleton", evidence
}

// sheetBody tells the limbs of a sheet's bones, by their names and hierarchy.
func sheetBody(list []SheetBone) rig.Body {
	s := &scene.Scene{}
	skin := scene.Skin{Root: scene.None}
	for i, b := range list {
		n := scene.NewNode(b.Name)
		n.Parent = slices.IndexFunc(list[:i], func(o SheetBone) bool { return o.Name == b.Parent })
		s.Nodes = append(s.Nodes, n)
		skin.Joints = append(skin.Joints, i)
	}
	s.Skins = []scene.Skin{skin}
	return rig.Of(s).Map(nil)
}

func (r *rehearsal) joints(name string) {
	if r.t.JointsPerVertex == 0 || r.st.Bones == 0 {
		return
	}
	most, over := 0, 0
	for i := range r.s.Meshes {
		for j := range r.s.Meshes[i].Parts {
			p := &r.s.Meshes[i].Parts[j]
			for v := 0; v < p.Vertices() && p.Influences > 0; v++ {
				n := 0
				for _, w := range p.Weights[v*p.Influences : (v+1)*p.Influences] {
					if w != 0 {
						n++
					}
				}
				most = max(most, n)
				if n > r.t.JointsPerVertex {
					over++
				}
			}
		}
	}
	if over == 0 {
		r.holds(name, "No vertex follows too many bones",
			fmt.Sprintf("%d at most, %d allowed", most, r.t.JointsPerVertex))
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Some vertices follow too many bones",
		Where:    fmt.Sprintf("%d vertices follow up to %d bones, %d allowed", over, most, r.t.JointsPerVertex),
		Why:      "The target drops the weakest ones, and the surface moves otherwise than it did.",
		Mends:    []chain.Step{mend("weights", params{"most": r.t.JointsPerVertex})},
		MendText: fmt.Sprintf("Keep the %d strongest", r.t.JointsPerVertex)})
}

// weights rehearses what no sheet needs to ask: triangles that a skin moves
// must have bones to follow, and what they follow must add up to one.
func (r *rehearsal) weights(name string) {
	if r.st.Bones == 0 {
		return
	}
	var bare, uneven []Thing
	vertices := 0
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Skin < 0 || n.Mesh < 0 {
			continue
		}
		none, off := false, 0
		for j := range r.s.Meshes[n.Mesh].Parts {
			p := &r.s.Meshes[n.Mesh].Parts[j]
			none = none || p.Influences == 0
			off += unevenWeights(p)
		}
		if none {
			bare = append(bare, r.node(i))
		}
		if vertices += off; off > 0 {
			uneven = append(uneven, r.node(i))
		}
	}
	if len(bare) > 0 {
		r.add(Finding{Rule: name, Severity: Warns, Title: "Parts of a skinned mesh have no weights",
			Where: few(names(bare)), Things: bare,
			Why: "They stay behind when the figure moves."})
	}
	if len(uneven) > 0 && r.t.Format != "glb" && r.t.Format != "vrm" { // those are written with weights that do
		r.add(Finding{Rule: name, Severity: Warns, Title: "Weights do not add up to one",
			Where: fmt.Sprintf("%d vertices of %s", vertices, few(names(uneven))), Things: uneven,
			Why:      "The target makes them so, or pulls these vertices towards the origin.",
			Mends:    []chain.Step{mend("weights", params{"most": max(r.t.JointsPerVertex, 4), "least": 0})},
			MendText: "Add “Joint weights”"})
	}
}

// moves tells whether a node's mesh follows bones: a part without weights
// leaves all of it behind.
func (r *rehearsal) moves(i int) bool {
	n := &r.s.Nodes[i]
	return n.Skin >= 0 && n.Mesh >= 0 && !slices.ContainsFunc(r.s.Meshes[n.Mesh].Parts,
		func(p scene.Part) bool { return p.Influences == 0 })
}

// unevenWeights counts the vertices whose weights do not add up to one within
// 1/200: what eight bits make of them is nearer.
func unevenWeights(p *scene.Part) (n int) {
	for v := 0; v < p.Vertices() && p.Influences > 0; v++ {
		sum := 0.0
		for _, w := range p.Weights[v*p.Influences : (v+1)*p.Influences] {
			sum += float64(w)
		}
		if math.Abs(sum-1) > 0.005 {
			n++
		}
	}
	return n
}
