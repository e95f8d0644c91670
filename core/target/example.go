package target

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"math/bits"
	"regexp"
	"slices"
	"strings"

	"excavate/core/scene"

	"github.com/goccy/go-yaml"
)

// FromExample proposes a sheet from an asset that the target already takes, as
// its own export: each rule stands with what speaks for it. What one example
// cannot tell, such as a limit, is proposed with room above it and says so.
func FromExample(name string, s *scene.Scene) []byte {
	x := &example{s: s, st: s.Stats()}
	x.say("# Proposed from %s. Look at each line: one example shows what a target takes, not what it refuses.",
		oneLine(name))
	x.key("target", quoted("Target of "+oneLine(name)), "")
	x.key("format", "glb", "the format that deliveries are written in; change it to what the target reads")
	x.basis()
	x.stands()
	x.skeleton()
	x.contents()
	x.surface()
	return []byte(strings.Join(x.lines, "\n") + "\n")
}

// example is the sheet that is written.
type example struct {
	s     *scene.Scene
	st    scene.Stats
	lines []string
}

func (x *example) say(f string, a ...any) { x.lines = append(x.lines, fmt.Sprintf(f, a...)) }

// key writes a rule with its evidence.
func (x *example) key(key, value, why string, a ...any) {
	if why != "" {
		x.say("# "+why, a...)
	}
	x.say("%s: %s", key, value)
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// quoted is a text that YAML reads as one, whatever is in it.
func quoted(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		return `""`
	}
	return string(b)
}

func quotedList(list []string) string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = quoted(s)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

func (x *example) basis() {
	b := x.s.Basis
	if !b.Known() {
		x.say("# The example does not declare its whole basis (%s): state the target's axes and unit.", b)
		return
	}
	x.key("basis", fmt.Sprintf("{up: %s, front: %s, handedness: %s, metres_per_unit: %g}", b.Up, b.Front,
		b.Handed, b.MetresPerUnit),
		"its file says: %s", b)
}

// round2 is a number with two digits that count, rounded up or down.
func round2(v float64, up bool) float64 {
	if !(v > 0) {
		return 0
	}
	f := math.Pow(10, math.Floor(math.Log10(v))-1)
	if up {
		return math.Ceil(v/f) * f
	}
	return math.Floor(v/f) * f
}

func (x *example) stands() {
	r := &rehearsal{s: x.s, t: &Sheet{}, st: x.st}
	if l := r.longest(); x.st.Vertices > 0 && l > 0 {
		x.key("size", fmt.Sprintf("{least: %.3g, most: %.3g}", round2(l/20, false), round2(l*20, true)),
			"it is %.4g m long; twentyfold either way is taken for plausible", l)
	}
	if up := x.s.Basis.Up; up != 0 && x.st.Vertices > 0 {
		g := &rehearsal{s: x.s, t: &Sheet{Ground: true, Centred: true}, st: x.st}
		g.ground("ground")
		g.centred("centred")
		for _, f := range g.out {
			if f.Severity == Holds {
				x.key(f.Rule, "true", "%s", f.Where)
			}
		}
	}
}

func (x *example) skeleton() {
	if x.st.Bones == 0 {
		return
	}
	r := &rehearsal{s: x.s, t: &Sheet{}, st: x.st}
	roots := r.roots()
	if len(roots) == 1 {
		x.key("root_bone", quoted(roots[0].Name), "its skeleton's one root has this name")
	}
	if len(r.ends()) == 0 {
		x.key("end_bones", "false", "it has none")
	}
	most := 0
	for i := range x.s.Meshes {
		for j := range x.s.Meshes[i].Parts {
			most = max(most, x.s.Meshes[i].Parts[j].Influences)
		}
	}
	x.key("joints_per_vertex", fmt.Sprint(max(most, 1)), "no vertex of it follows more bones")
	x.say("# its %d bones with what they hang on, parents before children", x.st.Bones)
	x.say("skeleton:")
	x.say("  bones:")
	seen := map[string]bool{}
	for i, b := range x.s.Bones() {
		name := x.s.Nodes[i].Name
		if !b || name == "" || seen[name] {
			continue
		}
		seen[name] = true
		if up := r.boneAbove(i); up != "" {
			x.say("    - {name: %s, parent: %s}", quoted(name), quoted(up))
		} else {
			x.say("    - {name: %s}", quoted(name))
		}
	}
}

// classes of letters, the narrowest first.
var classes = []string{`^[a-z0-9_]+$`, `^[A-Za-z0-9_]+$`, `^[A-Za-z0-9_ .-]+$`}

func (x *example) contents() {
	for _, k := range []struct {
		key string
		n   int
	}{{"cameras", x.st.Cameras}, {"lights", x.st.Lights}, {"helpers", x.st.Helpers}} {
		if k.n == 0 {
			x.key(k.key, "false", "it has none")
		}
	}
	if x.st.Triangles > 0 {
		x.key("limits", fmt.Sprintf("{triangles: %d, materials: %d}", nextPower(x.st.Triangles)*2,
			max(nextPower(x.st.Materials)*2, 8)),
			"it has %d triangles and %d materials; limits cannot be told from one example: these leave room",
			x.st.Triangles, x.st.Materials)
	}
	var all []string
	longest, twice := 0, false
	seen := map[string]bool{}
	for i := range x.s.Nodes {
		n := x.s.Nodes[i].Name
		all = append(all, n)
		twice = twice || seen[n]
		seen[n] = true
		longest = max(longest, len([]rune(n)))
	}
	for i := range x.s.Materials {
		all = append(all, x.s.Materials[i].Name)
	}
	var parts []string
	if !twice && len(all) > 1 {
		parts = append(parts, "unique: true")
	}
	for _, c := range classes {
		re := regexp.MustCompile(c)
		if len(all) > 0 && !slices.ContainsFunc(all, func(n string) bool { return !re.MatchString(n) }) {
			parts = append(parts, "pattern: "+quoted(c))
			break
		}
	}
	if parts != nil {
		x.key("names", "{"+strings.Join(parts, ", ")+"}",
			"of %d names none stands twice or has other letters; the longest has %d", len(all), longest)
	}
}

func nextPower(n int) int { return 1 << bits.Len(uint(max(n-1, 0))) }

func (x *example) surface() {
	if len(x.s.Materials) > 0 {
		var there []string
		for i := range x.s.Materials {
			if n := x.s.Materials[i].Name; n != "" && !slices.Contains(there, n) {
				there = append(there, n)
			}
		}
		x.key("materials", fmt.Sprintf("{there: %s, once: true}", quotedList(there)),
			"materials that it has are there already; take out those that are not the target's own")
	}
	longest, powers, formats := 0, true, []string{}
	for i := range x.s.Pictures {
		p := &x.s.Pictures[i]
		if p.Missing() {
			continue
		}
		longest = max(longest, p.Width, p.Height)
		powers = powers && power(p.Width) && power(p.Height)
		if f := strings.TrimPrefix(p.MIME, "image/"); !slices.Contains(formats, f) && (f == "png" || f == "jpeg") {
			formats = append(formats, f)
		}
	}
	if longest > 0 {
		parts := []string{"required: true", fmt.Sprintf("largest: %d", nextPower(longest))}
		if powers {
			parts = append(parts, "powers_of_two: true")
		}
		slices.Sort(formats)
		if len(formats) > 0 {
			parts = append(parts, "formats: ["+strings.Join(formats, ", ")+"]")
		}
		x.key("pictures", "{"+strings.Join(parts, ", ")+"}", "its largest picture has %d px", longest)
	}
	if x.st.Normals {
		x.key("normals", "true", "every surface of it has normals")
	}
	if x.st.Colliders > 0 {
		var shapes []string
		for i := range x.s.Nodes {
			if c := x.s.Nodes[i].Collider; c != nil && !slices.Contains(shapes, string(c.Shape)) {
				shapes = append(shapes, string(c.Shape))
			}
		}
		x.key("colliders", "{as: extension, shapes: ["+strings.Join(shapes, ", ")+"]}", "it has %d colliders",
			x.st.Colliders)
	} else if end := collisionEnding(x.s); end != "" {
		x.key("colliders", "{as: ending, ending: "+quoted(end)+"}", "names of some meshes end in %s", end)
	}
	if len(x.s.Motions) == 0 && x.st.Bones == 0 {
		x.key("motions", "{none: true}", "it does not move")
	}
}

// collisionEnding is an ending by which meshes are told to be colliders.
func collisionEnding(s *scene.Scene) string {
	for _, end := range []string{"_collider", "_collision", "_col", "_phys", "_hull"} {
		n := 0
		for i := range s.Nodes {
			if s.Nodes[i].Mesh >= 0 && strings.HasSuffix(strings.ToLower(s.Nodes[i].Name), end) {
				n++
			}
		}
		if n > 0 {
			return end
		}
	}
	return ""
}

// Text writes a sheet that is given as values, such as a form's, as a document.
// The comments of the document that it was before stay with the keys that are
// still there. A value that no sheet has is an error.
func Text(values json.RawMessage, was []byte) ([]byte, error) {
	d := json.NewDecoder(bytes.NewReader(values))
	d.DisallowUnknownFields()
	var s Sheet
	if err := d.Decode(&s); err != nil {
		return nil, fmt.Errorf("%s", strings.TrimPrefix(err.Error(), "json: "))
	}
	// By way of the struct the keys come to stand in their order.
	text, err := json.Marshal(&s)
	if err != nil {
		return nil, err
	}
	if text, err = yaml.JSONToYAML(text); err != nil {
		return nil, err
	}
	return commented(text, was), nil
}

// commented is a document with those comments of another that are about keys
// that it has too.
func commented(text, other []byte) []byte {
	comments := yaml.CommentMap{}
	var old any
	if yaml.UnmarshalWithOptions(other, &old, yaml.CommentToMap(comments)) != nil || len(comments) == 0 {
		return text
	}
	var all yaml.MapSlice
	if yaml.Unmarshal(text, &all) != nil {
		return text
	}
	for at := range comments {
		p, err := yaml.PathString(at)
		var there any
		if err != nil || p.Read(bytes.NewReader(text), &there) != nil {
			delete(comments, at)
		}
	}
	if out, err := yaml.MarshalWithOptions(all, yaml.WithComment(comments)); err == nil {
		return out
	}
	return text
}
