package pick

import (
	"fmt"
	"math"
	"path"
	"strings"

	"excavate/core/condition"
	"excavate/core/geom"
	"excavate/core/piece"
	"excavate/core/scene"
)

// Chosen is what a rule takes of a scene.
type Chosen struct {
	Nodes     []bool // taken themselves, or with one of their parts
	Materials []bool // of what is taken
	Pictures  []bool // of those materials

	scene  *scene.Scene
	first  []int           // of each node: its first part in parts
	parts  []bool          // as nodes show them
	unseen [][]bool        // parts of meshes that no node shows, by mesh
	pieces map[part][]bool // of rules with loose: the triangles that are taken
	rule   *Rule
}

// part is one part as one node shows it.
type part struct{ node, part int }

// Of evaluates a rule; none takes everything.
func Of(s *scene.Scene, r *Rule) (*Chosen, error) {
	if r == nil {
		r = &Rule{}
	}
	x, err := newTaker(s, r)
	if err != nil {
		return nil, err
	}
	c := &Chosen{Nodes: make([]bool, len(s.Nodes)), Materials: make([]bool, len(s.Materials)), Pictures: make([]bool, len(s.Pictures)),
		scene: s, first: make([]int, len(s.Nodes)+1), rule: r}
	if r.Loose != nil || r.Not != nil && r.Not.Loose != nil {
		c.pieces = map[part][]bool{}
	}
	for i := range s.Nodes {
		c.first[i] = len(c.parts)
		parts := x.parts(i)
		for j := range parts {
			ok, triangles, err := x.takes(i, j)
			if err != nil {
				return nil, err
			}
			c.parts = append(c.parts, ok)
			if ok && triangles != nil {
				c.pieces[part{i, j}] = triangles
			}
			c.Nodes[i] = c.Nodes[i] || ok
			if m := parts[j].Material; ok && m >= 0 {
				c.Materials[m] = true
			}
		}
		if len(parts) == 0 {
			ok, _, err := x.takes(i, -1)
			if err != nil {
				return nil, err
			}
			c.Nodes[i] = ok
		}
	}
	c.first[len(s.Nodes)] = len(c.parts)
	c.takeUnused(x)
	for i := range s.Materials {
		if !c.Materials[i] {
			continue
		}
		for _, t := range s.Materials[i].Textures {
			if x.pictureFits(t.Picture) {
				c.Pictures[t.Picture] = true
			}
		}
	}
	return c, nil
}

// takeUnused adds what no node shows, where the rule is not about nodes.
func (c *Chosen) takeUnused(x *taker) {
	c.unseen = make([][]bool, len(c.scene.Meshes))
	r := x.rule
	if r.ofNodes() || r.Loose != nil {
		return
	}
	takes := func(material int) bool {
		return x.surface(&r.Terms, material) && (r.Not == nil || r.Not.ofNodes() || r.Not.empty() || !x.surface(r.Not, material))
	}
	shown := make([]bool, len(c.scene.Meshes))
	used := make([]bool, len(c.scene.Materials))
	for i := range c.scene.Nodes {
		if m := c.scene.Nodes[i].Mesh; m >= 0 {
			shown[m] = true
			for j := range c.scene.Meshes[m].Parts {
				if k := c.scene.Meshes[m].Parts[j].Material; k >= 0 {
					used[k] = true
				}
			}
		}
	}
	for m := range shown {
		if !shown[m] {
			for j := range c.scene.Meshes[m].Parts {
				c.unseen[m] = append(c.unseen[m], takes(c.scene.Meshes[m].Parts[j].Material))
			}
		}
	}
	for m := range used {
		if !used[m] && takes(m) {
			c.Materials[m] = true
		}
	}
	if len(r.Material) == 0 {
		pictured := make([]bool, len(c.scene.Pictures))
		for i := range c.scene.Materials {
			for _, t := range c.scene.Materials[i].Textures {
				pictured[t.Picture] = true
			}
		}
		for p := range pictured {
			if !pictured[p] && x.pictureFits(p) {
				c.Pictures[p] = true
			}
		}
	}
}

// Part tells whether a part of a node's mesh is taken, at least one of its
// pieces.
func (c *Chosen) Part(node, part int) bool { return c.parts[c.first[node]+part] }

// Parts tells for each part of a node's mesh whether it is taken.
func (c *Chosen) Parts(node int) []bool { return c.parts[c.first[node]:c.first[node+1]] }

// Unseen tells the same for a mesh that no node shows; nil is none.
func (c *Chosen) Unseen(mesh int) []bool { return c.unseen[mesh] }

// Triangles tells which triangles of a part that is taken are; nil is all.
func (c *Chosen) Triangles(node, p int) []bool { return c.pieces[part{node, p}] }

// ByPiece tells whether the rule takes loose pieces, not whole parts.
func (c *Chosen) ByPiece() bool { return c.pieces != nil }

// Counts are how much a rule takes.
type Counts struct {
	Nodes     int `json:"nodes"`
	Parts     int `json:"parts"` // as nodes show them
	Triangles int `json:"triangles"`
	Materials int `json:"materials"`
	Pictures  int `json:"pictures"`
}

// Counts counts what is taken.
func (c *Chosen) Counts() Counts {
	n := Counts{Materials: count(c.Materials), Pictures: count(c.Pictures), Nodes: count(c.Nodes), Parts: count(c.parts)}
	for i := range c.scene.Nodes {
		for j, ok := range c.Parts(i) {
			if t := c.Triangles(i, j); t != nil {
				n.Triangles += count(t)
			} else if ok {
				n.Triangles += len(c.scene.Meshes[c.scene.Nodes[i].Mesh].Parts[j].Triangles) / 3
			}
		}
	}
	return n
}

func count(list []bool) (n int) {
	for _, ok := range list {
		if ok {
			n++
		}
	}
	return n
}

// None tells whether nothing at all is taken.
func (c *Chosen) None() bool {
	n := c.Counts()
	return n.Nodes+n.Materials+n.Pictures == 0
}

// taker evaluates a rule on one scene. What a condition needs to know of the
// scene is computed when one asks for it.
type taker struct {
	s        *scene.Scene
	rule     *Rule
	bones    []bool
	helpers  []bool
	world    []geom.Mat4
	paths    []string
	moves    []bool
	children []int
	ifs      map[*Terms]*condition.Condition
	unders   map[*Terms][]bool
}

func newTaker(s *scene.Scene, r *Rule) (*taker, error) {
	x := &taker{s: s, rule: r, bones: s.Bones(), helpers: s.Helpers(), ifs: map[*Terms]*condition.Condition{},
		unders: map[*Terms][]bool{}}
	for _, t := range []*Terms{&r.Terms, r.Not} {
		if t == nil {
			continue
		}
		if t.Loose != nil || t.If != "" {
			x.world = s.World()
		}
		if t.If != "" {
			c, err := condition.Compile(t.If, words)
			if err != nil {
				return nil, fmt.Errorf("where, if: %w", err)
			}
			x.ifs[t] = c
		}
	}
	if len(x.ifs) > 0 {
		x.know()
	}
	return x, nil
}

// know computes what expressions may ask of nodes.
func (x *taker) know() {
	n := len(x.s.Nodes)
	x.paths, x.moves, x.children = make([]string, n), make([]bool, n), make([]int, n)
	for i := range x.s.Nodes {
		x.paths[i] = x.s.Nodes[i].Name
		if p := x.s.Nodes[i].Parent; p >= 0 {
			x.paths[i] = path.Join(x.paths[p], x.s.Nodes[i].Name)
			x.children[p]++
		}
	}
	for i := range x.s.Motions {
		for _, c := range x.s.Motions[i].Channels {
			x.moves[c.Node] = true
		}
	}
}

func (x *taker) parts(node int) []scene.Part {
	if m := x.s.Nodes[node].Mesh; m >= 0 {
		return x.s.Meshes[m].Parts
	}
	return nil
}

// takes tells whether the rule takes a part of a node, or a node without parts
// (-1), and which triangles if not all of them.
func (x *taker) takes(node, part int) (bool, []bool, error) {
	yes, triangles, err := x.hold(&x.rule.Terms, node, part)
	if err != nil || !yes || x.rule.Not == nil || x.rule.Not.empty() {
		return yes, triangles, err
	}
	no, but, err := x.hold(x.rule.Not, node, part)
	switch {
	case err != nil:
		return false, nil, err
	case !no:
		return true, triangles, nil
	case but == nil:
		return false, nil, nil
	}
	left := 0
	out := make([]bool, len(but))
	for i := range out {
		if out[i] = (triangles == nil || triangles[i]) && !but[i]; out[i] {
			left++
		}
	}
	return left > 0, out, nil
}

// hold tells whether all of the terms hold.
func (x *taker) hold(t *Terms, node, part int) (bool, []bool, error) {
	n := &x.s.Nodes[node]
	if len(t.Node) > 0 && !t.Node.fits(n.Name) || len(t.Under) > 0 && !x.under(t, node) || len(t.Kind) > 0 && !x.isKind(t.Kind, node) || !propsFit(t.Props, n) {
		return false, nil, nil
	}
	material := scene.None
	if part >= 0 {
		material = x.parts(node)[part].Material
	} else if len(t.Material)+len(t.Picture) > 0 || t.Loose != nil {
		return false, nil, nil
	}
	if !x.surface(t, material) {
		return false, nil, nil
	}
	if c := x.ifs[t]; c != nil {
		ok, err := c.Holds(x.values(node, part, c.Asks("size") || c.Asks("height")))
		if err != nil {
			return false, nil, fmt.Errorf("where, if: %w", err)
		}
		if !ok {
			return false, nil, nil
		}
	}
	if t.Loose != nil {
		small := x.smaller(t.Loose.Smaller, node, part)
		return count(small) > 0, small, nil
	}
	return true, nil, nil
}

// under tells whether a node or one above it fits the terms. Parents stand
// before their children: one pass tells it for all.
func (x *taker) under(t *Terms, node int) bool {
	list := x.unders[t]
	if list == nil {
		list = make([]bool, len(x.s.Nodes))
		for i := range x.s.Nodes {
			p := x.s.Nodes[i].Parent
			list[i] = p >= 0 && list[p] || t.Under.fits(x.s.Nodes[i].Name)
		}
		x.unders[t] = list
	}
	return list[node]
}

func (x *taker) isKind(list Kinds, node int) bool {
	n := &x.s.Nodes[node]
	for _, k := range list {
		if k == Mesh && n.Mesh >= 0 || k == Camera && n.Camera >= 0 || k == Light && n.Light >= 0 || k == Bone && x.bones[node] || k == Helper && x.helpers[node] || k == Collider && n.Collider != nil {
			return true
		}
	}
	return false
}

func propsFit(props map[string]Globs, n *scene.Node) bool {
	for k, g := range props {
		v, ok := n.Prop(k)
		if !ok || !g.fits(v) {
			return false
		}
	}
	return true
}

// surface tells whether what the terms say of materials and pictures holds.
func (x *taker) surface(t *Terms, material int) bool {
	if len(t.Material)+len(t.Picture) == 0 {
		return true
	}
	if material < 0 {
		return false
	}
	m := &x.s.Materials[material]
	if len(t.Material) > 0 && !t.Material.fits(m.Name) {
		return false
	}
	if len(t.Picture) == 0 {
		return true
	}
	for _, tx := range m.Textures {
		if pictureNamed(t.Picture, &x.s.Pictures[tx.Picture]) {
			return true
		}
	}
	return false
}

// pictureNamed tells whether a glob fits a picture's name, with or without its
// ending, or what the file asks for.
func pictureNamed(g Globs, p *scene.Picture) bool {
	return g.fits(p.Name) || g.fits(p.Ref) || g.fits(strings.TrimSuffix(p.Name, path.Ext(p.Name)))
}

func (x *taker) pictureFits(p int) bool {
	g := x.rule.Picture
	if len(g) > 0 && !pictureNamed(g, &x.s.Pictures[p]) {
		return false
	}
	if n := x.rule.Not; n != nil && len(n.Picture) > 0 && !n.ofNodes() && len(n.Material) == 0 && pictureNamed(n.Picture, &x.s.Pictures[p]) {
		return false
	}
	return true
}

// smaller marks the triangles of a part's loose pieces whose longest side, as
// the node shows them, is below a length in metres.
func (x *taker) smaller(least float64, node, part int) []bool {
	p := &x.parts(node)[part]
	of, n := piece.Of(p)
	sizes := piece.Sizes(p, of, n, &x.world[node])
	unit := x.s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	out := make([]bool, len(of))
	for i, k := range of {
		out[i] = sizes[k]*unit < least
	}
	return out
}

// values are what an expression may ask of a part of a node, in the order of
// words.
func (x *taker) values(node, part int, measures bool) []any {
	n := &x.s.Nodes[node]
	var k []string
	for _, kind := range kinds {
		if x.isKind(Kinds{kind}, node) {
			k = append(k, string(kind))
		}
	}
	material, pictures, uvs, colours := "", []string(nil), []string(nil), []string(nil)
	var triangles, vertices, morphs int
	var seeThrough, twoSided bool
	var size, height float64
	if part >= 0 {
		p := &x.parts(node)[part]
		triangles, vertices, morphs = len(p.Triangles)/3, p.Vertices(), len(p.Morphs)
		for i := range p.UVs {
			uvs = append(uvs, p.UVs[i].Name)
		}
		for i := range p.Colours {
			colours = append(colours, p.Colours[i].Name)
		}
		if p.Material >= 0 {
			m := &x.s.Materials[p.Material]
			material, seeThrough, twoSided = m.Name, m.Alpha != scene.Opaque, m.TwoSided
			for _, t := range m.Textures {
				pictures = append(pictures, x.s.Pictures[t.Picture].Name)
			}
		}
		if measures {
			size, height = x.size(node, p)
		}
	}
	return []any{n.Name, x.paths[node], material, pictures, k,
		triangles, vertices, morphs, x.children[node],
		size, height, n.Skin >= 0, x.moves[node], seeThrough, twoSided, uvs, colours}
}

// size is the longest side of a part's box as a node shows it at rest, and its
// height along the scene's up axis, in metres.
func (x *taker) size(node int, p *scene.Part) (longest, height float64) {
	pos, _ := x.s.Posed(node, p, x.world)
	box := geom.EmptyBox()
	for v := 0; v+2 < len(pos); v += 3 {
		box.Add(geom.Vec3{float64(pos[v]), float64(pos[v+1]), float64(pos[v+2])})
	}
	if box.Empty() {
		return 0, 0
	}
	unit := x.s.Basis.MetresPerUnit
	if unit == 0 {
		unit = 1
	}
	s := box.Size().Mul(unit)
	longest = max(s[0], s[1], s[2])
	if x.s.Basis.Up != 0 {
		height = math.Abs(s.Dot(x.s.Basis.Up.Vec()))
	}
	return longest, height
}
