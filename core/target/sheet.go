// Package target holds target sheets, which say what a target expects of an
// asset, and the rehearsal: holding a scene against a sheet and answering
// what the target would object to, why, and which steps mend it.
//
// A rule of a sheet is one function in the table of rules (rehearse.go); what
// a sheet says of it is one field here.
package target

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"excavate/core/chain"
	"excavate/core/condition"
	"excavate/core/document"
	"excavate/core/geom"
	"excavate/core/pick"
	"excavate/core/step"

	"github.com/invopop/jsonschema"
)

// Sheet is a target sheet. A rule that is left out is not rehearsed.
type Sheet struct {
	Name   string `json:"target" jsonschema:"title=Name,minLength=1,maxLength=200"`
	About  string `json:"about,omitempty" jsonschema:"title=What it is,maxLength=2000"`
	Format string `json:"format" jsonschema:"title=Format of the model,enum=glb,enum=vrm,enum=obj,enum=collada,enum=ply,enum=stl,enum=x3d,enum=vrml,enum=3mf,enum=usda,enum=usdz,enum=bvh"`

	Basis    *Basis  `json:"basis,omitempty" jsonschema:"title=Axes and unit"`
	Size     *Size   `json:"size,omitempty" jsonschema:"title=Size"`
	Fraction float64 `json:"fraction,omitempty" jsonschema:"title=Delivered at a fraction of its size,exclusiveMinimum=0,maximum=1,description=A table shows a house of 8 m at 0.03125 as 25 cm"`
	Ground   bool    `json:"ground,omitempty" jsonschema:"title=Stands on the ground"`
	Centred  bool    `json:"centred,omitempty" jsonschema:"title=Stands over the origin,description=The middle of its foot"`

	RootBone        string    `json:"root_bone,omitempty" jsonschema:"title=Root bone,maxLength=200,description=Its exact name"`
	EndBones        *bool     `json:"end_bones,omitempty" jsonschema:"title=End bones,description=false: none may be there"`
	Skeleton        *Skeleton `json:"skeleton,omitempty" jsonschema:"title=Skeleton of the target"`
	JointsPerVertex int       `json:"joints_per_vertex,omitempty" jsonschema:"title=Bones a vertex at most,minimum=1,maximum=64"`

	Cameras *bool `json:"cameras,omitempty" jsonschema:"title=Cameras,description=false: none may be there"`
	Lights  *bool `json:"lights,omitempty" jsonschema:"title=Lights,description=false: none may be there"`
	Helpers *bool `json:"helpers,omitempty" jsonschema:"title=Helper nodes,description=false: none may be there"`

	Limits       Limits     `json:"limits,omitzero" jsonschema:"title=At most"`
	Names        *Names     `json:"names,omitempty" jsonschema:"title=Names"`
	Materials    *Materials `json:"materials,omitempty" jsonschema:"title=Materials"`
	Pictures     *Pictures  `json:"pictures,omitempty" jsonschema:"title=Pictures"`
	Transparency bool       `json:"transparency,omitempty" jsonschema:"title=Alpha is what the pictures call for,description=Glass that is marked opaque is opaque over there"`
	Colliders    *Colliders `json:"colliders,omitempty" jsonschema:"title=Colliders"`
	Motions      *Motions   `json:"motions,omitempty" jsonschema:"title=Motions"`
	Variants     string     `json:"variants,omitempty" jsonschema:"title=Other looks,enum=one,enum=kept,description=one: the target knows no variants"`
	Solid        *Solid     `json:"solid,omitempty" jsonschema:"title=A body that can be printed"`
	Normals      bool       `json:"normals,omitempty" jsonschema:"title=Needs normals"`
	Licence      *Licence   `json:"licence,omitempty" jsonschema:"title=Licence"`

	Rules    []Own               `json:"rules,omitempty" jsonschema:"title=Own rules,maxItems=100"`
	Severity map[string]Severity `json:"severity,omitempty" jsonschema:"title=How much a rule matters,description=stops or warns or off by the rule's name"`
	Why      map[string]string   `json:"why,omitempty" jsonschema:"title=Why in the target's own terms,description=By the rule's name"`

	Delivery *Delivery `json:"delivery,omitempty" jsonschema:"title=Delivery"`
}

// Basis is a basis as sheets write it.
type Basis struct {
	Up            string  `json:"up" jsonschema:"title=Up,enum=+X,enum=-X,enum=+Y,enum=-Y,enum=+Z,enum=-Z"`
	Front         string  `json:"front" jsonschema:"title=Front,enum=+X,enum=-X,enum=+Y,enum=-Y,enum=+Z,enum=-Z"`
	Handed        string  `json:"handedness" jsonschema:"title=Handedness,enum=right,enum=left"`
	MetresPerUnit float64 `json:"metres_per_unit" jsonschema:"title=One unit is,exclusiveMinimum=0" jsonschema_extras:"unit=m"`
}

// Size bounds the longest side as it is delivered.
type Size struct {
	Least float64 `json:"least" jsonschema:"title=Least,minimum=0" jsonschema_extras:"unit=m"`
	Most  float64 `json:"most" jsonschema:"title=Most,exclusiveMinimum=0" jsonschema_extras:"unit=m"`
}

// Skeleton is what the target has already.
type Skeleton struct {
	// Like is an asset that has the skeleton, in the search order: rest poses are
	// held against it too.
	Like  string      `json:"like,omitempty" jsonschema:"title=That of the asset,maxLength=4096"`
	Bones []SheetBone `json:"bones,omitempty" jsonschema:"title=Bones,maxItems=2000,description=Names and parents"`
}

// SheetBone is a bone by its name and what it hangs on; empty is the root.
type SheetBone struct {
	Name   string `json:"name" jsonschema:"title=Name,minLength=1,maxLength=200"`
	Parent string `json:"parent,omitempty" jsonschema:"title=Hangs on,maxLength=200"`
}

// Limits are the most that the target takes; 0 is no limit.
type Limits struct {
	Triangles  int     `json:"triangles,omitempty" jsonschema:"title=Triangles,minimum=0"`
	Meshes     int     `json:"meshes,omitempty" jsonschema:"title=Meshes,minimum=0"`
	Nodes      int     `json:"nodes,omitempty" jsonschema:"title=Nodes,minimum=0"`
	Materials  int     `json:"materials,omitempty" jsonschema:"title=Materials,minimum=0"`
	Bones      int     `json:"bones,omitempty" jsonschema:"title=Bones,minimum=0"`
	Morphs     int     `json:"morphs,omitempty" jsonschema:"title=Morph targets,minimum=0"`
	UVSets     int     `json:"uv_sets,omitempty" jsonschema:"title=UV sets,minimum=0"`
	ColourSets int     `json:"colour_sets,omitempty" jsonschema:"title=Colour sets,minimum=0"`
	Texels     float64 `json:"picture_memory,omitempty" jsonschema:"title=Memory of the pictures,minimum=0,description=Four bytes a texel and mips" jsonschema_extras:"unit=MB"`
}

// Names bounds the names of nodes and materials.
type Names struct {
	Unique  bool   `json:"unique,omitempty" jsonschema:"title=Unique"`
	Pattern string `json:"pattern,omitempty" jsonschema:"title=Of the form,maxLength=500,description=A regular expression (RE2)"`
	Longest int    `json:"longest,omitempty" jsonschema:"title=Letters at most,minimum=1,maximum=1000"`
}

// Materials says what the target has already and what it does with others.
type Materials struct {
	There []string `json:"there,omitempty" jsonschema:"title=There already,maxItems=2000,description=By their exact names; they are used again and not delivered"`
	Only  bool     `json:"only,omitempty" jsonschema:"title=Only these"`
	Once  bool     `json:"once,omitempty" jsonschema:"title=None twice under two names"`
}

// Pictures bounds the pictures.
type Pictures struct {
	Required bool     `json:"required,omitempty" jsonschema:"title=Every one must be found"`
	Largest  int      `json:"largest,omitempty" jsonschema:"title=Longest side at most,minimum=1,maximum=65536" jsonschema_extras:"unit=px"`
	Powers   bool     `json:"powers_of_two,omitempty" jsonschema:"title=Sides are powers of two"`
	Formats  []string `json:"formats,omitempty" jsonschema:"title=Formats,enum=png,enum=jpeg,description=Of pictures within the model"`
}

// Colliders says what one touches over there, and how they are told.
type Colliders struct {
	For     *pick.Rule `json:"for,omitempty" jsonschema:"title=Needed for"`
	Without *pick.Rule `json:"without,omitempty" jsonschema:"title=Not for,description=Doors that one must pass"`
	Shapes  []string   `json:"shapes,omitempty" jsonschema:"title=Shapes,enum=box,enum=sphere,enum=capsule,enum=hull,enum=mesh,description=That the target knows; the first is what is made"`
	As      string     `json:"as,omitempty" jsonschema:"title=Told by,enum=extension,enum=ending,enum=none,description=The format's own extension or a mesh by the ending of its name; none: the target makes its own"`
	Ending  string     `json:"ending,omitempty" jsonschema:"title=Ending,maxLength=60"`
}

// Motions says what the target does with motions.
type Motions struct {
	None  bool    `json:"none,omitempty" jsonschema:"title=None may be there"`
	Apart bool    `json:"apart,omitempty" jsonschema:"title=Each in a file of its own"`
	Most  float64 `json:"longest,omitempty" jsonschema:"title=Longest,minimum=0" jsonschema_extras:"unit=s"`
}

// Solid says what a body must be that is made of matter. Lengths are as it is
// delivered.
type Solid struct {
	Closed bool      `json:"closed,omitempty" jsonschema:"title=Closed all round,description=No holes; no edges of three faces; no faces inside out or through each other"`
	Posed  bool      `json:"posed,omitempty" jsonschema:"title=In its pose,description=No skeleton and no morph targets: what is printed stands still"`
	Wall   float64   `json:"wall,omitempty" jsonschema:"title=Walls at least,minimum=0,maximum=1" jsonschema_extras:"unit=m"`
	Foot   float64   `json:"foot,omitempty" jsonschema:"title=Flat foot at least,minimum=0,description=What of it lies on the bed in square metres"`
	Bed    []float64 `json:"bed,omitempty" jsonschema:"title=Fits the bed,minItems=3,maxItems=3,description=Width and depth and height in metres" jsonschema_extras:"unit=m"`
	// Density is told as a weight: 1240 is that of polylactide.
	Density float64 `json:"density,omitempty" jsonschema:"title=Density,minimum=0,maximum=30000,description=Tells the weight in kg of a cubic metre"`
}

// Licence says what the target asks about whose it is.
type Licence struct {
	Needed bool `json:"needed,omitempty" jsonschema:"title=Owner and licence must be told"`
	Avatar bool `json:"avatar,omitempty" jsonschema:"title=An avatar's licence block,description=Who may use it and for what (VRM 1.0 meta)"`
}

// Own is a rule of the sheet's own: what the target objects to.
type Own struct {
	Rule     string     `json:"rule" jsonschema:"title=Name,minLength=1,maxLength=100"`
	If       string     `json:"if,omitempty" jsonschema:"title=Objects if,maxLength=2000,description=Of the whole asset such as: triangles > 500 and bones == 0"`
	Where    *pick.Rule `json:"where,omitempty" jsonschema:"title=Objects to what is picked"`
	Says     string     `json:"says" jsonschema:"title=What is wrong,minLength=1,maxLength=300"`
	Why      string     `json:"why,omitempty" jsonschema:"title=Why,maxLength=1000"`
	Severity Severity   `json:"severity,omitempty" jsonschema:"title=Matters,enum=stops,enum=warns"`
	Mend     *OwnMend   `json:"mend,omitempty" jsonschema:"title=Mended by"`
}

// OwnMend is the step that mends a rule of the sheet's own.
type OwnMend struct {
	Step string `json:"step" jsonschema:"title=Step,minLength=1,maxLength=60"`
	With Params `json:"with,omitempty" jsonschema:"title=Parameters"`
}

// Params are a step's parameters, which the step itself knows.
type Params json.RawMessage

// JSONSchema says so.
func (Params) JSONSchema() *jsonschema.Schema { return &jsonschema.Schema{Type: "object"} }

// UnmarshalJSON keeps the text.
func (p *Params) UnmarshalJSON(b []byte) error {
	*p = append((*p)[:0], b...)
	return nil
}

// MarshalJSON gives the text back.
func (p Params) MarshalJSON() ([]byte, error) { return json.RawMessage(p).MarshalJSON() }

func (m *OwnMend) step() chain.Step { return chain.Step{Step: m.Step, With: json.RawMessage(m.With)} }

// Delivery says where files go over there. {asset} is the asset's name,
// {picture} and {motion} those of what is written.
type Delivery struct {
	Folder     string `json:"folder,omitempty" jsonschema:"title=Folder,maxLength=200,description=Of its own; {asset} stands for the asset's name"`
	Model      string `json:"model,omitempty" jsonschema:"title=Model,maxLength=200"`
	Pictures   string `json:"pictures,omitempty" jsonschema:"title=Pictures,maxLength=200,description=Empty: within the model where its format can"`
	Picture    string `json:"picture_format,omitempty" jsonschema:"title=Format of pictures apart,enum=png,enum=jpeg,enum=dds,enum=ktx2,enum=tga"`
	Motions    string `json:"motions,omitempty" jsonschema:"title=Motions,maxLength=200,description=Empty: within the model"`
	SearchFile string `json:"search_file,omitempty" jsonschema:"title=Search path file,maxLength=200"`
	SearchLine string `json:"search_line,omitempty" jsonschema:"title=Line to add,maxLength=400,description={folder} stands for the folder"`
	// Overwrites are folders that the target's updates write anew.
	Overwrites []string `json:"overwrites,omitempty" jsonschema:"title=Its updates write anew,maxItems=100"`
}

// The figures of an asset that own rules may ask for.
var figures = []condition.Word{
	{Name: "triangles"}, {Name: "vertices"}, {Name: "meshes"}, {Name: "parts"}, {Name: "nodes"}, {Name: "materials"},
	{Name: "pictures"}, {Name: "missing"}, {Name: "bones"}, {Name: "helpers"}, {Name: "cameras"}, {Name: "lights"},
	{Name: "colliders"}, {Name: "motions"}, {Name: "morphs"}, {Name: "uv_sets"}, {Name: "colour_sets"},
	{Name: "size"}, {Name: "height"}, {Name: "area"}, {Name: "variants"},
	{Name: "material_names", Is: condition.Texts}, {Name: "bone_names", Is: condition.Texts},
	{Name: "motion_names", Is: condition.Texts}, {Name: "name", Is: condition.Text}, {Name: "root", Is: condition.Text},
}

var schema = sync.OnceValue(func() json.RawMessage {
	r := jsonschema.Reflector{DoNotReference: true, Anonymous: true, RequiredFromJSONSchemaTags: true}
	x := r.Reflect(&Sheet{})
	x.Version = ""
	x.Required = []string{"target", "format"}
	text, err := json.Marshal(x)
	if err != nil {
		panic(fmt.Sprintf("target: %v", err)) // a mistake in this package
	}
	return text
})

// Schema is the JSON Schema of a sheet: the form and the completion of texts.
func Schema() json.RawMessage { return schema() }

// Parse reads a sheet in YAML. What is wrong is told with line and column.
func Parse(doc []byte) (*Sheet, error) {
	s, err := parse(doc)
	if err != nil {
		return nil, fmt.Errorf("target sheet: %w", err)
	}
	return s, nil
}

func parse(doc []byte) (*Sheet, error) {
	n, err := document.Parse(doc)
	if err != nil {
		return nil, err
	}
	if n.Empty() || n.Kind != document.Mapping {
		return nil, fmt.Errorf("it is empty: a sheet has the keys target, its name, and format")
	}
	for _, key := range []string{"target", "format"} {
		if n.Get(key).Empty() {
			return nil, n.Errorf("the key %s is missing", key)
		}
	}
	if err := n.Against(Schema()); err != nil {
		return nil, err
	}
	text, err := n.JSON()
	if err != nil {
		return nil, err
	}
	var s Sheet
	if err := json.Unmarshal(text, &s); err != nil {
		return nil, n.Errorf("%s", strings.TrimPrefix(err.Error(), "json: "))
	}
	if key, err := s.check(); err != nil {
		at := n
		for _, k := range key {
			if x := at.Get(k); x != nil {
				at = x
			}
		}
		return nil, at.Errorf("%v", err)
	}
	return &s, nil
}

// check refuses what a schema cannot; key is where it stands.
func (s *Sheet) check() (key []string, err error) {
	if s.Basis != nil {
		if _, err := s.Basis.Basis(); err != nil {
			return []string{"basis"}, err
		}
	}
	if z := s.Size; z != nil && !(z.Most >= z.Least) {
		return []string{"size"}, fmt.Errorf("least is %g and most %g", z.Least, z.Most)
	}
	if s.Names != nil {
		if _, err := regexp.Compile(s.Names.Pattern); err != nil {
			return []string{"names", "pattern"}, err
		}
	}
	if c := s.Colliders; c != nil {
		for key, r := range map[string]*pick.Rule{"for": c.For, "without": c.Without} {
			if err := r.Validate(); err != nil {
				return []string{"colliders", key}, err
			}
		}
		if c.As == "ending" && c.Ending == "" {
			return []string{"colliders"}, fmt.Errorf("colliders are told by an ending: say which, such as ending: _col")
		}
	}
	if k := s.Skeleton; k != nil {
		if err := k.check(); err != nil {
			return []string{"skeleton", "bones"}, err
		}
	}
	if err := s.checkRules(); err != nil {
		return []string{"rules"}, err
	}
	known := s.ruleNames()
	for name, v := range s.Severity {
		if !slices.Contains(known, name) {
			return []string{"severity"}, fmt.Errorf("%s", document.Unknown("rule", name, known))
		}
		if v != Stops && v != Warns && v != Off {
			return []string{"severity", name}, fmt.Errorf("a rule stops, warns or is off, not %q", v)
		}
	}
	for name := range s.Why {
		if !slices.Contains(known, name) {
			return []string{"why"}, fmt.Errorf("%s", document.Unknown("rule", name, known))
		}
	}
	if d := s.Delivery; d != nil {
		return []string{"delivery"}, d.Check()
	}
	return nil, nil
}

func (k *Skeleton) check() error {
	seen := map[string]bool{}
	for _, b := range k.Bones {
		switch {
		case seen[b.Name]:
			return fmt.Errorf("the bone %s stands twice", b.Name)
		case b.Parent != "" && !seen[b.Parent]:
			return fmt.Errorf("%s hangs on %s, which does not stand before it", b.Name, b.Parent)
		}
		seen[b.Name] = true
	}
	return nil
}

func (s *Sheet) checkRules() error {
	seen := map[string]bool{}
	for i := range s.Rules {
		o := &s.Rules[i]
		if seen[o.Rule] || slices.ContainsFunc(rules, func(r rule) bool { return r.name == o.Rule }) {
			return fmt.Errorf("there are two rules %s", o.Rule)
		}
		seen[o.Rule] = true
		switch {
		case o.If == "" && o.Where.Empty():
			return fmt.Errorf("rule %s: say what the target objects to, as if or as where", o.Rule)
		case o.If != "" && !o.Where.Empty():
			return fmt.Errorf("rule %s: if asks the whole asset, where picks things of it; say one of them", o.Rule)
		case o.If != "":
			if _, err := condition.Compile(o.If, figures); err != nil {
				return fmt.Errorf("rule %s, if: %w", o.Rule, err)
			}
		}
		if err := o.Where.Validate(); err != nil {
			return fmt.Errorf("rule %s: %w", o.Rule, err)
		}
		if o.Mend != nil {
			k, err := step.Get(o.Mend.Step)
			if err == nil {
				err = k.Check(json.RawMessage(o.Mend.With))
			}
			if err != nil {
				return fmt.Errorf("rule %s, mend: %w", o.Rule, err)
			}
		}
	}
	return nil
}

// Check refuses paths that leave the delivery's folder, and marks that stand for
// nothing.
func (d *Delivery) Check() error {
	for _, p := range []struct {
		what, text string
		marks      []string
	}{{"folder", d.Folder, []string{"{asset}"}}, {"model", d.Model, []string{"{asset}"}},
		{"pictures", d.Pictures, []string{"{asset}", "{picture}"}},
		{"motions", d.Motions, []string{"{asset}", "{motion}"}},
		{"search_file", d.SearchFile, nil}, {"search_line", d.SearchLine, []string{"{folder}", "{asset}"}}} {
		rest := p.text
		for _, m := range p.marks {
			rest = strings.ReplaceAll(rest, m, "x")
		}
		if strings.ContainsAny(rest, "{}") {
			return fmt.Errorf("%s: %q has a mark that stands for nothing; there are %s", p.what, p.text,
				strings.Join(p.marks, ", "))
		}
		if p.what != "search_line" && rest != "" && (!fs.ValidPath(rest) || strings.ContainsAny(rest, "\\:")) {
			return fmt.Errorf("%s: %q is no path within a folder: write names with / between them, "+
				"and none that leads upwards", p.what, p.text)
		}
	}
	return nil
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
		out[strings.TrimSuffix(n, path.Ext(n))] = s
	}
	return out, nil
}

// Basis is the sheet's basis; all of it must be stated.
func (b *Basis) Basis() (geom.Basis, error) {
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

// ruleNames are the rules that a sheet may speak of.
func (s *Sheet) ruleNames() (out []string) {
	for _, r := range rules {
		out = append(out, r.name)
	}
	for _, o := range s.Rules {
		out = append(out, o.Rule)
	}
	return out
}
