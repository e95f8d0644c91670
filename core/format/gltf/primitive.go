package gltf

import (
	"fmt"
	"math"

	"excavate/core/format"
	"excavate/core/numlist"
	"excavate/core/scene"
)

// attributes reads the vertex attributes of one primitive.
type attributes struct {
	*reader
	pr *primitive
	n  int // vertices
	at string
}

// get is an attribute's numbers, nil where the primitive has none of the name.
func (a *attributes) get(name string, types ...string) ([]float32, error) {
	i, ok := a.pr.Attributes[name]
	if !ok {
		return nil, nil
	}
	f, err := a.floats(i, types...)
	if err != nil {
		return nil, err
	}
	if x := &a.doc.Accessors[i]; int64(len(f)) != int64(a.n)*typeCount[x.Type] {
		return nil, format.Errorf(a.at, "%s has %d elements for %d vertices", name, x.Count, a.n)
	}
	return f, nil
}

// primitive reads one part of a mesh (glTF 2.0, 3.7.2.1); nil, and a note, if
// it has no positions.
func (r *reader) primitive(g *mesh, j int, at string) (*scene.Part, error) {
	pr := &g.Primitives[j]
	mode := *or(pr.Mode, 4)
	if mode < 0 || mode > 6 {
		return nil, format.Errorf(at, "mode %d; there are 0 to 6", mode)
	}
	p := &scene.Part{Material: *or(pr.Material, scene.None)}
	if raw := pr.Extensions["KHR_materials_variants"]; len(raw) > 0 && len(r.s.Variants) > 0 {
		if err := r.looks(p, raw, at+".extensions.KHR_materials_variants"); err != nil {
			return nil, err
		}
	}
	ai, ok := pr.Attributes["POSITION"]
	if !ok {
		r.Lose("a mesh part without positions was left out")
		return nil, nil
	}
	var err error
	if p.Positions, err = r.numbers(ai, "VEC3"); err != nil {
		return nil, err
	}
	a := &attributes{r, pr, p.Vertices(), at}
	if p.Normals, err = a.get("NORMAL", "VEC3"); err != nil {
		return nil, err
	}
	if p.Tangents, err = a.get("TANGENT", "VEC4"); err != nil {
		return nil, err
	}
	ex := pr.Extras
	if ex == nil {
		ex = &primitiveExtras{}
	}
	if p.UVs, err = a.sets("TEXCOORD_%d", ex.UVSets, "uv", "VEC2"); err != nil {
		return nil, err
	}
	if p.Colours, err = a.sets("COLOR_%d", ex.ColourSets, "colour", "VEC3", "VEC4"); err != nil {
		return nil, err
	}
	for k := range p.Colours {
		if p.Colours[k].Data, err = a.opaque(p.Colours[k].Data); err != nil {
			return nil, err
		}
	}
	if err := a.influences(p); err != nil {
		return nil, err
	}
	if err := r.targets(g, pr, p, a.n, at); err != nil {
		return nil, err
	}
	return p, a.elements(p, mode)
}

// sets reads numbered attributes from 0 on, as far as they go, with the names
// that the extras give them.
func (a *attributes) sets(name string, names []string, usual string, types ...string) (out []scene.AttrSet, err error) {
	for k := 0; ; k++ {
		f, err := a.get(fmt.Sprintf(name, k), types...)
		if err != nil || f == nil {
			return out, err
		}
		set := scene.AttrSet{Name: fmt.Sprintf("%s%d", usual, k), Data: f}
		if k < len(names) && names[k] != "" {
			set.Name = names[k]
		}
		out = append(out, set)
	}
}

// opaque gives colours of three components a fourth.
func (a *attributes) opaque(c []float32) ([]float32, error) {
	if a.n == 0 || len(c) != 3*a.n {
		return c, nil
	}
	if err := a.room(a.at, int64(a.n), 16); err != nil {
		return nil, err
	}
	rgba := make([]float32, 4*a.n)
	for v := range a.n {
		copy(rgba[4*v:], c[3*v:3*v+3])
		rgba[4*v+3] = 1
	}
	return rgba, nil
}

// influences reads joints and weights, four to a set, into one list a vertex.
func (a *attributes) influences(p *scene.Part) error {
	var joints [][]uint32
	var weights [][]float32
	for k := 0; ; k++ {
		i, ok := a.pr.Attributes[fmt.Sprintf("JOINTS_%d", k)]
		if !ok {
			break
		}
		j, err := a.ints(i, "VEC4")
		if err != nil {
			return err
		}
		w, err := a.get(fmt.Sprintf("WEIGHTS_%d", k), "VEC4")
		if err != nil {
			return err
		}
		if len(j) != 4*a.n || len(w) != 4*a.n {
			return format.Errorf(a.at, "joints and weights set %d do not fit %d vertices", k, a.n)
		}
		joints, weights = append(joints, j), append(weights, w)
	}
	k := len(joints)
	if k == 0 {
		return nil
	}
	p.Influences = 4 * k
	if err := a.room(a.at, int64(a.n), int64(6*p.Influences)); err != nil {
		return err
	}
	p.Joints, p.Weights = make([]uint16, 4*k*a.n), make([]float32, 4*k*a.n)
	for s := range k {
		for e, w := range weights[s] {
			if w == 0 {
				continue // what an unused slot names is no joint
			}
			o := e/4*4*k + 4*s + e%4
			p.Weights[o] = w
			p.Joints[o] = uint16(min(joints[s][e], math.MaxUint16))
		}
	}
	return nil
}

// elements reads what a primitive draws: its indices, or all vertices in order.
// Loops, strips and fans are written out.
func (a *attributes) elements(p *scene.Part, mode int) (err error) {
	var idx []uint32
	if a.pr.Indices != nil {
		if idx, err = a.ints(*a.pr.Indices, "SCALAR"); err != nil {
			return err
		}
	} else {
		if err := a.room(a.at, int64(a.n), 4); err != nil {
			return err
		}
		idx = numlist.Upto(a.n)
	}
	if mode != 0 && mode != 1 && mode != 4 {
		if err := a.room(a.at, int64(len(idx)), 12); err != nil {
			return err
		}
	}
	switch mode {
	case 0:
		p.Points = idx
	case 1, 2, 3:
		p.Lines = lines(idx, mode)
	default:
		if p.Triangles = triangles(idx, mode); mode == 4 && len(idx)%3 != 0 {
			a.Lose("%d indices beyond the last whole triangle were left out", len(idx)%3)
		}
	}
	return nil
}

// lines makes lists of loops and strips, section 3.7.2.1.
func lines(idx []uint32, mode int) []uint32 {
	if mode == 1 {
		return idx[:len(idx)/2*2]
	}
	var out []uint32
	for i := 1; i < len(idx); i++ {
		out = append(out, idx[i-1], idx[i])
	}
	if mode == 2 && len(idx) > 2 {
		out = append(out, idx[len(idx)-1], idx[0])
	}
	return out
}

// triangles makes lists of strips and fans, section 3.7.2.1.
func triangles(idx []uint32, mode int) []uint32 {
	switch mode {
	case 5:
		var out []uint32
		for i := 2; i < len(idx); i++ {
			if i%2 == 0 {
				out = append(out, idx[i-2], idx[i-1], idx[i])
			} else {
				out = append(out, idx[i-1], idx[i-2], idx[i])
			}
		}
		return out
	case 6:
		var out []uint32
		for i := 2; i < len(idx); i++ {
			out = append(out, idx[0], idx[i-1], idx[i])
		}
		return out
	}
	return idx[:len(idx)/3*3]
}

func (r *reader) targets(g *mesh, pr *primitive, p *scene.Part, n int, at string) error {
	for k, t := range pr.Targets {
		m := scene.MorphTarget{Name: fmt.Sprintf("morph%d", k)}
		if g.Extras != nil && k < len(g.Extras.TargetNames) {
			m.Name = g.Extras.TargetNames[k]
		}
		if k < len(g.Weights) {
			m.Weight = g.Weights[k]
		}
		for name, dst := range map[string]*[]float32{"POSITION": &m.Positions, "NORMAL": &m.Normals, "TANGENT": &m.Tangents} {
			i, ok := t[name]
			if !ok {
				continue
			}
			f, err := r.floats(i, "VEC3")
			if err != nil {
				return err
			}
			if len(f) != 3*n {
				return format.Errorf(at, "morph target %d: %s has %d elements for %d vertices",
					k, name, len(f)/3, n)
			}
			*dst = f
		}
		p.Morphs = append(p.Morphs, m)
	}
	return nil
}
