package target

import (
	"excavate/core/chain"
	"excavate/core/condition"
	"excavate/core/pick"
)

// own holds the asset against a rule of the sheet's own.
func (r *rehearsal) own(o *Own) {
	f := Finding{Rule: o.Rule, Severity: o.Severity, Title: o.Says, Why: o.Why}
	if f.Severity == "" {
		f.Severity = Stops
	}
	if o.Mend != nil {
		f.Mends, f.MendText = []chain.Step{o.Mend.step()}, "Add the sheet's step"
	}
	if o.If != "" {
		c, err := condition.Compile(o.If, figures) // Parse has seen it
		objects := false
		if err == nil {
			objects, err = c.Holds(r.figures())
		}
		switch {
		case err != nil:
			f.Severity, f.Title, f.Mends, f.MendText = Warns, "The rule could not be asked", nil, ""
			f.Where = err.Error()
		case !objects:
			r.holds(o.Rule, "The sheet's own rule holds", o.If)
			return
		default:
			f.Where = o.If
		}
		r.add(f)
		return
	}
	chosen, err := pick.Of(r.s, o.Where)
	if err != nil {
		r.add(Finding{Rule: o.Rule, Severity: Warns, Title: "The rule could not be asked",
			Where: err.Error()})
		return
	}
	for i, yes := range chosen.Nodes {
		if yes {
			f.Things = append(f.Things, r.node(i))
		}
	}
	if f.Things == nil {
		for i, yes := range chosen.Materials {
			if yes {
				f.Things = append(f.Things, r.material(i))
			}
		}
	}
	if f.Things == nil {
		r.holds(o.Rule, "The sheet's own rule holds", "")
		return
	}
	f.Where = few(names(f.Things))
	r.add(f)
}

// figures are the values of the words that own rules may ask for, in their
// order. Lengths are in metres as the target reads the numbers.
func (r *rehearsal) figures() []any {
	st := r.st
	m := r.metres()
	height := 0.0
	if up := r.s.Basis.Up; up != 0 {
		a := abs(int(up)) - 1
		height = (st.Max[a] - st.Min[a]) * m
	}
	var materials, bones, motions []string
	for i := range r.s.Materials {
		materials = append(materials, r.s.Materials[i].Name)
	}
	for i, b := range r.isBone() {
		if b {
			bones = append(bones, r.s.Nodes[i].Name)
		}
	}
	for i := range r.s.Motions {
		motions = append(motions, r.s.Motions[i].Name)
	}
	root := ""
	if roots := r.roots(); len(roots) == 1 {
		root = roots[0].Name
	}
	return []any{st.Triangles, st.Vertices, st.Meshes, st.Parts, st.Nodes, st.Materials,
		st.Pictures, st.Missing, st.Bones, st.Helpers, st.Cameras, st.Lights,
		st.Colliders, st.Motions, st.Morphs, st.UVSets, st.ColourSets,
		r.longest(), height, st.Area * m * m, len(r.s.Variants),
		materials, bones, motions, r.s.Name, root}
}

func abs(v int) int { return max(v, -v) }
