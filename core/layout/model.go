package layout

import (
	"context"
	"errors"
	"fmt"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// modelMap says where the things of a model lie. Its sections are read in
// this order, each in a file of its own: materials here, nodes in node.go,
// parts in mesh.go, a program in program.go, motions in motion.go.
type modelMap struct {
	basis     geom.Basis
	name      *formula
	materials *materialMap
	nodes     []*nodeMap
	parts     *partMap
	program   *programMap
	motions   *motionMap
}

type materialMap struct {
	each     *each
	name     *formula
	pictures []rolePicture
	alpha    *choice[scene.AlphaMode]
	cutoff   *formula
	colour   *formula
	twoSided *formula
}

// rolePicture is a material's picture in one role: a name that is looked for,
// or the texels themselves.
type rolePicture struct {
	role   scene.Role
	name   *formula
	texels *pictureMap
	when   *formula
}

func (c *compiler) model(n *node) {
	c.keys(n, "basis", "name", "materials", "nodes", "parts", "program", "motions")
	if c.err != nil {
		return
	}
	sc := c.topScope
	m := &modelMap{basis: c.basis(n.get("basis")), name: c.optionalFormula(n, "name", sc)}
	if x := n.get("materials"); x != nil {
		m.materials = c.materials(x, sc)
	}
	if x := n.get("nodes"); x != nil && c.err == nil {
		if len(x.items) == 0 {
			c.fail(x, "nodes is a list of maps, each with its own records")
		}
		for _, it := range x.items {
			m.nodes = append(m.nodes, c.nodes(it, sc))
		}
	}
	if x := n.get("program"); x != nil && c.err == nil {
		m.program = c.program(x, sc)
	}
	if x := n.get("parts"); x != nil && c.err == nil {
		m.parts = c.parts(x, sc)
	}
	if m.parts == nil && m.program == nil && len(m.nodes) == 0 && c.err == nil {
		c.fail(n, "a model needs parts, a program or nodes")
	}
	if x := n.get("motions"); x != nil && c.err == nil {
		m.motions = c.motions(x, sc)
	}
	c.Layout.model = m
}

func (c *compiler) materials(n *node, sc *scope) *materialMap {
	c.keys(n, "each", "as", "name", "pictures", "alpha", "cutoff", "colour", "two_sided")
	if c.err != nil {
		return nil
	}
	m := &materialMap{each: c.each(n, sc)}
	sc = m.each.scope
	m.name = c.needFormula(n, "name", sc)
	m.cutoff, m.colour, m.twoSided = c.optionalFormula(n, "cutoff", sc), c.optionalFormula(n, "colour", sc), c.optionalFormula(n, "two_sided", sc)
	m.alpha = chooser(c, n.get("alpha"), sc, func(n *node) scene.AlphaMode {
		return scene.AlphaMode(c.oneOf(n, "opaque", "cutout", "blend"))
	})
	if p := n.get("pictures"); p != nil {
		c.keys(p, "colour", "metallic-roughness", "normal", "occlusion", "emission")
		for _, r := range scene.Roles {
			x := p.get(string(r))
			if x == nil {
				continue
			}
			if !x.mapping {
				m.pictures = append(m.pictures, rolePicture{role: r, name: c.formula(x, sc)})
				continue
			}
			m.pictures = append(m.pictures, rolePicture{role: r, name: c.optionalFormula(x, "name", sc), when: c.optionalFormula(x, "when", sc),
				texels: c.pictureMap(x.without("name", "when"), sc)})
		}
	}
	return m
}

// without is a mapping without some of its keys.
func (n *node) without(keys ...string) *node {
	out := *n
	out.pairs = nil
next:
	for _, p := range n.pairs {
		for _, k := range keys {
			if p.key == k {
				continue next
			}
		}
		out.pairs = append(out.pairs, p)
	}
	return &out
}

// Scene decodes the model that the layout describes. Pictures that it names
// are named, not yet found; those whose texels it describes are decoded.
func (l *Layout) Scene(ctx context.Context, in Input, around Surroundings) (*scene.Scene, error) {
	if l.model == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a model", l.Kind)}
	}
	l = l.inOrder(in)
	r := newRun(ctx, l, in).with(around)
	e, err := r.fields()
	if err != nil {
		return nil, err
	}
	return r.scene(e)
}

func (r *run) scene(e *env) (*scene.Scene, error) {
	m := r.layout.model
	b := &builder{run: r, m: m, s: &scene.Scene{Basis: m.basis}, meshes: map[string]int{}, skinned: map[int]bool{}}
	if m.name != nil {
		var err error
		if b.s.Name, err = m.name.text(e); err != nil {
			return nil, err
		}
	}
	for _, step := range []func(*env) error{b.materials, b.nodes, b.parts, b.program, b.skin, b.motions} {
		if err := step(e); err != nil {
			return nil, err
		}
	}
	if b.lost != nil && len(b.s.Meshes) == 0 {
		return nil, b.lost
	}
	if err := b.s.Validate(); err != nil {
		return nil, &Error{Layout: r.layout.Name, Msg: fmt.Sprintf("the file makes no sound model: %v", err)}
	}
	return b.s, nil
}

type builder struct {
	*run
	m           *modelMap
	s           *scene.Scene
	nodeAt      []int // scene node of each node in file order
	bones       []int // scene nodes of the bones in file order
	binds       [][16]float32
	meshes      map[string]int // by name
	skinned     map[int]bool   // of meshes
	texels      map[texelKey]int
	jointsIn    *opened // where the joints of the present part lie, for messages
	jointsAt    int64
	jointsApart int64
	lost        error // the first part that could not be read for want of a space
}

// texelKey tells pictures apart that are described by their texels.
type texelKey struct {
	src  *opened
	at   int64
	m    *pictureMap
	name string
}

func (b *builder) materials(e *env) error {
	m := b.m.materials
	if m == nil {
		return nil
	}
	pictures := map[string]int{}
	return m.each.do(e, func(i int, e *env) error {
		name, err := m.name.text(e)
		if err != nil {
			return err
		}
		mat := scene.NewMaterial(name)
		if m.alpha != nil {
			if mat.Alpha, err = m.alpha.eval(e); err != nil {
				return err
			}
		}
		if m.cutoff != nil {
			x, err := m.cutoff.float(e)
			if err != nil {
				return err
			}
			mat.Cutoff = float32(x)
		}
		if m.colour != nil {
			x, err := m.colour.floats(e, 4)
			if err != nil {
				return err
			}
			for k := range x {
				mat.BaseColour[k] = float32(x[k])
			}
		}
		if m.twoSided != nil {
			x, err := m.twoSided.eval(e)
			if err != nil {
				return err
			}
			mat.TwoSided = x.truth()
		}
		for _, p := range m.pictures {
			k, err := b.picture(&p, e, name, pictures)
			if err != nil {
				return err
			}
			if k >= 0 {
				mat.Textures = append(mat.Textures, scene.Texture{Role: p.role, Picture: k, Scale: 1})
			}
		}
		b.s.Materials = append(b.s.Materials, mat)
		return nil
	})
}

// picture is the number of a material's picture in the scene, or None.
func (b *builder) picture(p *rolePicture, e *env, material string, named map[string]int) (int, error) {
	if p.when != nil {
		if v, err := p.when.eval(e); err != nil || !v.truth() {
			return scene.None, err
		}
	}
	ref := ""
	if p.name != nil {
		var err error
		if ref, err = p.name.text(e); err != nil {
			return scene.None, err
		}
	}
	if p.texels != nil {
		if ref == "" {
			ref = material
		}
		return b.texelPicture(p.texels, e, ref)
	}
	if ref == "" {
		return scene.None, nil
	}
	k, ok := named[ref]
	if !ok {
		k = len(b.s.Pictures)
		named[ref] = k
		b.s.Pictures = append(b.s.Pictures, scene.Picture{Name: baseName(ref), Ref: ref})
	}
	return k, nil
}

// texelPicture decodes a picture whose texels the layout describes. One that
// lies in a space that is bound to nothing is a missing picture that names the
// space.
func (b *builder) texelPicture(m *pictureMap, e *env, name string) (int, error) {
	if b.texels == nil {
		b.texels = map[texelKey]int{}
	}
	key := texelKey{m: m, name: name}
	if m.at != nil {
		src, at, err := m.at.place(e.child(intVal(0), intVal(0), intVal(0)))
		if err == nil {
			key.src, key.at, key.name = src, at, ""
		} else if missing(err) == nil {
			return scene.None, err
		}
	}
	if k, ok := b.texels[key]; ok {
		return k, nil
	}
	pic := scene.Picture{Name: name, Found: "inside the file"}
	img, err := m.decode(e, true)
	if gone := missing(err); gone != nil {
		pic.Found, pic.In, pic.Ref = "", gone.Ref, fmt.Sprintf("0x%x in %s", gone.At, gone.Ref)
		pic.Looked = looked(gone)
	} else if err != nil {
		return scene.None, prefix(err, fmt.Sprintf("picture %q: ", short(name)))
	} else {
		if pic.Data, err = pixel.PNG(img.Images[0].NRGBA); err != nil {
			return scene.None, err
		}
		pic.MIME, pic.Width, pic.Height = "image/png", img.Width, img.Height
		if key.src != nil && !key.src.main() {
			pic.In, pic.Ref = key.src.ref, fmt.Sprintf("0x%x in %s", key.at+key.src.base, key.src.ref)
			pic.Found = pic.Ref
		}
	}
	k := len(b.s.Pictures)
	b.texels[key] = k
	b.s.Pictures = append(b.s.Pictures, pic)
	return k, nil
}

// looked says what is missing, and where it was looked for.
func looked(m *MissingError) []string {
	what := m.Ref
	if m.Space != "" {
		what = fmt.Sprintf("the space %s, %s", m.Space, m.Ref)
	}
	var l interface{ Looked() []string }
	if errors.As(m.Err, &l) {
		return append([]string{what}, l.Looked()...)
	}
	return []string{fmt.Sprintf("%s: %v", what, m.Err)}
}

func baseName(ref string) string {
	for i := len(ref) - 1; i >= 0; i-- {
		if ref[i] == '/' || ref[i] == '\\' {
			return ref[i+1:]
		}
	}
	return ref
}
