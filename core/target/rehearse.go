package target

import (
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"

	"excavate/core/chain"
	"excavate/core/geom"
	"excavate/core/pick"
	"excavate/core/scene"
	"excavate/core/solid"
	"excavate/core/step"
)

// Severity says what the target does about a finding.
type Severity string

// The severities, worst first.
const (
	Stops Severity = "stops" // the target refuses it, or the result is wrong
	Warns Severity = "warns" // the target takes it, at a price
	Holds Severity = "holds" // the rule holds
	Off   Severity = "off"   // of a sheet: the rule is not rehearsed
)

// Finding is one rule's outcome.
type Finding struct {
	Rule     string   `json:"rule"`
	Severity Severity `json:"severity"`
	Title    string   `json:"title"`
	Where    string   `json:"where,omitempty"` // what it is about: names, numbers
	Why      string   `json:"why,omitempty"`   // what the target would do
	// Things are what it is about in the scene, at most MostThings.
	Things []Thing `json:"things,omitempty"`
	// Mends are the steps that mend it, in their order.
	Mends    []chain.Step `json:"mends,omitempty"`
	MendText string       `json:"mendText,omitempty"`
	// Evidence is why the mend is this one where it could be another.
	Evidence string `json:"evidence,omitempty"`
	// Ask is what only the porter can decide; Mends are then the likeliest answer.
	Ask *Question `json:"ask,omitempty"`
}

// Question is something that only the porter can decide, with its answers.
type Question struct {
	Text    string   `json:"text"`
	Answers []Answer `json:"answers"`
}

// Answer is one answer and the steps that carry it out.
type Answer struct {
	Text  string       `json:"text"`
	Mends []chain.Step `json:"mends"`
}

// Thing is something of a scene: a node, mesh, material, picture or motion by
// its place in the scene's list.
type Thing struct {
	Kind  string `json:"kind"`
	Name  string `json:"name"`
	Index int    `json:"index"`
}

// MostThings is how many things a finding names.
const MostThings = 500

// rule is a rule that sheets may have.
type rule struct {
	name string
	look func(*rehearsal, string)
}

// The rules in the order in which they are rehearsed. It is filled in here so
// that sheets can be held against the names.
var rules []rule

func init() {
	rules = []rule{
		{"basis", (*rehearsal).basis},
		{"size", (*rehearsal).size},
		{"ground", (*rehearsal).ground},
		{"centred", (*rehearsal).centred},
		{"root bone", (*rehearsal).root},
		{"end bones", (*rehearsal).endBones},
		{"skeleton", (*rehearsal).skeleton},
		{"joints per vertex", (*rehearsal).joints},
		{"weights", (*rehearsal).weights},
		{"cameras", (*rehearsal).cameras},
		{"lights", (*rehearsal).lights},
		{"helpers", (*rehearsal).helpers},
		{"triangles", (*rehearsal).triangles},
		{"meshes", (*rehearsal).meshes},
		{"nodes", (*rehearsal).nodes},
		{"materials", (*rehearsal).materials},
		{"bones", (*rehearsal).bones},
		{"morph targets", (*rehearsal).morphs},
		{"UV sets", (*rehearsal).uvSets},
		{"colour sets", (*rehearsal).colourSets},
		{"picture memory", (*rehearsal).memory},
		{"names", (*rehearsal).names},
		{"name length", (*rehearsal).nameLength},
		{"names unique", (*rehearsal).unique},
		{"materials there", (*rehearsal).materialsThere},
		{"materials twice", (*rehearsal).materialsTwice},
		{"pictures", (*rehearsal).pictures},
		{"picture size", (*rehearsal).pictureSize},
		{"picture sides", (*rehearsal).pictureSides},
		{"picture format", (*rehearsal).pictureFormat},
		{"transparency", (*rehearsal).transparency},
		{"posed", (*rehearsal).posed},
		{"closed", (*rehearsal).closed},
		{"shells", (*rehearsal).shells},
		{"crossing faces", (*rehearsal).crossing},
		{"walls", (*rehearsal).walls},
		{"bed", (*rehearsal).bed},
		{"foot", (*rehearsal).foot},
		{"normals", (*rehearsal).normals},
		{"UVs", (*rehearsal).uvs},
		{"colliders", (*rehearsal).colliders},
		{"passages", (*rehearsal).passages},
		{"collider shapes", (*rehearsal).shapes},
		{"collider fit", (*rehearsal).fit},
		{"motions", (*rehearsal).motions},
		{"motion length", (*rehearsal).motionLength},
		{"variants", (*rehearsal).variants},
		{"licence", (*rehearsal).licence},
	}
}

// Rehearse holds a scene against a sheet. Findings come worst first.
func Rehearse(s *scene.Scene, t *Sheet) []Finding { return rehearse(s, t, alphas{}) }

// alphas are what is known of the alpha of pictures, by the place of their
// bytes: those of an asset that is rehearsed again and again are looked at once.
type alphas map[*byte]step.Histogram

func rehearse(s *scene.Scene, t *Sheet, known alphas) []Finding {
	r := &rehearsal{s: s, t: t, st: s.Stats(), alpha: known}
	for _, x := range rules {
		if t.Severity[x.name] != Off {
			x.look(r, x.name)
		}
	}
	for i := range t.Rules {
		if o := &t.Rules[i]; t.Severity[o.Rule] != Off {
			r.own(o)
		}
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

// rehearsal is one scene held against one sheet.
type rehearsal struct {
	s     *scene.Scene
	t     *Sheet
	st    scene.Stats
	bone  []bool
	alpha alphas
	body  *solid.Report // looked at once it is asked for
	out   []Finding
}

// add takes a finding, as much as the sheet makes of it.
func (r *rehearsal) add(f Finding) {
	if f.Severity != Holds {
		if v := r.t.Severity[f.Rule]; v != "" {
			f.Severity = v
		}
		if why := r.t.Why[f.Rule]; why != "" {
			f.Why = why
		}
	}
	if len(f.Things) > MostThings {
		f.Things = f.Things[:MostThings]
	}
	r.out = append(r.out, f)
}

func (r *rehearsal) holds(name, title, where string) {
	r.add(Finding{Rule: name, Severity: Holds, Title: title, Where: where})
}

// step is a step with its parameters, which are plain values.
func mend(name string, with any) chain.Step {
	b, err := json.Marshal(with)
	if err != nil {
		panic(err) // maps of plain values only
	}
	return chain.Step{Step: name, With: b}
}

// params are a step's parameters.
type params = map[string]any

// where is a pick of nodes, materials or pictures by their exact names.
func where(key string, names []string) params {
	list := []string{}
	for _, n := range names {
		if g := pick.Literal(n); n != "" && !slices.Contains(list, g) {
			list = append(list, g)
		}
	}
	return params{key: list}
}

// stripOnly is a strip of some kinds and of none of the others.
func stripOnly(kinds ...string) chain.Step {
	p := params{"cameras": false, "lights": false, "helpers": false}
	for _, k := range kinds {
		p[k] = true
	}
	return mend("strip", p)
}

// node is a node as a thing.
func (r *rehearsal) node(i int) Thing { return Thing{"node", r.s.Nodes[i].Name, i} }

func (r *rehearsal) material(i int) Thing { return Thing{"material", r.s.Materials[i].Name, i} }

func (r *rehearsal) picture(i int) Thing { return Thing{"picture", r.s.Pictures[i].Name, i} }

// names of things, in their order.
func names(list []Thing) []string {
	out := make([]string, len(list))
	for i, t := range list {
		out[i] = t.Name
	}
	return out
}

// few joins names and cuts a long list short.
func few(names []string) string {
	if len(names) > 6 {
		return fmt.Sprintf("%s and %d more", strings.Join(names[:6], ", "), len(names)-6)
	}
	return strings.Join(names, ", ")
}

// bonesOf tells which nodes are bones.
func (r *rehearsal) isBone() []bool {
	if r.bone == nil {
		r.bone = r.s.Bones()
	}
	return r.bone
}

// want is the basis that the sheet wants.
func (r *rehearsal) want() (geom.Basis, bool) {
	if r.t.Basis == nil {
		return geom.Basis{}, false
	}
	b, err := r.t.Basis.Basis() // Parse has seen it
	return b, err == nil
}

// metres is one unit as the target reads the numbers.
func (r *rehearsal) metres() float64 {
	if want, ok := r.want(); ok {
		return want.MetresPerUnit
	}
	if m := r.s.Basis.MetresPerUnit; m > 0 {
		return m
	}
	return 1
}
