// Package naming reads the conventions by which games name their files: a
// prefix for a kind of thing, a suffix for what a picture is for, a level of
// detail or a state. It proposes affixes by how often they occur, keeps what
// the porter says they mean, and gathers entries that are one thing into sets.
package naming

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/goccy/go-yaml"

	"excavate/core/document"
)

// Where an affix stands in a name.
const (
	Prefix = "prefix"
	Suffix = "suffix"
)

// What an affix may tell.
const (
	Kind  = "kind"  // the kind of thing: a word of the porter's
	Role  = "role"  // what a picture is for: one of Roles
	LOD   = "lod"   // level of detail: a number, 0 is the finest
	State = "state" // a state or variant, such as damaged
)

// Means lists what an affix may tell.
var Means = []string{Kind, Role, LOD, State}

// Roles of a picture.
var Roles = []string{"colour", "normal", "specular", "gloss", "roughness", "opacity", "emission", "occlusion"}

// Rule gives an affix a meaning. An affix is a prefix or suffix of the last
// segment of a path, without its ending; capitals do not count.
type Rule struct {
	Where string `yaml:"where" json:"where"`
	Affix string `yaml:"affix" json:"affix"`
	Means string `yaml:"means" json:"means"`
	Value string `yaml:"value" json:"value"`
}

// plainGlob takes the meaning from what patterns give one.
var plainGlob = strings.NewReplacer("[", "[[]", "{", "[{]", "}", "[}]")

// Glob is the rule as a pattern of names.
func (r Rule) Glob() string {
	affix := plainGlob.Replace(r.Affix)
	if r.Where == Prefix {
		return affix + "*"
	}
	return "*" + affix + ".*"
}

// Rules are a project's, in no order.
type Rules []Rule

// Check tells what is wrong with the rules.
func (rs Rules) Check() error {
	seen := map[string]bool{}
	for i, r := range rs {
		at := fmt.Sprintf("rule %d (%q)", i+1, r.Affix)
		switch {
		case r.Where != Prefix && r.Where != Suffix:
			return fmt.Errorf("%s: where is prefix or suffix, not %q", at, r.Where)
		case r.Affix == "" || len(r.Affix) > 64 || strings.ContainsAny(r.Affix, "/\\*?"):
			return fmt.Errorf("%s: an affix has 1 to 64 letters, without / and *", at)
		case !slices.Contains(Means, r.Means):
			return fmt.Errorf("%s: it means one of %s, not %q", at, strings.Join(Means, ", "), r.Means)
		case r.Means == Role && !slices.Contains(Roles, r.Value):
			return fmt.Errorf("%s: a picture's role is one of %s, not %q", at, strings.Join(Roles, ", "), r.Value)
		case r.Means == LOD && !isNumber(r.Value):
			return fmt.Errorf("%s: a level of detail is a number from 0 to 99, not %q", at, r.Value)
		case r.Value == "" || len(r.Value) > 64:
			return fmt.Errorf("%s: a meaning has 1 to 64 letters", at)
		case seen[r.Where+strings.ToLower(r.Affix)]:
			return fmt.Errorf("%s: there are two rules for this %s", at, r.Where)
		}
		seen[r.Where+strings.ToLower(r.Affix)] = true
	}
	return nil
}

func isNumber(s string) bool {
	return s != "" && len(s) <= 2 && strings.Trim(s, "0123456789") == ""
}

// file is the rules as a document.
type file struct {
	Rules Rules `yaml:"name rules"`
}

// YAML is the rules as a document that Parse reads.
func (rs Rules) YAML() ([]byte, error) { return yaml.Marshal(file{rs}) }

// Parse reads such a document.
func Parse(b []byte) (Rules, error) {
	var d file
	if err := document.Read(b, &d); err != nil {
		return nil, fmt.Errorf("the name rules cannot be read: %w", err)
	}
	return d.Rules, d.Rules.Check()
}

// Name is a name taken apart by the rules.
type Name struct {
	Key    string            // what is left, in lower case: the name of the set
	Values map[string]string // by what they tell; nil if no rule fits
}

// Read takes the last segment of a path apart. Of several affixes that fit
// the longest counts, one after another as long as any fits.
func (rs Rules) Read(p string) Name {
	base := strings.ToLower(path.Base(p))
	n := Name{Key: strings.TrimSuffix(base, path.Ext(base))}
	for range 4 { // colour of the damaged state of the second level of detail …
		best := -1
		for i, r := range rs {
			a := strings.ToLower(r.Affix)
			if len(a) >= len(n.Key) || best >= 0 && len(a) <= len(rs[best].Affix) || n.Values[r.Means] != "" {
				continue
			}
			if r.Where == Prefix && strings.HasPrefix(n.Key, a) || r.Where == Suffix && strings.HasSuffix(n.Key, a) {
				best = i
			}
		}
		if best < 0 {
			break
		}
		r := rs[best]
		if r.Where == Prefix {
			n.Key = n.Key[len(r.Affix):]
		} else {
			n.Key = n.Key[:len(n.Key)-len(r.Affix)]
		}
		if n.Values == nil {
			n.Values = map[string]string{}
		}
		n.Values[r.Means] = r.Value
	}
	n.Key = strings.Trim(n.Key, "_-. ")
	return n
}

// Proposal is an affix that occurs often.
type Proposal struct {
	Where    string
	Affix    string
	Count    int    // names that have it
	Example  string // a path
	Means    string // a guess; empty if there is none
	Value    string
	Evidence string // what the guess rests on
}

const (
	mostProposals  = 40
	mostCandidates = 200_000 // different affixes that are counted
)

// Propose finds affixes that stand before or after a separator (_ or -) in at
// least three names and, taken off, leave at least two different names; or
// leave a name that occurs without them too. kinds tells what is known of
// each path's kind, in step with paths; it may be empty.
func Propose(paths func(yield func(path, kind string) bool)) []Proposal {
	type tally struct {
		count, pictures int
		example, first  string
		differ          bool
	}
	all := map[[2]string]*tally{}
	note := func(where, affix, rest, p, kind string) {
		if len(affix) > 24 || rest == "" {
			return
		}
		k := [2]string{where, affix}
		t := all[k]
		if t == nil {
			if len(all) >= mostCandidates {
				return
			}
			t = &tally{example: p, first: strings.Clone(rest)}
			all[[2]string{where, strings.Clone(affix)}] = t
		}
		t.count++
		if rest != t.first {
			t.differ = true
		}
		if kind == "picture" {
			t.pictures++
		}
	}
	paths(func(p, kind string) bool {
		base := strings.ToLower(path.Base(p))
		base = strings.TrimSuffix(base, path.Ext(base))
		if i := strings.IndexAny(base, "_-"); i > 0 {
			note(Prefix, base[:i+1], base[i+1:], p, kind)
		}
		if i := strings.LastIndexAny(base, "_-"); i > 0 && i < len(base)-1 {
			note(Suffix, base[i:], base[:i], p, kind)
		}
		return true
	})
	var out []Proposal
	for k, t := range all {
		if t.count < 3 || !t.differ {
			continue
		}
		letters := strings.Trim(k[1], "_-0123456789")
		pr := Proposal{Where: k[0], Affix: k[1], Count: t.count, Example: t.example}
		pr.Means, pr.Value, pr.Evidence = guess(k[0], k[1], t.pictures, t.count)
		if letters == "" && pr.Means == "" { // a running number
			continue
		}
		out = append(out, pr)
	}
	slices.SortFunc(out, func(a, b Proposal) int {
		return cmp.Or(cmp.Compare(b.Count, a.Count), cmp.Compare(a.Affix, b.Affix))
	})
	// Those with a guess are worth a place even when others are more frequent.
	sort.SliceStable(out, func(i, j int) bool { return out[i].Means != "" && out[j].Means == "" })
	return out[:min(len(out), mostProposals)]
}

var roleWords = map[string]string{
	"c": "colour", "col": "colour", "color": "colour", "colour": "colour", "d": "colour", "diff": "colour", "diffuse": "colour", "albedo": "colour", "basecolor": "colour", "alb": "colour",
	"n": "normal", "nrm": "normal", "norm": "normal", "normal": "normal", "nm": "normal", "s": "specular", "spec": "specular", "specular": "specular",
	"g": "gloss", "gloss": "gloss", "glossiness": "gloss", "r": "roughness", "rough": "roughness", "roughness": "roughness",
	"o": "opacity", "op": "opacity", "opacity": "opacity", "alpha": "opacity", "mask": "opacity", "e": "emission", "em": "emission", "emit": "emission", "emissive": "emission", "glow": "emission",
	"ao": "occlusion", "occ": "occlusion", "occlusion": "occlusion",
}

var stateWords = []string{"wreck", "wrecked", "damaged", "damage", "dmg", "broken", "destroyed", "burnt", "burned", "dead", "open", "closed", "wet", "snow", "night", "old", "new", "unfinished", "ruin", "ruined"}

// StateOf is the state that a name tells by its last word, such as damaged in
// "house_damaged"; empty if it tells none.
func StateOf(name string) string {
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return !(r >= 'a' && r <= 'z') })
	if len(words) > 1 && slices.Contains(stateWords, words[len(words)-1]) {
		return words[len(words)-1]
	}
	return ""
}

// guess says what an affix probably means.
func guess(where, affix string, pictures, count int) (means, value, evidence string) {
	w := strings.Trim(affix, "_-")
	if where == Suffix && pictures*10 >= count*8 {
		if r := roleWords[w]; r != "" {
			return Role, r, fmt.Sprintf("%d of %d are pictures", pictures, count)
		}
	}
	digits := strings.TrimLeft(w, "abcdefghijklmnopqrstuvwxyz")
	letters := strings.TrimSuffix(w, digits)
	if where == Suffix && isNumber(digits) && (letters == "lod" || letters == "l") {
		return LOD, strings.TrimLeft(digits[:len(digits)-1], "0") + digits[len(digits)-1:], "a level and a number"
	}
	if where == Suffix && w == "far" {
		return LOD, "1", "the word"
	}
	if slices.Contains(stateWords, w) {
		return State, w, "the word"
	}
	return "", "", ""
}
