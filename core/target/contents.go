package target

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"

	"excavate/core/chain"
	"excavate/core/scene"
)

// What the asset holds, how much of it, and what it is called.

// unwanted are kinds of nodes that may not be there.
func (r *rehearsal) unwanted(name string, allowed *bool, list []Thing, kind, title, none, why string) {
	if allowed == nil || *allowed {
		return
	}
	if len(list) == 0 {
		r.holds(name, none, "")
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: title, Where: few(names(list)), Things: list, Why: why,
		Mends: []chain.Step{stripOnly(kind)}, MendText: "Add “Strip”"})
}

func (r *rehearsal) cameras(name string) {
	var list []Thing
	for i := range r.s.Nodes {
		if r.s.Nodes[i].Camera >= 0 {
			list = append(list, r.node(i))
		}
	}
	r.unwanted(name, r.t.Cameras, list, "cameras", "A camera was left in", "No cameras",
		"It turns up in the target's scene, and some targets look through it.")
}

func (r *rehearsal) lights(name string) {
	var list []Thing
	for i := range r.s.Nodes {
		if r.s.Nodes[i].Light >= 0 {
			list = append(list, r.node(i))
		}
	}
	r.unwanted(name, r.t.Lights, list, "lights", "A light was left in", "No lights",
		"It lights the target's scene a second time.")
}

func (r *rehearsal) helpers(name string) {
	var list []Thing
	for i, h := range r.s.Helpers() {
		if h {
			list = append(list, r.node(i))
		}
	}
	r.unwanted(name, r.t.Helpers, list, "helpers", "Helper nodes were left in", "No helper nodes",
		"The target makes an empty object of each.")
}

// most holds a number against a limit of the sheet.
func (r *rehearsal) most(name string, have, limit int, why string, mends []chain.Step, text string) {
	if limit == 0 {
		return
	}
	at := thousands(have) + " of at most " + thousands(limit)
	if have <= limit {
		r.holds(name, "Not too many "+name, at)
		return
	}
	if mends == nil {
		text = ""
	}
	r.add(Finding{Rule: name, Severity: Stops, Title: "Too many " + name, Where: at, Why: why, Mends: mends,
		MendText: text})
}

func (r *rehearsal) triangles(name string) {
	n := r.t.Limits.Triangles
	r.most(name, r.st.Triangles, n, "The target refuses it, or draws it too slowly.",
		[]chain.Step{mend("reduce", params{"triangles": r.reducedTo(n)})}, "Reduce to "+thousands(n))
}

// reducedTo is how many stored triangles make at most n shown ones: a mesh of
// several nodes counts for each.
func (r *rehearsal) reducedTo(n int) int {
	stored := 0
	for i := range r.s.Meshes {
		for j := range r.s.Meshes[i].Parts {
			stored += len(r.s.Meshes[i].Parts[j].Triangles) / 3
		}
	}
	if r.st.Triangles <= stored || r.st.Triangles == 0 {
		return max(n, 1)
	}
	return max(int(float64(n)*float64(stored)/float64(r.st.Triangles)), 1)
}

func (r *rehearsal) meshes(name string) {
	r.most(name, r.st.Meshes, r.t.Limits.Meshes, "Each is an object of its own over there.",
		[]chain.Step{mend("join", params{"by": "material"})}, "Join by material")
}

func (r *rehearsal) nodes(name string) {
	mends := []chain.Step{stripOnly("helpers")}
	if r.st.Bones == 0 {
		mends = append(mends, mend("join", params{"by": "material"}))
	}
	r.most(name, r.st.Nodes, r.t.Limits.Nodes, "Each is an object of its own over there.", mends, "Strip and join")
}

func (r *rehearsal) materials(name string) {
	n := r.t.Limits.Materials
	if n == 0 {
		return
	}
	mends := []chain.Step{stripUnused(), mend("merge-materials", params{})}
	if r.alikeMaterials() > n {
		mends = append(mends, mend("atlas", params{}))
	}
	r.most(name, r.st.Materials, n, "Each is drawn by itself, and the target bounds how many there are.", mends,
		"Merge materials")
}

func stripUnused() chain.Step { return stripOnly("unused") }

func (r *rehearsal) bones(name string) {
	r.most(name, r.st.Bones, r.t.Limits.Bones, "The target's figures have no more.",
		[]chain.Step{mend("bones-trim", params{"ends": true, "weightless": true})}, "Trim bones")
}

func (r *rehearsal) morphs(name string) {
	r.most(name, r.st.Morphs, r.t.Limits.Morphs, "The target holds no more.",
		[]chain.Step{mend("bake-pose", params{})}, "Bake them in")
}

func (r *rehearsal) uvSets(name string) {
	r.most(name, r.st.UVSets, r.t.Limits.UVSets, "The target reads the first ones only, whatever they are for.",
		r.fewerSets("uv", r.t.Limits.UVSets), "Drop the others")
}

func (r *rehearsal) colourSets(name string) {
	r.most(name, r.st.ColourSets, r.t.Limits.ColourSets, "The target reads the first ones only, whatever they are for.",
		r.fewerSets("colours", r.t.Limits.ColourSets), "Drop the others")
}

// fewerSets keeps the first n sets, if every picture lies on one of them.
func (r *rehearsal) fewerSets(kind string, n int) []chain.Step {
	var keep []params
	seen := map[string]bool{}
	for i := range r.s.Meshes {
		for j := range r.s.Meshes[i].Parts {
			p := &r.s.Meshes[i].Parts[j]
			list := p.UVs
			if kind == "colours" {
				list = p.Colours
			} else if p.Material >= 0 && slices.ContainsFunc(r.s.Materials[p.Material].Textures,
				func(t scene.Texture) bool { return t.UVSet >= n }) {
				return []chain.Step{stripOnly("sets")}
			}
			for _, x := range list[:min(n, len(list))] {
				if !seen[x.Name] {
					seen[x.Name] = true
					keep = append(keep, params{"name": x.Name})
				}
			}
		}
	}
	if len(keep) > n || len(keep) == 0 {
		return []chain.Step{stripOnly("sets")}
	}
	return []chain.Step{mend("sets", params{kind: keep, "only": true})}
}

// named are names that a rule is about.
type named struct {
	what string // as the step rename calls them
	list []Thing
}

func (r *rehearsal) named() [2]named {
	n := [2]named{{what: "nodes and bones"}, {what: "materials"}}
	for i := range r.s.Nodes {
		if x := &r.s.Nodes[i]; x.Collider != nil && x.Mesh < 0 && r.t.Colliders != nil && r.t.Colliders.As == "none" {
			continue // it does not go along
		}
		n[0].list = append(n[0].list, r.node(i))
	}
	for i := range r.s.Materials {
		n[1].list = append(n[1].list, r.material(i))
	}
	return n
}

// misnamed finds names that are not as they should be, and renames them.
func (r *rehearsal) misnamed(name string, wrong func(string) bool, with func(what string) params, title, fine,
	why string) {
	var bad []Thing
	var mends []chain.Step
	for _, k := range r.named() {
		var list []Thing
		for _, t := range k.list {
			if wrong(t.Name) {
				list = append(list, t)
			}
		}
		if list != nil {
			if p := with(k.what); p != nil {
				mends = append(mends, mend("rename", p))
			}
		}
		bad = append(bad, list...)
	}
	if len(bad) == 0 {
		r.holds(name, fine, "")
		return
	}
	f := Finding{Rule: name, Severity: Warns, Title: title, Where: few(names(bad)), Things: bad, Why: why,
		Mends: mends}
	if mends != nil {
		f.MendText = "Add “Rename”"
	}
	r.add(f)
}

func (r *rehearsal) names(name string) {
	if r.t.Names == nil || r.t.Names.Pattern == "" {
		return
	}
	re := regexp.MustCompile(r.t.Names.Pattern) // Parse has seen it
	other := others(r.t.Names.Pattern)
	r.misnamed(name, func(n string) bool { return !re.MatchString(n) }, func(what string) params {
		if other == "" {
			return nil
		}
		p := params{"what": what, "rules": []params{{"find": other, "replace": filler(re)},
			{"find": "^$", "replace": "unnamed"}}, "unique": true}
		if re.MatchString("a") && !re.MatchString("A") {
			p["lower"] = true
		}
		return p
	}, "Names hold characters that the target changes", "Every name is one the target takes",
		"The target replaces them, and references by name miss.")
}

// filler is what stands for letters that a pattern does not take.
func filler(re *regexp.Regexp) string {
	for _, s := range []string{"_", "-", ".", "x", "X", "0"} {
		if re.MatchString("a"+s+"a") || re.MatchString(s) {
			return s
		}
	}
	return ""
}

// others is a pattern of the letters that another, of the form ^[letters]+$,
// does not take; empty where it is of another form. The pattern may begin with
// a class of its own.
func others(pattern string) string {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return ""
	}
	re = re.Simplify()
	if re.Op != syntax.OpConcat || len(re.Sub) != 3 || re.Sub[0].Op != syntax.OpBeginText ||
		re.Sub[2].Op != syntax.OpEndText {
		return ""
	}
	mid := re.Sub[1]
	if (mid.Op != syntax.OpPlus && mid.Op != syntax.OpStar) || mid.Sub[0].Op != syntax.OpCharClass {
		return ""
	}
	class := mid.Sub[0].String()
	if strings.HasPrefix(class, "[^") || !strings.HasPrefix(class, "[") {
		return ""
	}
	return "[^" + class[1:] + "+"
}

func (r *rehearsal) nameLength(name string) {
	if r.t.Names == nil || r.t.Names.Longest == 0 {
		return
	}
	n := r.t.Names.Longest
	r.misnamed(name, func(s string) bool { return len([]rune(s)) > n }, func(what string) params {
		return params{"what": what, "rules": []params{{"find": fmt.Sprintf("(?s)^(.{%d}).+$", max(n-3, 1)),
			"replace": "$1"}}, "unique": true}
	}, "Names are too long", "No name is too long",
		fmt.Sprintf("The target cuts them after %d letters, and then two may be the same.", n))
}

func (r *rehearsal) unique(name string) {
	if r.t.Names == nil || !r.t.Names.Unique {
		return
	}
	var twice []Thing
	var mends []chain.Step
	for _, k := range r.named() {
		seen := map[string]bool{}
		n := len(twice)
		for _, t := range k.list {
			if t.Kind == "material" && r.t.Materials != nil && slices.Contains(r.t.Materials.There, t.Name) {
				continue // the target uses its own for all of them
			}
			if seen[t.Name] {
				twice = append(twice, t)
			}
			seen[t.Name] = true
		}
		if len(twice) > n {
			mends = append(mends, mend("rename", params{"what": k.what, "unique": true}))
		}
	}
	if len(twice) == 0 {
		r.holds(name, "Every name is unique", "")
		return
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "Names stand more than once", Where: few(names(twice)),
		Things: twice,
		Why:    "The target numbers the second one, and references by name miss it.", Mends: mends,
		MendText: "Number them"})
}

func (r *rehearsal) motions(name string) {
	m := r.t.Motions
	if m == nil || !m.None {
		return
	}
	if len(r.s.Motions) == 0 {
		r.holds(name, "No motions", "")
		return
	}
	list := r.motionThings(func(*scene.Motion) bool { return true })
	r.add(Finding{Rule: name, Severity: Warns, Title: "It moves", Where: few(names(list)), Things: list,
		Why:   "The target shows it at rest: what matters of the pose must be in the vertices.",
		Mends: []chain.Step{mend("bake-pose", params{})}, MendText: "Bake it as it stands"})
}

func (r *rehearsal) motionThings(f func(*scene.Motion) bool) (out []Thing) {
	for i := range r.s.Motions {
		if f(&r.s.Motions[i]) {
			out = append(out, Thing{"motion", r.s.Motions[i].Name, i})
		}
	}
	return out
}

func (r *rehearsal) motionLength(name string) {
	m := r.t.Motions
	if m == nil || m.Most == 0 || len(r.s.Motions) == 0 {
		return
	}
	long := r.motionThings(func(m2 *scene.Motion) bool { return m2.Seconds() > m.Most })
	if len(long) == 0 {
		r.holds(name, "No motion is too long", fmt.Sprintf("at most %g s", m.Most))
		return
	}
	var mends []chain.Step
	for _, t := range long {
		mends = append(mends, mend("keys", params{"motion": t.Name, "to": m.Most}))
	}
	r.add(Finding{Rule: name, Severity: Stops, Title: "A motion is too long",
		Where: few(names(long)) + fmt.Sprintf(", at most %g s", m.Most), Things: long,
		Why: "The target refuses it.", Mends: mends, MendText: fmt.Sprintf("Cut after %g s", m.Most),
		Ask: &Question{Text: "Which part of it is wanted?",
			Answers: []Answer{{fmt.Sprintf("The first %g s", m.Most), mends}}}})
}

func (r *rehearsal) variants(name string) {
	if r.t.Variants != "one" {
		return
	}
	if len(r.s.Variants) == 0 {
		r.holds(name, "It has one look", "")
		return
	}
	now := []chain.Step{mend("variants", params{})}
	q := &Question{Text: "Which look is wanted?", Answers: []Answer{{"As it is shown now", now}}}
	for _, v := range r.s.Variants {
		q.Answers = append(q.Answers, Answer{v, []chain.Step{mend("variants",
			params{"choose": strings.ReplaceAll(v, "*", "?")})}})
	}
	r.add(Finding{Rule: name, Severity: Warns, Title: "It has several looks", Where: few(r.s.Variants),
		Why: "The target knows one and takes whichever it meets first.", Mends: now,
		MendText: "Keep the one that is shown", Ask: q})
}

func (r *rehearsal) licence(name string) {
	l := r.t.Licence
	if l == nil || !l.Needed && !l.Avatar {
		return
	}
	t := r.s.Terms
	if l.Avatar {
		switch a := r.s.Avatar; {
		case a == nil || a.Meta.LicenceURL == "" || len(a.Meta.Authors) == 0:
			r.add(Finding{Rule: name, Severity: Stops, Title: "The avatar's licence block is missing",
				Why: "The target shows who made an avatar and what may be done with it, " +
					"and takes none that does not say. " +
					"Take the asset from a file that carries it (VRM 1.0)."})
		default:
			r.holds(name, "The licence block is there", strings.Join(a.Meta.Authors, ", ")+", "+a.Meta.LicenceURL)
		}
		return
	}
	if t.Owner == "" || t.Licence == "" {
		r.add(Finding{Rule: name, Severity: Stops, Title: "It does not say whose it is",
			Where: "owner: " + orNothing(t.Owner) + ", licence: " + orNothing(t.Licence),
			Why:   "The target takes nothing whose owner and licence are not told."})
		return
	}
	r.holds(name, "Owner and licence are told", t.Owner+", "+t.Licence)
}
