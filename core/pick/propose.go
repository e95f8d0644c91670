package pick

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"excavate/core/scene"
)

// Things are what somebody chose by hand, by the scene's numbers.
type Things struct {
	Nodes     []int    // whole, with all that hangs below them
	Parts     [][2]int // a mesh and one of its parts, wherever it is shown
	Materials []int    // all parts that have them
	Pictures  []int    // all parts whose material has them
}

// Proposal is a rule that takes at least what was chosen.
type Proposal struct {
	Rule  Rule   `json:"where"`
	Words string `json:"words"`
	Counts
	// Else is what it takes besides.
	Else      Counts   `json:"else"`
	ElseFirst []string `json:"elseFirst"` // names of the first nodes of it
}

const (
	mostProposals = 6
	mostNames     = 200 // of a list of names
	mostListed    = 4   // of a list that is still a rule
	fewElse       = 3   // names of what else is taken
)

// Propose lists rules that say what was chosen: those that take exactly that,
// the shortest first, then those that take least besides. A list of names
// stands last.
func Propose(s *scene.Scene, t Things) ([]Proposal, error) {
	p := &proposer{s: s, wanted: wanted(s, t)}
	if p.wanted == nil {
		return []Proposal{}, nil
	}
	p.find()
	var exact, wide []Proposal
	seen := map[string]bool{}
	for _, r := range p.rules {
		text, err := json.Marshal(r)
		if err != nil {
			return nil, err
		}
		if seen[string(text)] {
			continue
		}
		seen[string(text)] = true
		c, err := Of(s, &r)
		if err != nil {
			return nil, err
		}
		more, ok := p.besides(c)
		if !ok {
			continue
		}
		x := Proposal{Rule: r, Words: r.String(), Counts: c.Counts(), Else: more.counts, ElseFirst: more.first}
		if more.counts == (Counts{}) {
			exact = append(exact, x)
		} else {
			wide = append(wide, x)
		}
	}
	exact = slices.DeleteFunc(exact, func(x Proposal) bool {
		// One condition more than another rule needs says nothing.
		return slices.ContainsFunc(exact, func(y Proposal) bool { return y.Rule.within(&x.Rule) })
	})
	slices.SortStableFunc(exact, func(a, b Proposal) int { return a.Rule.weight() - b.Rule.weight() })
	slices.SortStableFunc(wide, func(a, b Proposal) int { return a.Else.Parts + a.Else.Nodes - b.Else.Parts - b.Else.Nodes })
	// The list of names is the last of the exact ones, and stays one of them.
	names, listed := p.names()
	exact = slices.DeleteFunc(exact, func(x Proposal) bool { return listed && x.Words == names.String() })
	out := exact[:min(len(exact), mostProposals-1)]
	out = append(out, wide[:min(len(wide), max(0, mostProposals-1-len(out)))]...)
	if listed {
		if c, err := Of(s, &names); err == nil {
			if more, ok := p.besides(c); ok {
				out = append(out, Proposal{Rule: names, Words: names.String(), Counts: c.Counts(), Else: more.counts, ElseFirst: more.first})
			}
		}
	}
	return out, nil
}

// target is what is to be taken: parts as nodes show them, and nodes without.
type target struct {
	first []int // of each node: its first part in parts
	parts []bool
	bare  []bool
}

func wanted(s *scene.Scene, t Things) *target {
	w := &target{first: make([]int, len(s.Nodes)+1), bare: make([]bool, len(s.Nodes))}
	for i := range s.Nodes {
		w.first[i+1] = w.first[i]
		if m := s.Nodes[i].Mesh; m >= 0 {
			w.first[i+1] += len(s.Meshes[m].Parts)
		}
	}
	w.parts = make([]bool, w.first[len(s.Nodes)])
	some := false
	in := make([]bool, len(s.Nodes))
	for _, n := range t.Nodes {
		if n >= 0 && n < len(s.Nodes) {
			in[n] = true
		}
	}
	for n := range s.Nodes { // parents stand before their children
		if up := s.Nodes[n].Parent; up >= 0 && in[up] {
			in[n] = true
		}
		if !in[n] {
			continue
		}
		some = true
		if w.first[n] == w.first[n+1] {
			w.bare[n] = true
		}
		for k := w.first[n]; k < w.first[n+1]; k++ {
			w.parts[k] = true
		}
	}
	materials := map[int]bool{}
	for _, m := range t.Materials {
		materials[m] = true
	}
	for i := range s.Materials {
		for _, x := range s.Materials[i].Textures {
			if slices.Contains(t.Pictures, x.Picture) {
				materials[i] = true
			}
		}
	}
	parts := map[[2]int]bool{}
	for _, p := range t.Parts {
		parts[p] = true
	}
	for i := range s.Nodes {
		m := s.Nodes[i].Mesh
		for k := w.first[i]; k < w.first[i+1]; k++ {
			j := k - w.first[i]
			if parts[[2]int{m, j}] || materials[s.Meshes[m].Parts[j].Material] {
				w.parts[k], some = true, true
			}
		}
	}
	if !some {
		return nil
	}
	return w
}

type proposer struct {
	s      *scene.Scene
	wanted *target
	rules  []Rule
	nodes  []int // with something that is wanted
}

type besides struct {
	counts Counts
	first  []string
}

// besides is what a rule takes more than is wanted; ok is false if it takes
// less.
func (p *proposer) besides(c *Chosen) (more besides, ok bool) {
	more.first = []string{}
	w := p.wanted
	materials := map[int]bool{}
	for i := range p.s.Nodes {
		extra := false
		if w.first[i] == w.first[i+1] {
			if w.bare[i] && !c.Nodes[i] {
				return more, false
			}
			extra = c.Nodes[i] && !w.bare[i]
		}
		for k := w.first[i]; k < w.first[i+1]; k++ {
			took := c.parts[k]
			if w.parts[k] && !took {
				return more, false
			}
			if took && !w.parts[k] {
				extra = true
				more.counts.Parts++
				part := &p.s.Meshes[p.s.Nodes[i].Mesh].Parts[k-w.first[i]]
				more.counts.Triangles += len(part.Triangles) / 3
				if part.Material >= 0 {
					materials[part.Material] = true
				}
			}
		}
		if extra {
			more.counts.Nodes++
			if len(more.first) < fewElse {
				more.first = append(more.first, p.s.Nodes[i].Name)
			}
		}
	}
	more.counts.Materials = len(materials)
	return more, true
}

// find gathers conditions that all that is wanted fulfils, and rules of one or
// two of them.
func (p *proposer) find() {
	var terms []Terms
	names, materials, pictures := map[string]bool{}, map[string]bool{}, map[string]bool{}
	mats := map[int]bool{}
	allParts := true
	for i := range p.s.Nodes {
		w := p.wanted
		in := w.bare[i]
		for k := w.first[i]; k < w.first[i+1]; k++ {
			if !w.parts[k] {
				continue
			}
			in = true
			m := p.s.Meshes[p.s.Nodes[i].Mesh].Parts[k-w.first[i]].Material
			mats[m] = true
		}
		if in {
			p.nodes = append(p.nodes, i)
			names[p.s.Nodes[i].Name] = true
			allParts = allParts && w.first[i] < w.first[i+1]
		}
	}
	for m := range mats {
		if m < 0 {
			allParts = false
			continue
		}
		materials[p.s.Materials[m].Name] = true
		if t := p.s.Materials[m].Texture(scene.RoleColour); t != nil {
			pictures[p.s.Pictures[t.Picture].Name] = true
		} else {
			pictures[""] = true
		}
	}
	for _, g := range globs(names) {
		terms = append(terms, Terms{Node: g})
	}
	for _, g := range p.above() {
		terms = append(terms, Terms{Under: Globs{g}})
	}
	if allParts {
		for _, g := range globs(materials) {
			terms = append(terms, Terms{Material: g})
		}
		if !pictures[""] {
			for _, g := range globs(pictures) {
				terms = append(terms, Terms{Picture: g})
			}
		}
	}
	if k := p.kind(); k != "" {
		terms = append(terms, Terms{Kind: Kinds{k}})
	}
	for _, x := range p.props() {
		terms = append(terms, Terms{Props: map[string]Globs{x.Key: {Literal(x.Value)}}})
	}
	for i := range terms {
		p.rules = append(p.rules, Rule{Terms: terms[i]})
		for j := range i {
			if both, ok := together(terms[i], terms[j]); ok {
				p.rules = append(p.rules, Rule{Terms: both})
			}
		}
	}
}

// together is two conditions of different kinds at once.
func together(a, b Terms) (Terms, bool) {
	if len(a.Node) > 0 && len(b.Node) > 0 || len(a.Under) > 0 && len(b.Under) > 0 || len(a.Material) > 0 && len(b.Material) > 0 ||
		len(a.Picture) > 0 && len(b.Picture) > 0 || len(a.Kind) > 0 && len(b.Kind) > 0 {
		return a, false
	}
	pick := func(x, y Globs) Globs {
		if len(x) > 0 {
			return x
		}
		return y
	}
	out := Terms{Node: pick(a.Node, b.Node), Under: pick(a.Under, b.Under), Material: pick(a.Material, b.Material), Picture: pick(a.Picture, b.Picture), Kind: a.Kind}
	if len(out.Kind) == 0 {
		out.Kind = b.Kind
	}
	if len(a.Props)+len(b.Props) > 0 {
		out.Props = maps.Clone(a.Props)
		if out.Props == nil {
			out.Props = map[string]Globs{}
		}
		maps.Copy(out.Props, b.Props)
	}
	return out, true
}

// globs are patterns that fit all of some names: what they begin with, what
// they end in, and what they begin with by groups; a few names as they are.
func globs(names map[string]bool) (out []Globs) {
	list := slices.Sorted(maps.Keys(names))
	if len(list) == 0 || slices.Contains(list, "") {
		return nil
	}
	if len(list) <= mostListed {
		all := Globs{}
		for _, n := range list {
			all = append(all, Literal(n))
		}
		out = append(out, all)
	}
	if len(list) == 1 {
		if stem := strings.TrimRight(list[0], "0123456789"); stem != list[0] && len(stem) > 1 {
			out = append(out, Globs{Literal(stem) + "*"})
		}
		return out
	}
	begin, end := list[0], list[0]
	for _, n := range list {
		for !strings.HasPrefix(n, begin) {
			begin = begin[:len(begin)-1]
		}
		for !strings.HasSuffix(n, end) {
			end = end[1:]
		}
	}
	begin = strings.TrimRight(strings.ToValidUTF8(begin, ""), "0123456789")
	end = strings.ToValidUTF8(end, "")
	if len(begin) > 1 {
		out = append(out, Globs{Literal(begin) + "*"})
	}
	if len(strings.Trim(end, "0123456789")) > 1 {
		out = append(out, Globs{"*" + Literal(end)})
		if len(begin) > 1 {
			out = append(out, Globs{Literal(begin) + "*" + Literal(end)})
		}
	}
	groups := Globs{}
	for _, n := range list {
		g := Literal(strings.TrimRight(n, "0123456789"))
		if g != Literal(n) {
			g += "*"
		}
		if !slices.Contains(groups, g) {
			groups = append(groups, g)
		}
	}
	if len(groups) > 1 && len(groups) <= mostListed && len(groups) < len(list) {
		out = append(out, groups)
	}
	return out
}

// above are the names of the nodes above all that is wanted, the nearest first,
// as globs.
func (p *proposer) above() (out []string) {
	count := make([]int, len(p.s.Nodes))
	for _, i := range p.nodes {
		for k := i; k >= 0; k = p.s.Nodes[k].Parent {
			count[k]++
		}
	}
	for i := len(count) - 1; i >= 0 && len(out) < 3; i-- {
		if count[i] == len(p.nodes) && (len(p.nodes) > 1 || i != p.nodes[0]) && p.s.Nodes[i].Name != "" {
			out = append(out, Literal(p.s.Nodes[i].Name))
		}
	}
	return out
}

// kind is what all that is wanted is.
func (p *proposer) kind() Kind {
	for _, k := range kinds {
		x := &taker{s: p.s, bones: p.s.Bones(), helpers: p.s.Helpers()}
		all := true
		for _, i := range p.nodes {
			all = all && x.isKind(Kinds{k}, i)
		}
		if all {
			return k
		}
	}
	return ""
}

// props are what the source says alike of all that is wanted.
func (p *proposer) props() (out []scene.Prop) {
	if len(p.nodes) == 0 {
		return nil
	}
	for _, x := range p.s.Nodes[p.nodes[0]].Props {
		alike := x.Value != ""
		for _, i := range p.nodes {
			v, ok := p.s.Nodes[i].Prop(x.Key)
			alike = alike && ok && v == x.Value
		}
		if alike && len(out) < mostListed {
			out = append(out, x)
		}
	}
	return out
}

// names is the rule that lists what is wanted by name; ok is false where that
// would be too long.
func (p *proposer) names() (r Rule, ok bool) {
	materials := map[string]bool{}
	whole := true
	for i := range p.s.Nodes {
		for k := p.wanted.first[i]; k < p.wanted.first[i+1]; k++ {
			if m := p.s.Meshes[p.s.Nodes[i].Mesh].Parts[k-p.wanted.first[i]].Material; p.wanted.parts[k] && m >= 0 {
				materials[Literal(p.s.Materials[m].Name)] = true
			}
		}
	}
	for _, i := range p.nodes {
		if name := Literal(p.s.Nodes[i].Name); name == "" {
			return r, false
		} else if !slices.Contains(r.Node, name) {
			r.Node = append(r.Node, name)
		}
		for k := p.wanted.first[i]; k < p.wanted.first[i+1]; k++ {
			whole = whole && p.wanted.parts[k]
		}
	}
	if !whole {
		r.Material = slices.Sorted(maps.Keys(materials))
	}
	return r, len(r.Node)+len(r.Material) <= mostNames
}

// within tells whether a rule has only conditions that another one has too, and
// fewer.
func (r *Rule) within(o *Rule) bool {
	n, m := 0, 0
	for _, pair := range [][2]Globs{{r.Node, o.Node}, {r.Under, o.Under}, {r.Material, o.Material}, {r.Picture, o.Picture}} {
		if len(pair[0]) > 0 && !slices.Equal(pair[0], pair[1]) {
			return false
		}
		n, m = n+min(1, len(pair[0])), m+min(1, len(pair[1]))
	}
	if len(r.Kind) > 0 && !slices.Equal(r.Kind, o.Kind) {
		return false
	}
	for k, v := range r.Props {
		if !slices.Equal(v, o.Props[k]) {
			return false
		}
	}
	n, m = n+min(1, len(r.Kind))+len(r.Props), m+min(1, len(o.Kind))+len(o.Props)
	return n < m
}

// weight is how much there is to read: conditions first, then letters.
func (r *Rule) weight() int {
	n := 0
	for _, list := range []Globs{r.Node, r.Under, r.Material, r.Picture} {
		for i, g := range list {
			n += len(g) + 12
			if i == 0 {
				n += 40
			}
		}
	}
	for k, list := range r.Props {
		n += len(k) + 40
		for _, g := range list {
			n += len(g)
		}
	}
	return n + 52*len(r.Kind)
}

// String says a rule in words, its conditions in the order of documents.
func (r *Rule) String() string {
	if r.Empty() {
		return "everything"
	}
	words := r.Terms.words()
	if r.Not != nil && !r.Not.empty() {
		words = append(words, "but not "+strings.Join(r.Not.words(), ", "))
	}
	return strings.Join(words, ", ")
}

func (t *Terms) words() (out []string) {
	say := func(what string, list Globs) {
		if len(list) > mostListed {
			out = append(out, what+" "+strings.Join(list[:mostListed], " or ")+" or others")
		} else if len(list) > 0 {
			out = append(out, what+" "+strings.Join(list, " or "))
		}
	}
	say("nodes named", t.Node)
	say("at or under", t.Under)
	say("with material", t.Material)
	say("with picture", t.Picture)
	var kind Globs
	for _, k := range t.Kind {
		kind = append(kind, string(k))
	}
	say("of the kind", kind)
	for _, k := range slices.Sorted(maps.Keys(t.Props)) {
		say("that say "+k, t.Props[k])
	}
	if t.Loose != nil {
		out = append(out, "small loose pieces")
	}
	if t.If != "" {
		out = append(out, "if "+t.If)
	}
	return out
}
