package x3d

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"excavate/core/distinct"
	"excavate/core/format"
	"excavate/core/geom"
	"excavate/core/scene"
)

// builder makes the scene of a file's nodes: what places others becomes a node,
// a shape a mesh, and what is used again a node with the same mesh.
type builder struct {
	ctx       context.Context
	readings  map[string]string
	classic97 bool // VRML97, whose lights have other usual values
	s         *scene.Scene
	materials map[materialKey]int
	pictures  map[any]int // by address or node
	meshes    map[*node]built
	far       map[int][3]float64 // what the positions of a mesh are relative to
	switches  map[*node]int      // which of its nodes each shows
	placed    map[*node][]int    // the scene's nodes of a Transform, one a use
	turning   map[*node]bool     // Transforms that motions turn or scale
	clock     map[*node]bool
	clocks    []*node // what motions are made of, in their order
	names     distinct.Names
	*format.Losses
	detail  int // the level of detail that is wanted, 0 the finest
	levels  int // that the file has, of any one thing
	visits  int
	shapes  int
	corners int
	most    int // corners
}

type materialKey struct{ appearance *node }

// built is a shape's mesh, and how many corners each use of it counts.
type built struct{ mesh, corners int }

// What USE can make of little is bounded: nodes visited, nodes made, shapes,
// and corners of faces in all.
const (
	mostVisits   = 1 << 20
	mostPlaces   = 1 << 18
	mostShapes   = 1 << 16
	mostCorners  = 16 << 20 // and one for every eight bytes of the file
	mostSwitches = 32       // whose choice is offered
	mostOptions  = 256      // of one
)

func newBuilder(ctx context.Context, f format.File, metres float64, lost *format.Losses, classic97 bool) *builder {
	b := &builder{ctx: ctx, readings: f.Readings, classic97: classic97, most: mostCorners + len(f.Data)/8, s: &scene.Scene{}, Losses: lost,
		materials: map[materialKey]int{}, pictures: map[any]int{}, meshes: map[*node]built{}, far: map[int][3]float64{}, switches: map[*node]int{}, placed: map[*node][]int{}, clock: map[*node]bool{}}
	fmt.Sscanf(f.Readings[scene.DetailChoice], "level %d", &b.detail)
	// X3D 4.3.5 and 4.3.6: metres, right-handed, Y up; a viewer looks along -Z.
	b.s.Basis = geom.GLTF
	if metres > 0 && metres-metres == 0 {
		b.s.Basis.MetresPerUnit = metres
	}
	return b
}

func (b *builder) build(roots []*node, routes []*route) (*scene.Scene, error) {
	b.turning = turning(routes)
	if err := b.all(roots, scene.None, 0); err != nil {
		return nil, err
	}
	b.motions(routes)
	format.PlaceFarMeshes(b.s, b.far)
	if len(b.s.Meshes) == 0 {
		if len(b.s.Choices) == 0 {
			return nil, fmt.Errorf("it has no shape with a surface")
		}
		b.s.Notes = append(b.s.Notes, scene.Note{Text: "nothing is shown as the file is: choose another of its readings"})
	}
	if b.levels > 1 {
		c := scene.Choice{Name: scene.DetailChoice, About: "the file has things in several levels of detail", Options: []string{"finest"}}
		for l := 1; l < min(b.levels, 9); l++ {
			c.Options = append(c.Options, fmt.Sprintf("level %d", l))
		}
		c.Chosen = c.Options[max(0, min(b.detail, len(c.Options)-1))]
		b.s.Choices = append(b.s.Choices, c)
	}
	if len(b.s.Lights) > 0 {
		b.s.Notes = append(b.s.Notes, scene.Note{Text: "lights have no unit in the file; their strengths stand as candela, of directional ones as lux"})
	}
	b.s.Notes = append(b.s.Notes, b.Notes()...)
	return b.s, b.s.Validate()
}

func (b *builder) all(list []*node, parent, deep int) error {
	for _, n := range list {
		if err := b.visit(n, parent, deep); err != nil {
			return err
		}
	}
	return nil
}

// visit makes what a node stands for below parent.
func (b *builder) visit(n *node, parent, deep int) error {
	if b.visits++; b.visits > mostVisits {
		return n.errorf("more than %d nodes, counting each use", mostVisits)
	}
	if b.visits&0xfff == 0 && b.ctx.Err() != nil {
		return b.ctx.Err()
	}
	if deep > mostDepth {
		return n.errorf("nodes nest more than %d deep", mostDepth)
	}
	switch n.typ {
	case "X3D", "Scene", "Layer", "LayerSet", "Viewport":
		return b.all(n.children("children"), parent, deep+1)
	case "Group", "StaticGroup", "Anchor", "Collision", "Billboard", "ViewpointGroup":
		if n.def == "" {
			return b.all(n.children("children"), parent, deep+1)
		}
		return b.place(n, parent, geom.Identity, deep)
	case "head", "Header", "meta", "component", "unit", "WorldInfo", "NavigationInfo", "MetadataString", "MetadataSet":
		return nil
	case "Transform":
		return b.place(n, parent, transform(n), deep)
	case "Switch":
		list := n.children("choice", "children")
		k := b.choice(n, list)
		if k < 0 {
			for range list {
				b.Lose("a choice of a Switch that shows none was left out")
			}
			return nil
		}
		for range len(list) - 1 {
			b.Lose("another choice of a Switch was left out")
		}
		return b.visit(list[k], parent, deep+1)
	case "LOD":
		list := n.children("level", "children")
		if len(list) == 0 {
			return nil
		}
		if len(list) > 1 {
			b.levels = max(b.levels, len(list))
			for range len(list) - 1 {
				b.Lose("another level of detail was left out")
			}
		}
		return b.visit(list[max(0, min(b.detail, len(list)-1))], parent, deep+1)
	case "Shape":
		name := n.shapeName()
		if name == "" && parent >= 0 {
			name = b.s.Nodes[parent].Name
		}
		if name == "" {
			name = "shape"
		}
		mesh, err := b.mesh(n, name)
		if err != nil || mesh < 0 {
			return err
		}
		at, err := b.node(n, name, parent)
		if err == nil {
			b.s.Nodes[at].Mesh = mesh
		}
		return err
	case "DirectionalLight", "PointLight", "SpotLight":
		return b.light(n, parent)
	case "Viewpoint", "OrthoViewpoint":
		return b.camera(n, parent)
	}
	if isMotion(n) {
		if !b.clock[n] {
			b.clock[n] = true
			b.clocks = append(b.clocks, n)
		}
		return nil
	}
	b.Lose("a node of the kind %s was left out", n.typ)
	return nil
}

func (n *node) errorf(msg string, a ...any) error {
	return format.Errorf(fmt.Sprintf("line %d", n.line), msg, a...)
}

// shapeName is what a shape is called, or its geometry; empty where neither has
// a name.
func (n *node) shapeName() string {
	if g := n.child("geometry", geometries...); n.def == "" && g != nil {
		return g.def
	}
	return n.def
}

// node adds a node that does nothing yet.
func (b *builder) node(n *node, name string, parent int) (int, error) {
	if len(b.s.Nodes) >= mostPlaces {
		return 0, n.errorf("more than %d nodes, counting each use", mostPlaces)
	}
	if name != "" {
		name = b.names.Name(name, " ")
	}
	x := scene.NewNode(name)
	x.Parent = parent
	b.s.Nodes = append(b.s.Nodes, x)
	return len(b.s.Nodes) - 1, nil
}

// place makes a node of a Transform or of a group with a name, and what it
// holds. A shape that it holds alone is its own.
func (b *builder) place(n *node, parent int, local geom.Mat4, deep int) error {
	list := n.children("children")
	name, alone := n.def, len(list) == 1 && list[0].typ == "Shape"
	if name == "" && alone {
		name = list[0].shapeName()
	}
	at, err := b.node(n, name, parent)
	if err != nil {
		return err
	}
	// What turns about a centre is two nodes: one at the centre, which moves,
	// and one that brings what it holds back.
	centre := n.centre()
	about := b.turning[n] && centre != geom.Vec3{}
	if about {
		local = local.Mul(shift(centre))
	}
	x, first := &b.s.Nodes[at], at
	if above := x.Place(local); above != nil {
		own := *x
		*x = *above
		if at, err = b.node(n, "", at); err != nil {
			return err
		}
		own.Parent = first
		b.s.Nodes[at] = own
	} else {
		b.placed[n] = append(b.placed[n], at)
	}
	called := b.s.Nodes[at].Name
	if about {
		if at, err = b.node(n, "", at); err != nil {
			return err
		}
		b.s.Nodes[at].Place(shift(centre.Mul(-1)))
	}
	for k := first; k <= at; k++ {
		if err := b.finite(n, k); err != nil {
			return err
		}
	}
	if !alone {
		return b.all(list, at, deep+1)
	}
	b.visits++
	if called == "" {
		called = "shape"
	}
	mesh, err := b.mesh(list[0], called)
	b.s.Nodes[at].Mesh = mesh
	return err
}

// finite tells where a node has a transform beyond numbers.
func (b *builder) finite(n *node, at int) error {
	for _, v := range b.s.Nodes[at].Local() {
		if v-v != 0 {
			return n.errorf("the transform of %s holds a number that is too large", n.typ)
		}
	}
	return nil
}

// choice is which of a Switch's nodes is shown, below 0 for none: as the file
// has it, unless another was chosen.
func (b *builder) choice(n *node, list []*node) int {
	if k, ok := b.switches[n]; ok {
		return k
	}
	shown := int(max(-1, min(n.num("whichChoice", -1), 1<<20)))
	if shown >= len(list) {
		shown = -1
	}
	b.switches[n] = shown
	if len(list) > mostOptions || len(b.s.Choices) >= mostSwitches {
		return shown
	}
	order, options := []int{shown}, []string{"nothing"}
	name := func(k int) string {
		if d := list[k].def; d != "" && d != "nothing" && !slices.Contains(options, d) {
			return d
		}
		return fmt.Sprintf("choice %d", k)
	}
	if shown >= 0 {
		options[0] = name(shown)
	}
	for k := range list {
		if k != shown {
			order, options = append(order, k), append(options, name(k))
		}
	}
	if len(options) > 1 {
		c := scene.Choice{Name: "switch " + n.def, About: "which of a Switch's nodes is shown", Options: options}
		if n.def == "" {
			c.Name = fmt.Sprintf("switch %d", len(b.s.Choices)+1)
		}
		if !slices.ContainsFunc(b.s.Choices, func(o scene.Choice) bool { return o.Name == c.Name }) {
			k := max(0, slices.Index(options, b.readings[c.Name]))
			c.Chosen, shown = options[k], order[k]
			b.s.Choices = append(b.s.Choices, c)
		}
	}
	b.switches[n] = shown
	return shown
}

// transform is X3D 10.4.4: T C R SR S -SR -C.
func transform(n *node) geom.Mat4 {
	v3 := func(f string, x float64) geom.Vec3 { v := n.vec(f, x, x, x); return geom.Vec3{v[0], v[1], v[2]} }
	turn := func(f string, sign float64) geom.Mat4 {
		return geom.TRS(geom.Vec3{}, rotation(n, f, sign), geom.Vec3{1, 1, 1})
	}
	c := n.centre()
	scale := geom.TRS(geom.Vec3{}, geom.IdentityQuat, v3("scale", 1))
	return shift(v3("translation", 0).Add(c)).Mul(turn("rotation", 1)).Mul(turn("scaleOrientation", 1)).Mul(scale).Mul(turn("scaleOrientation", -1)).Mul(shift(c.Mul(-1)))
}

func shift(t geom.Vec3) geom.Mat4 { return geom.TRS(t, geom.IdentityQuat, geom.Vec3{1, 1, 1}) }

// centre is what a Transform turns and scales about.
func (n *node) centre() geom.Vec3 {
	v := n.vec("center", 0, 0, 0)
	return geom.Vec3{v[0], v[1], v[2]}
}

// rotation is a field's, of an axis and an angle.
func rotation(n *node, field string, sign float64) geom.Quat {
	r := n.vec(field, 0, 0, 1, 0)
	axis := geom.Vec3{r[0], r[1], r[2]}
	if axis.Len() == 0 {
		return geom.IdentityQuat
	}
	return geom.AxisAngle(axis.Norm(), sign*r[3])
}

// hang adds a node for a camera or light: at a place, turned from looking
// along -Z.
func (b *builder) hang(n *node, name string, parent int, place []float64, turn geom.Quat) (*scene.Node, error) {
	at, err := b.node(n, name, parent)
	if err != nil {
		return nil, err
	}
	b.s.Nodes[at].Put(geom.Vec3{place[0], place[1], place[2]}, turn, geom.Vec3{1, 1, 1})
	return &b.s.Nodes[at], b.finite(n, at)
}

// light reads X3D 17.4.
func (b *builder) light(n *node, parent int) error {
	if !n.flag("on", true) {
		b.Lose("a light that is off was left out")
		return nil
	}
	if n.num("ambientIntensity", 0) > 0 {
		b.Lose("a light's ambient share was left out")
	}
	l := scene.Light{Name: n.def, Type: strings.ToLower(strings.TrimSuffix(n.typ, "Light")), Intensity: amount(n.num("intensity", 1))}
	if l.Name == "" {
		l.Name = n.typ
	}
	for k, v := range n.vec("color", 1, 1, 1) {
		l.Colour[k] = format.Linear(v)
	}
	if l.Type != "directional" {
		l.Range = amount(n.num("radius", 100))
		if l.Range >= endless {
			l.Range = 0
		}
		if a := n.vec("attenuation", 1, 0, 0); a[0] != 0 || a[1] != 0 || a[2] != 1 {
			b.Lose("a light's attenuation, other than by the square of the distance, was left out")
		}
	}
	if l.Type == "spot" {
		cut, beam := math.Pi/2, math.Pi/4
		if b.classic97 { // ISO/IEC 14772-1, 6.46
			cut, beam = math.Pi/4, math.Pi/2
		}
		l.Outer = amount(min(n.num("cutOffAngle", cut), math.Pi/2))
		l.Inner = min(amount(n.num("beamWidth", beam)), l.Outer)
	}
	along := n.vec("direction", 0, 0, -1)
	x, err := b.hang(n, l.Name, parent, n.vec("location", 0, 0, 0), toward(geom.Vec3{along[0], along[1], along[2]}))
	if err != nil {
		return err
	}
	x.Light = len(b.s.Lights)
	b.s.Lights = append(b.s.Lights, l)
	return nil
}

// endless is a radius that stands for none.
const endless = 1e6

// amount is a number that cannot lie below 0.
func amount(v float64) float32 { x, _ := format.Finite32(max(0, v)); return x }

// toward turns -Z to a direction.
func toward(d geom.Vec3) geom.Quat {
	d = d.Norm()
	switch { // the axis is -Z x d, the angle that between them
	case d == geom.Vec3{} || d[0] == 0 && d[1] == 0 && d[2] < 0:
		return geom.IdentityQuat
	case d[0] == 0 && d[1] == 0:
		return geom.Quat{0, 1, 0, 0}
	}
	return geom.AxisAngle(geom.Vec3{d[1], -d[0], 0}.Norm(), math.Acos(max(-1, min(1, -d[2]))))
}

// camera reads X3D 23.4: a viewpoint's angle is that of the shorter side of
// the picture, here its height.
func (b *builder) camera(n *node, parent int) error {
	c := scene.Camera{Name: n.def, FovY: float32(max(1e-3, min(n.num("fieldOfView", math.Pi/4), 3.1))), Near: 0.1, Far: 1000}
	if c.Name == "" {
		c.Name = n.text("description")
	}
	if c.Name == "" {
		c.Name = n.typ
	}
	if n.typ == "OrthoViewpoint" {
		v := n.vec("fieldOfView", -1, -1, 1, 1)
		c.Orthographic, c.FovY, c.Height = true, 0, amount((v[3]-v[1])/2)
		if v[2] > v[0] && c.Height > 0 {
			c.Aspect = amount((v[2] - v[0]) / (v[3] - v[1]))
		}
	}
	if v := amount(n.num("nearDistance", -1)); v > 0 {
		c.Near = v
	}
	if v := amount(n.num("farDistance", -1)); v > c.Near {
		c.Far = v
	}
	usual := []float64{0, 0, 10}
	x, err := b.hang(n, c.Name, parent, n.vec("position", usual...), rotation(n, "orientation", 1))
	if err != nil {
		return err
	}
	x.Camera = len(b.s.Cameras)
	b.s.Cameras = append(b.s.Cameras, c)
	return nil
}
