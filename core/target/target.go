// Package target holds target sheets, which say what a target expects of an
// asset, and the rehearsal: holding a scene against a sheet and answering
// what the target would object to, why, and which step mends it.
package target

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"math"
	"regexp"
	"sort"
	"strings"

	"excavate/core/chain"
	"excavate/core/document"
	"excavate/core/geom"
	"excavate/core/scene"
)

// Sheet is a target sheet. A rule that is left out is not rehearsed.
type Sheet struct {
	Name            string     `json:"target" yaml:"target"`
	About           string     `json:"about,omitempty" yaml:"about"`
	Format          string     `json:"format" yaml:"format"` // glb
	Basis           *SheetBase `json:"basis,omitempty" yaml:"basis"`
	Size            *Size      `json:"size,omitempty" yaml:"size"`
	RootBone        string     `json:"rootBone,omitempty" yaml:"root_bone"`
	JointsPerVertex int        `json:"jointsPerVertex,omitempty" yaml:"joints_per_vertex"`
	Cameras         *bool      `json:"cameras,omitempty" yaml:"cameras"` // false: none may be there
	Lights          *bool      `json:"lights,omitempty" yaml:"lights"`
	Helpers         *bool      `json:"helpers,omitempty" yaml:"helpers"`
	Names           *Names     `json:"names,omitempty" yaml:"names"`
	Pictures        *Pictures  `json:"pictures,omitempty" yaml:"pictures"`
	Ground          bool       `json:"ground,omitempty" yaml:"ground"`
}

// SheetBase is a basis as sheets write it.
type SheetBase struct {
	Up            string  `json:"up" yaml:"up"`
	Front         string  `json:"front" yaml:"front"`
	Handed        string  `json:"handedness" yaml:"handedness"`
	MetresPerUnit float64 `json:"metresPerUnit" yaml:"metres_per_unit"`
}

// Size bounds the longest side, in metres.
type Size struct {
	Least float64 `json:"least" yaml:"least"`
	Most  float64 `json:"most" yaml:"most"`
}

// Names bounds the names of nodes and materials.
type Names struct {
	Unique  bool   `json:"unique" yaml:"unique"`
	Pattern string `json:"pattern,omitempty" yaml:"pattern"` // RE2
}

// Pictures bounds the pictures.
type Pictures struct {
	Required bool `json:"required" yaml:"required"` // every one must be found
	Largest  int  `json:"largest,omitempty" yaml:"largest"`
}

// Parse reads a sheet in YAML.
func Parse(doc []byte) (*Sheet, error) {
	var s Sheet
	if err := document.Read(doc, &s); err != nil {
		return nil, fmt.Errorf("target sheet: %w", err)
	}
	if s.Name == "" {
		return nil, fmt.Errorf("target sheet: the key target, its name, is missing")
	}
	if s.Format != "glb" {
		return nil, fmt.Errorf("target sheet %s: format %q cannot be written; write glb", s.Name, s.Format)
	}
	if s.Basis != nil {
		if _, err := s.Basis.Basis(); err != nil {
			return nil, fmt.Errorf("target sheet %s: basis: %w", s.Name, err)
		}
	}
	if s.Names != nil {
		if _, err := regexp.Compile(s.Names.Pattern); err != nil {
			return nil, fmt.Errorf("target sheet %s: names: %w", s.Name, err)
		}
	}
	if z := s.Size; z != nil && !(z.Least >= 0 && z.Most >= z.Least) {
		return nil, fmt.Errorf("target sheet %s: size: least %g and most %g", s.Name, z.Least, z.Most)
	}
	return &s, nil
}

// Load reads every *.yaml sheet of a file system's root.
func Load(fsys fs.FS) (map[string]*Sheet, error) {
	names, err := fs.Glob(fsys, "*.yaml")
	if err != nil {
		return nil, err
	}
	out := map[string]*Sheet{}
	for _, n := range names {
		doc, err := fs.ReadFile(fsys, n)
		if err != nil {
			return nil, err
		}
		s, err := Parse(doc)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", n, err)
		}
		out[strings.TrimSuffix(n, ".yaml")] = s
	}
	return out, nil
}

// Basis is the sheet's basis; all of it must be stated.
func (b *SheetBase) Basis() (geom.Basis, error) {
	up, err := geom.ParseAxis(b.Up)
	if err != nil {
		return geom.Basis{}, err
	}
	front, err := geom.ParseAxis(b.Front)
	if err != nil {
		return geom.Basis{}, err
	}
	out := geom.Basis{Up: up, Front: front, Handed: geom.Handedness(b.Handed), MetresPerUnit: b.MetresPerUnit}
	if !out.Known() {
		return out, fmt.Errorf("state up, front, handedness and metres_per_unit")
	}
	return out, out.Validate()
}

// Severity says what the target does about a finding.
type Severity string

// The severities, worst first.
const (
	Stops Severity = "stops" // the target refuses it, or the result is wrong
	Warns Severity = "warns" // the target takes it, at a price
	Holds Severity = "holds" // the rule holds
)

// Finding is one rule's outcome.
type Finding struct {
	Rule     string      `json:"rule"`
	Severity Severity    `json:"severity"`
	Title    string      `json:"title"`
	Where    string      `json:"where,omitempty"` // what it is about: names, numbers
	Why      string      `json:"why,omitempty"`   // what the target would do
	Mend     *chain.Step `json:"mend,omitempty"`  // the step that mends it
	MendText string      `json:"mendText,omitempty"`
	// MendFirst says that the step belongs before the others.
	MendFirst bool `json:"mendFirst,omitempty"`
}

func mend(name string, with any) *chain.Step {
	b, err := json.Marshal(with)
	if err != nil {
		panic(err) // maps of plain values only
	}
	return &chain.Step{Step: name, With: b}
}

// Rehearse holds a scene against a sheet. Findings come worst first.
func Rehearse(s *scene.Scene, t *Sheet) []Finding {
	r := &rehearsal{s: s, t: t, st: s.Stats()}
	for _, rule := range []func(){r.basis, r.size, r.ground, r.root, r.joints, r.pictures, r.unwanted, r.names, r.weights} {
		rule()
	}
	order := map[Severity]int{Stops: 0, Warns: 1, Holds: 2}
	sort.SliceStable(r.out, func(i, j int) bool { return order[r.out[i].Severity] < order[r.out[j].Severity] })
	return r.out
}

// Count counts the findings of each severity.
func Count(f []Finding) (stops, warns, holds int) {
	for _, x := range f {
		switch x.Severity {
		case Stops:
			stops++
		case Warns:
			warns++
		default:
			holds++
		}
	}
	return
}

type rehearsal struct {
	s   *scene.Scene
	t   *Sheet
	st  scene.Stats
	out []Finding
}

func (r *rehearsal) add(f Finding) { r.out = append(r.out, f) }

func (r *rehearsal) want() (geom.Basis, bool) {
	if r.t.Basis == nil {
		return geom.Basis{}, false
	}
	b, err := r.t.Basis.Basis() // Parse has seen it
	return b, err == nil
}

func (r *rehearsal) basis() {
	want, ok := r.want()
	if !ok {
		return
	}
	b := r.t.Basis
	params := map[string]any{"up": b.Up, "front": b.Front, "handedness": b.Handed, "unit": b.MetresPerUnit}
	have := r.s.Basis
	switch {
	case have == want:
		r.add(Finding{Rule: "basis", Severity: Holds, Title: "The basis is the target's", Where: want.String()})
	case !have.Known():
		assume := map[string]any{}
		def := have.Or(want)
		if have.Up == 0 {
			assume["up"] = def.Up.String()
		}
		if have.Front == 0 {
			assume["front"] = def.Front.String()
		}
		if have.Handed == "" {
			assume["handedness"] = string(def.Handed)
		}
		if have.MetresPerUnit == 0 {
			assume["unit"] = def.MetresPerUnit
		}
		params["assume"] = assume
		r.add(Finding{Rule: "basis", Severity: Warns, Title: "The source does not declare its whole basis", Where: have.String(),
			Why: "The target takes the numbers as " + want.String() + ". Compare with the scale figure and state what is right.", Mend: mend("basis", params), MendText: "Add “Change basis”"})
	default:
		r.add(Finding{Rule: "basis", Severity: Stops, Title: "The basis is not the target's", Where: have.String() + ", the target wants " + want.String(),
			Why: "The asset would " + differ(have, want) + ".", Mend: mend("basis", params), MendText: "Add “Change basis”"})
	}
}

// differ says what one sees when numbers of one basis are read in another.
func differ(have, want geom.Basis) string {
	var p []string
	if have.Up != want.Up {
		p = append(p, "lie on its side")
	} else if have.Front != want.Front {
		p = append(p, "face the wrong way")
	}
	if have.Handed != want.Handed {
		p = append(p, "be mirrored")
	}
	if f := want.MetresPerUnit / have.MetresPerUnit; f > 1 {
		p = append(p, fmt.Sprintf("be %.4g times too large", f))
	} else if f < 1 {
		p = append(p, fmt.Sprintf("be %.4g times too small", 1/f))
	}
	if len(p) == 0 {
		return "be turned"
	}
	if len(p) == 1 {
		return p[0]
	}
	return strings.Join(p[:len(p)-1], ", ") + " and " + p[len(p)-1]
}

func (r *rehearsal) size() {
	z := r.t.Size
	if z == nil {
		return
	}
	// What matters is the size that the target will see.
	box := geom.Box{Min: r.st.Min, Max: r.st.Max}
	unit := 1.0
	if want, ok := r.want(); ok {
		unit = want.MetresPerUnit
	} else if r.s.Basis.MetresPerUnit > 0 {
		unit = r.s.Basis.MetresPerUnit
	}
	d := box.Size()
	longest := math.Max(d[0], math.Max(d[1], d[2])) * unit
	where := fmt.Sprintf("longest side %.4g m beside a 1.75 m figure", longest)
	switch {
	case r.st.Vertices == 0:
		r.add(Finding{Rule: "size", Severity: Stops, Title: "There is no mesh", Why: "The target would show nothing."})
	case longest < z.Least || longest > z.Most:
		f := Finding{Rule: "size", Severity: Stops, Title: "The size is not plausible", Where: where,
			Why: fmt.Sprintf("The target's assets are between %g and %g m. Most often the unit is wrong.", z.Least, z.Most)}
		if want, ok := r.want(); ok && r.s.Basis.Known() && r.s.Basis.MetresPerUnit != want.MetresPerUnit {
			b := r.t.Basis
			f.Mend, f.MendText = mend("basis", map[string]any{"up": b.Up, "front": b.Front, "handedness": b.Handed, "unit": b.MetresPerUnit}), "Add “Change basis”"
		}
		r.add(f)
	default:
		r.add(Finding{Rule: "size", Severity: Holds, Title: "The size is plausible", Where: where})
	}
}

func (r *rehearsal) ground() {
	if !r.t.Ground || r.s.Basis.Up == 0 || r.st.Vertices == 0 {
		return
	}
	up := r.s.Basis.Up.Vec()
	lowest := math.Min(geom.Vec3(r.st.Min).Dot(up), geom.Vec3(r.st.Max).Dot(up))
	unit := r.s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	where := fmt.Sprintf("lowest point at %.3f m", lowest*unit)
	if math.Abs(lowest*unit) <= 0.0015 {
		r.add(Finding{Rule: "ground", Severity: Holds, Title: "It stands on the ground", Where: where})
		return
	}
	what := "float above the floor"
	if lowest < 0 {
		what = "sink into the floor"
	}
	r.add(Finding{Rule: "ground", Severity: Warns, Title: "It does not stand on the ground", Where: where, Why: "Placed at the origin it would " + what + ".",
		Mend: mend("ground", map[string]any{}), MendText: "Add “Sit on the ground”"})
}

func (r *rehearsal) root() {
	if r.t.RootBone == "" || r.st.Bones == 0 {
		return
	}
	bones := r.s.Bones()
	var roots []string
	for i, b := range bones {
		if b && (r.s.Nodes[i].Parent < 0 || !bones[r.s.Nodes[i].Parent]) {
			roots = append(roots, r.s.Nodes[i].Name)
		}
	}
	if len(roots) > 1 {
		r.add(Finding{Rule: "root bone", Severity: Stops, Title: "The skeleton has more than one root", Where: strings.Join(roots, ", "),
			Why: "The target merges skeletons from one root bone."})
		return
	}
	if roots[0] == r.t.RootBone {
		r.add(Finding{Rule: "root bone", Severity: Holds, Title: "The root bone has the target's name", Where: "“" + roots[0] + "”"})
		return
	}
	r.add(Finding{Rule: "root bone", Severity: Stops, Title: "The root bone has another name", Where: fmt.Sprintf("“%s”, the target wants “%s”", roots[0], r.t.RootBone),
		Why:  "The target could not merge the skeleton with its own and would make a second one.",
		Mend: mend("rename", map[string]any{"what": "bones", "rules": []any{map[string]any{"find": "^" + regexp.QuoteMeta(roots[0]) + "$", "replace": strings.ReplaceAll(r.t.RootBone, "$", "$$")}}}), MendText: fmt.Sprintf("Rename it to “%s”", r.t.RootBone)})
}

func (r *rehearsal) joints() {
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
		r.add(Finding{Rule: "joints per vertex", Severity: Holds, Title: "No vertex follows too many bones", Where: fmt.Sprintf("%d at most, %d allowed", most, r.t.JointsPerVertex)})
		return
	}
	r.add(Finding{Rule: "joints per vertex", Severity: Warns, Title: "Some vertices follow too many bones", Where: fmt.Sprintf("%d vertices follow up to %d bones, %d allowed", over, most, r.t.JointsPerVertex),
		Why: "The target drops the weakest ones, and the surface moves otherwise than it did."})
}

func (r *rehearsal) pictures() {
	p := r.t.Pictures
	if p == nil {
		return
	}
	var missing, large []string
	for i := range r.s.Pictures {
		x := &r.s.Pictures[i]
		if x.Missing() {
			missing = append(missing, x.Name)
		}
		if p.Largest > 0 && (x.Width > p.Largest || x.Height > p.Largest) {
			large = append(large, fmt.Sprintf("%s %d × %d", x.Name, x.Width, x.Height))
		}
	}
	n := len(r.s.Pictures)
	switch {
	case p.Required && len(missing) > 0:
		r.add(Finding{Rule: "pictures", Severity: Stops, Title: "A picture is missing", Where: strings.Join(missing, ", "),
			Why: "The surface would be plain. Add the source that holds the picture; it is found by itself."})
	case n > 0:
		r.add(Finding{Rule: "pictures", Severity: Holds, Title: "Every picture is there", Where: fmt.Sprintf("%d of %d", n-len(missing), n)})
	}
	if len(large) > 0 {
		r.add(Finding{Rule: "picture size", Severity: Warns, Title: "A picture is larger than the sheet allows", Where: fmt.Sprintf("%s, limit %d", strings.Join(large, ", "), p.Largest),
			Why: "It loads and takes more memory than the target plans for."})
	}
}

func (r *rehearsal) unwanted() {
	strip := mend("strip", map[string]any{"cameras": true, "lights": true, "helpers": true})
	one := func(rule string, allowed *bool, n int, title, none, why string, names []string) {
		if allowed == nil || *allowed {
			return
		}
		if n == 0 {
			r.add(Finding{Rule: rule, Severity: Holds, Title: none})
			return
		}
		r.add(Finding{Rule: rule, Severity: Warns, Title: title, Where: strings.Join(names, ", "), Why: why, Mend: strip, MendText: "Add “Strip”", MendFirst: true})
	}
	var cams, lights, helpers []string
	h := r.s.Helpers()
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Camera >= 0 {
			cams = append(cams, n.Name)
		}
		if n.Light >= 0 {
			lights = append(lights, n.Name)
		}
		if h[i] {
			helpers = append(helpers, n.Name)
		}
	}
	one("cameras", r.t.Cameras, len(cams), "A camera was left in", "No cameras", "It turns up in the target's scene, and some targets look through it.", cams)
	one("lights", r.t.Lights, len(lights), "A light was left in", "No lights", "It lights the target's scene a second time.", lights)
	one("helpers", r.t.Helpers, len(helpers), "Helper nodes were left in", "No helper nodes", "The target makes an empty object of each.", helpers)
}

func (r *rehearsal) names() {
	n := r.t.Names
	if n == nil {
		return
	}
	kinds := []struct {
		what  string
		names []string
	}{{"nodes and bones", nil}, {"materials", nil}}
	for i := range r.s.Nodes {
		kinds[0].names = append(kinds[0].names, r.s.Nodes[i].Name)
	}
	for i := range r.s.Materials {
		kinds[1].names = append(kinds[1].names, r.s.Materials[i].Name)
	}
	twice, odd := []string{}, []string{}
	oddWhat := ""
	re := regexp.MustCompile(n.Pattern)
	for _, k := range kinds {
		seen := map[string]bool{}
		for _, name := range k.names {
			if seen[name] {
				twice = append(twice, name)
			}
			seen[name] = true
			if n.Pattern != "" && !re.MatchString(name) {
				odd = append(odd, name)
				if oddWhat == "" {
					oddWhat = k.what
				}
			}
		}
	}
	if n.Unique {
		if len(twice) > 0 {
			r.add(Finding{Rule: "names unique", Severity: Warns, Title: "Names stand more than once", Where: few(twice), Why: "The target numbers the second one, and references by name miss it."})
		} else {
			r.add(Finding{Rule: "names unique", Severity: Holds, Title: "Every name is unique"})
		}
	}
	if n.Pattern != "" {
		if len(odd) > 0 {
			r.add(Finding{Rule: "names", Severity: Warns, Title: "Names hold characters that the target changes", Where: few(odd), Why: "The target replaces them, and references by name miss.",
				Mend: mend("rename", map[string]any{"what": oddWhat, "rules": []any{map[string]any{"find": "[^A-Za-z0-9_ .-]+", "replace": "_"}}}), MendText: "Add “Rename”"})
		} else {
			r.add(Finding{Rule: "names", Severity: Holds, Title: "Every name is one the target takes"})
		}
	}
}

// weights rehearses what no sheet needs to ask: triangles that a skin moves
// must have bones to follow.
func (r *rehearsal) weights() {
	if r.st.Bones == 0 {
		return
	}
	var bare []string
	for i := range r.s.Nodes {
		n := &r.s.Nodes[i]
		if n.Skin < 0 || n.Mesh < 0 {
			continue
		}
		for j := range r.s.Meshes[n.Mesh].Parts {
			if r.s.Meshes[n.Mesh].Parts[j].Influences == 0 {
				bare = append(bare, r.s.Meshes[n.Mesh].Name)
				break
			}
		}
	}
	if len(bare) > 0 {
		r.add(Finding{Rule: "weights", Severity: Warns, Title: "Parts of a skinned mesh have no weights", Where: few(bare), Why: "They stay behind when the figure moves."})
	}
}

func few(names []string) string {
	if len(names) > 6 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:6], ", "), len(names)-6)
	}
	return strings.Join(names, ", ")
}

// Lines states the sheet's rules for people: what, and its value.
func (s *Sheet) Lines() (out [][2]string) {
	add := func(what, f string, a ...any) { out = append(out, [2]string{what, fmt.Sprintf(f, a...)}) }
	if s.Basis != nil {
		if b, err := s.Basis.Basis(); err == nil {
			text := b.String()
			i := strings.LastIndex(text, ", ")
			add("Basis", "%s", text[:i])
			add("Unit", "%s", text[i+2:])
		}
	}
	add("Format", "%s", strings.ToUpper(s.Format))
	if s.Size != nil {
		add("Size", "%g to %g m", s.Size.Least, s.Size.Most)
	}
	if s.RootBone != "" {
		add("Root bone", "%s", s.RootBone)
	}
	if s.JointsPerVertex > 0 {
		add("Joints", "%d per vertex", s.JointsPerVertex)
	}
	if p := s.Pictures; p != nil {
		if p.Required {
			add("Pictures", "every one found, to %d texels", p.Largest)
		} else {
			add("Pictures", "to %d texels", p.Largest)
		}
	}
	var none []string
	for _, x := range []struct {
		name  string
		allow *bool
	}{{"cameras", s.Cameras}, {"lights", s.Lights}, {"helpers", s.Helpers}} {
		if x.allow != nil && !*x.allow {
			none = append(none, x.name)
		}
	}
	if none != nil {
		add("Without", "%s", strings.Join(none, ", "))
	}
	if s.Names != nil && s.Names.Unique {
		add("Names", "unique")
	}
	if s.Ground {
		add("Stands", "on the ground")
	}
	return out
}
