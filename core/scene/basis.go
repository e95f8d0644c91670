package scene

import (
	"fmt"
	"slices"
	"strings"

	"excavate/core/geom"
)

// InBasis returns the scene in another basis. Both bases must be oriented.
// The map C (a signed permutation of the axes with a scale) is applied to
// everything that holds coordinates, so that the asset is the same thing seen
// in other numbers: positions p -> Cp, node transforms and inverse bind
// matrices M -> C M C^-1, directions without the scale, and where the hand
// changes, windings and tangent signs turn round.
func (s *Scene) InBasis(to geom.Basis) (*Scene, error) {
	c, err := geom.ChangeBasis(s.Basis, to)
	if err != nil {
		return nil, err
	}
	out := *s
	out.Basis = to
	if s.Basis.MetresPerUnit == 0 {
		out.Basis.MetresPerUnit = 0
	}
	if c.Identity() {
		return &out, nil
	}
	out.Nodes = slices.Clone(s.Nodes)
	for i := range out.Nodes {
		n := &out.Nodes[i]
		mapVec(n.Translation[:], c.Point)
		mapQuat(n.Rotation[:], &c)
		mapVec(n.Scale[:], c.Scaling)
		n.Collider = n.Collider.inBasis(&c)
	}
	out.Meshes = slices.Clone(s.Meshes)
	for i := range out.Meshes {
		parts := slices.Clone(out.Meshes[i].Parts)
		for j := range parts {
			parts[j].inBasis(&c)
		}
		out.Meshes[i].Parts = parts
	}
	out.Skins = slices.Clone(s.Skins)
	for i := range out.Skins {
		ib := slices.Clone(out.Skins[i].InverseBind)
		for j := 0; j+15 < len(ib); j += 16 {
			var m geom.Mat4
			for k := range m {
				m[k] = float64(ib[j+k])
			}
			m = c.Mat4(m)
			for k := range m {
				ib[j+k] = float32(m[k])
			}
		}
		out.Skins[i].InverseBind = ib
	}
	out.Motions = slices.Clone(s.Motions)
	for i := range out.Motions {
		ch := slices.Clone(out.Motions[i].Channels)
		for j := range ch {
			switch ch[j].Path {
			case PathTranslation:
				ch[j].Values = mapped(ch[j].Values, 3, func(v []float32) { mapVec(v, c.Point) })
			case PathScale:
				ch[j].Values = mapped(ch[j].Values, 3, func(v []float32) { mapVec(v, c.Scaling) })
			case PathRotation:
				ch[j].Values = mapped(ch[j].Values, 4, func(v []float32) { mapQuat(v, &c) })
			}
		}
		out.Motions[i].Channels = ch
	}
	out.Avatar = s.Avatar.inBasis(&c)
	out.Lights = slices.Clone(s.Lights)
	for i := range out.Lights {
		out.Lights[i].Range *= float32(c.Scale)
	}
	out.Cameras = slices.Clone(s.Cameras)
	for i := range out.Cameras {
		k := &out.Cameras[i]
		k.Near, k.Far, k.Height = k.Near*float32(c.Scale), k.Far*float32(c.Scale), k.Height*float32(c.Scale)
	}
	return &out, nil
}

// TurnedTo is InBasis for a writer whose format has one basis: what the scene
// does not declare is taken for what the format means by its numbers, which
// stay. notes say what was turned, and what the numbers now mean.
func (s *Scene) TurnedTo(to geom.Basis, format string) (*Scene, []Note, error) {
	b := s.Basis
	if b == to {
		return s, nil, nil
	}
	full := *s
	full.Basis = b.Completed(to)
	out, err := full.InBasis(to)
	if err != nil {
		return nil, nil, err
	}
	var lacks []string
	if !b.Oriented() {
		lacks = append(lacks, "not all of its axes")
	}
	if b.MetresPerUnit == 0 {
		lacks = append(lacks, "no unit")
	}
	switch {
	case b == (geom.Basis{}):
		return out, []Note{{Text: fmt.Sprintf("the source declares no axes and no unit; its numbers stay, and %s means them as %s", format, to)}}, nil
	case len(lacks) > 0:
		return out, []Note{{Text: fmt.Sprintf("the source declares %s; it was taken for %s and turned to %s, as %s has it", strings.Join(lacks, " and "), full.Basis, to, format)}}, nil
	}
	return out, []Note{{Text: fmt.Sprintf("turned from %s to %s, as %s has it", b, to, format)}}, nil
}

func (p *Part) inBasis(c *geom.Change) {
	p.Positions = permuted(p.Positions, c, c.Scale)
	p.Normals = permuted(p.Normals, c, 1)
	p.Tangents = mapped(p.Tangents, 4, func(v []float32) {
		mapVec(v[:3], c.Dir)
		if c.Flip {
			v[3] = -v[3]
		}
	})
	p.Morphs = slices.Clone(p.Morphs)
	for k := range p.Morphs {
		m := &p.Morphs[k]
		m.Positions, m.Normals, m.Tangents = permuted(m.Positions, c, c.Scale), permuted(m.Normals, c, 1), permuted(m.Tangents, c, 1)
	}
	if c.Flip {
		t := slices.Clone(p.Triangles)
		for i := 0; i+2 < len(t); i += 3 {
			t[i+1], t[i+2] = t[i+2], t[i+1]
		}
		p.Triangles = t
	}
}

// permuted maps long lists of vectors: the change is three look-ups and three
// factors.
func permuted(v []float32, c *geom.Change, scale float64) []float32 {
	if v == nil {
		return nil
	}
	var f [3]float32
	for r := range f {
		f[r] = float32(c.Rot[c.Perm[r]*4+r] * scale)
	}
	out := make([]float32, len(v))
	a, b, d := c.Perm[0], c.Perm[1], c.Perm[2]
	for i := 0; i+2 < len(v); i += 3 {
		out[i], out[i+1], out[i+2] = v[i+a]*f[0], v[i+b]*f[1], v[i+d]*f[2]
	}
	return out
}

func mapped(v []float32, n int, f func([]float32)) []float32 {
	out := slices.Clone(v)
	for i := 0; i+n <= len(out); i += n {
		f(out[i : i+n])
	}
	return out
}

func mapVec(v []float32, f func(geom.Vec3) geom.Vec3) {
	r := f(geom.Vec3{float64(v[0]), float64(v[1]), float64(v[2])})
	v[0], v[1], v[2] = float32(r[0]), float32(r[1]), float32(r[2])
}

func mapQuat(v []float32, c *geom.Change) {
	q := c.Quat(geom.Quat{float64(v[0]), float64(v[1]), float64(v[2]), float64(v[3])})
	for i := range q {
		v[i] = float32(q[i])
	}
}
