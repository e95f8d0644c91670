package target

import (
	"slices"
)

// Heard is a line of a receiver's import log.
type Heard struct {
	Code  string `json:"code"`
	Level string `json:"level"` // info, warning, error
	Text  string `json:"text"`
	Thing string `json:"thing,omitempty"`
}

// The rules that the codes of receivers' logs stand for (standin/PROTOCOL.md).
var heardRules = map[string]string{
	"SZ01": "size", "PV01": "ground", "PV02": "centred",
	"GE01": "triangles", "GE02": "normals", "GE03": "UVs", "GE04": "UV sets", "GE05": "colour sets",
	"CM01": "cameras", "LT01": "lights", "EM01": "helpers", "OB01": "nodes",
	"NM01": "names", "NM02": "names unique", "NM03": "name length",
	"SK01": "root bone", "SK02": "skeleton", "SK03": "joints per vertex", "SK04": "weights",
	"SK05": "end bones", "SK06": "bones",
	"PX01": "pictures", "PX02": "picture size", "PX03": "picture sides", "PX04": "picture memory",
	"MT01": "materials twice", "MT02": "materials", "MT03": "materials there",
	"TR01": "transparency", "TR02": "transparency",
	"CO01": "colliders", "CO02": "collider shapes", "CO03": "passages",
	"AN01": "motions", "VR01": "variants", "LC01": "licence",
	"FL01": "places", "FL02": "search path", "FL03": "places", "FL04": "folder",
}

// Outcome is a rule by which something was foretold or happened.
type Outcome struct {
	Rule     string   `json:"rule"`
	Foretold bool     `json:"foretold"`
	Happened bool     `json:"happened"`
	Title    string   `json:"title"`
	Where    string   `json:"where,omitempty"`
	Severity Severity `json:"severity,omitempty"` // as foretold
	Says     []string `json:"says"`               // the receiver's own words
}

// followsFromBasis are the rules that an asset breaks over there for no other
// reason than that its numbers are read in another basis.
var followsFromBasis = map[string]bool{"size": true, "ground": true, "centred": true}

// Compare holds what was foretold against what a receiver said. checks are the
// codes that it may object with: of what it does not look at nothing is said.
func Compare(findings []Finding, checks []string, log []Heard, own []Own) (out []Outcome) {
	looked := map[string]bool{}
	for _, c := range checks {
		looked[heardRules[c]] = true
	}
	ownRule := map[string]bool{}
	for _, o := range own { // receivers tell those that pick by a material, by the rule's name
		if o.Where != nil && len(o.Where.Material) > 0 && slices.Contains(checks, "OW01") {
			looked[o.Rule], ownRule[o.Rule] = true, true
		}
	}
	foretold := map[string]bool{}
	var basis *Finding
	for i, f := range findings {
		foretold[f.Rule] = foretold[f.Rule] || f.Severity != Holds
		if f.Rule == "basis" && f.Severity != Holds {
			basis = &findings[i]
		}
	}
	at := map[string]int{}
	get := func(rule string) *Outcome {
		k, ok := at[rule]
		if !ok {
			k = len(out)
			at[rule] = k
			out = append(out, Outcome{Rule: rule, Says: []string{}})
		}
		return &out[k]
	}
	for _, f := range findings {
		if !looked[f.Rule] {
			continue
		}
		o := get(f.Rule)
		if o.Title == "" || f.Severity != Holds && !o.Foretold {
			o.Title, o.Where, o.Severity = f.Title, f.Where, f.Severity
		}
		o.Foretold = o.Foretold || f.Severity != Holds
	}
	for _, l := range log {
		if l.Level == "info" {
			continue
		}
		rule := heardRules[l.Code]
		if l.Code == "OW01" && ownRule[l.Text] {
			rule = l.Text
		}
		if basis != nil && followsFromBasis[rule] && !foretold[rule] {
			rule = basis.Rule // what was said is that it would lie on its side, or be of another size
			o := get(rule)
			o.Title, o.Where, o.Severity, o.Foretold = basis.Title, basis.Where, basis.Severity, true
		}
		if rule == "" {
			rule = l.Code
		}
		o := get(rule)
		o.Happened = true
		o.Says = append(o.Says, l.Code+" "+l.Text)
	}
	return out
}
