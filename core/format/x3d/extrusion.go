package x3d

import (
	"math"
	"slices"

	"excavate/core/format/corner"
	"excavate/core/geom"
)

// mostSwept bounds the vertices of one extrusion.
const mostSwept = 1 << 20

// extrusion sweeps a cross section along a spine (ISO/IEC 19775-1, 13.3.5).
func (f *faceSet) extrusion(g *node) error {
	or := func(field string, usual ...float64) ([]float64, error) {
		v := g.nums(field)
		if v == nil {
			return usual, nil
		}
		for _, x := range v {
			if math.IsNaN(x) || math.IsInf(x, 0) {
				return nil, f.errorf("a number of %g", x)
			}
		}
		return v, nil
	}
	section, err := or("crossSection", 1, 1, 1, -1, -1, -1, -1, 1, 1, 1)
	if err != nil {
		return err
	}
	spine, err := or("spine", 0, 0, 0, 0, 1, 0)
	if err != nil {
		return err
	}
	scale, err := or("scale", 1, 1)
	if err != nil {
		return err
	}
	turns, err := or("orientation", 0, 0, 1, 0)
	if err != nil {
		return err
	}
	nc, ns := len(section)/2, len(spine)/3
	if nc < 2 || ns < 2 || len(scale) < 2 || len(turns) < 4 {
		return f.errorf("an extrusion of %d points along %d", nc, ns)
	}
	if nc > mostSwept/ns { // a short file can ask for a great many
		return f.errorf("an extrusion of %d points along %d: more than %d corners", nc, ns, mostSwept)
	}
	points := make([]geom.Vec3, ns)
	for i := range points {
		points[i] = geom.Vec3(spine[3*i : 3*i+3])
	}
	planes := spinePlanes(points)
	ring, loop := slices.Equal(section[:2], section[2*nc-2:2*nc]), points[0] == points[ns-1]
	along, around := lengths(ns, func(i int) float64 { return points[i].Sub(points[i-1]).Len() }), lengths(nc, func(j int) float64 {
		return math.Hypot(section[2*j]-section[2*j-2], section[2*j+1]-section[2*j-1])
	})
	// Corners at the ends of a ring or loop are one vertex with two UVs.
	at := make([][]corner.Ref, ns)
	for i := range at {
		s := scale[2*min(i, len(scale)/2-1):]
		o := turns[4*min(i, len(turns)/4-1):]
		turn := geom.Identity
		if axis := (geom.Vec3{o[0], o[1], o[2]}); axis.Len() > 0 {
			turn = geom.TRS(geom.Vec3{}, geom.AxisAngle(axis.Norm(), o[3]), geom.Vec3{1, 1, 1})
		}
		for j := range nc {
			p := turn.Dir(geom.Vec3{section[2*j] * s[0], 0, section[2*j+1] * s[1]})
			p = points[i].Add(planes[i][0].Mul(p[0])).Add(planes[i][1].Mul(p[1])).Add(planes[i][2].Mul(p[2]))
			r := f.add(p[0], p[1], p[2], around[j], 1-along[i])
			if ring && j == nc-1 {
				r.V = at[i][0].V
			}
			at[i] = append(at[i], r)
		}
	}
	if loop && slices.Equal(scale[:2], scale[len(scale)/2*2-2:len(scale)/2*2]) && slices.Equal(turns[:4], turns[len(turns)/4*4-4:len(turns)/4*4]) {
		for j := range at[0] {
			at[ns-1][j].V = at[0][j].V
		}
	}
	for i := range ns - 1 {
		for j := range nc - 1 {
			f.faces = append(f.faces, []corner.Ref{at[i][j], at[i][j+1], at[i+1][j+1], at[i+1][j]})
		}
	}
	// The caps have vertices of their own; their texture lies on the section, in
	// the square of its larger extent.
	lo, hi := geom.Vec3{section[0], section[1]}, geom.Vec3{section[0], section[1]}
	for j := range nc {
		for k := range 2 {
			lo[k], hi[k] = min(lo[k], section[2*j+k]), max(hi[k], section[2*j+k])
		}
	}
	size := max(hi[0]-lo[0], hi[1]-lo[1])
	if size == 0 {
		size = 1
	}
	corners := nc
	if ring {
		corners--
	}
	cap := func(row []corner.Ref, back bool) {
		face := make([]corner.Ref, 0, corners)
		for j := range corners {
			p := f.src.Positions[3*row[j].V:][:3]
			face = append(face, f.add(float64(p[0]), float64(p[1]), float64(p[2]), (section[2*j]-lo[0])/size, 1-(section[2*j+1]-lo[1])/size))
		}
		if back {
			slices.Reverse(face)
		}
		if corners > 2 {
			f.faces = append(f.faces, face)
		}
	}
	if g.flag("beginCap", true) {
		cap(at[0], true)
	}
	if g.flag("endCap", true) {
		cap(at[ns-1], false)
	}
	for _, x := range f.src.Positions {
		if x-x != 0 {
			return f.errorf("an extrusion that comes to lie at %g", x)
		}
	}
	return nil
}

// lengths are the ways to each of n points, as parts of the whole.
func lengths(n int, step func(i int) float64) []float64 {
	out := make([]float64, n)
	for i := 1; i < n; i++ {
		out[i] = out[i-1] + step(i)
	}
	for i := range out {
		if whole := out[n-1]; whole > 0 && i < n-1 {
			out[i] /= whole
		} else if n > 1 {
			out[i] = float64(i) / float64(n-1)
		}
	}
	return out
}

// spinePlanes are the axes X, Y and Z of the plane at each point of a spine: Y
// goes along the spine, Z is normal to the bend.
func spinePlanes(p []geom.Vec3) [][3]geom.Vec3 {
	n := len(p)
	out := make([][3]geom.Vec3, n)
	loop := p[0] == p[n-1] && n > 2
	before := func(i int) int {
		if i == 0 && loop {
			return n - 2
		}
		return max(i-1, 0)
	}
	after := func(i int) int {
		if i == n-1 && loop {
			return 1
		}
		return min(i+1, n-1)
	}
	bent := -1 // the first point with a Z
	for i := range p {
		out[i][1] = p[after(i)].Sub(p[before(i)]).Norm()
		if out[i][1].Len() == 0 && i > 0 {
			out[i][1] = out[i-1][1]
		}
		if z := p[after(i)].Sub(p[i]).Cross(p[before(i)].Sub(p[i])); z.Len() > 1e-12 {
			if out[i][2] = z.Norm(); bent < 0 {
				bent = i
			}
		}
	}
	for i := n - 2; i >= 0; i-- { // where a spine begins with one place twice
		if out[i][1].Len() == 0 {
			out[i][1] = out[i+1][1]
		}
	}
	if bent < 0 { // straight: as the axes come to lie when Y is turned along it
		y := out[0][1]
		if y.Len() == 0 {
			y = geom.Vec3{0, 1, 0}
		}
		turn := geom.Identity
		switch axis := (geom.Vec3{0, 1, 0}).Cross(y); {
		case axis.Len() > 1e-12:
			turn = geom.TRS(geom.Vec3{}, geom.AxisAngle(axis.Norm(), math.Acos(max(-1, min(1, y[1])))), geom.Vec3{1, 1, 1})
		case y[1] < 0:
			turn = geom.TRS(geom.Vec3{}, geom.AxisAngle(geom.Vec3{1, 0, 0}, math.Pi), geom.Vec3{1, 1, 1})
		}
		for i := range out {
			out[i] = [3]geom.Vec3{turn.Dir(geom.Vec3{1, 0, 0}), y, turn.Dir(geom.Vec3{0, 0, 1})}
			if s := p[after(i)].Sub(p[before(i)]); s.Dot(y) < 0 { // it turns back
				out[i][1] = y.Mul(-1)
			}
		}
		return out
	}
	for i := range out {
		switch {
		case i < bent:
			out[i][2] = out[bent][2]
		case i > bent && out[i][2].Len() == 0:
			out[i][2] = out[i-1][2]
		case i > bent && out[i][2].Dot(out[i-1][2]) < 0:
			out[i][2] = out[i][2].Mul(-1)
		}
		// Where Z was taken over from another bend it is made square to Y.
		y := out[i][1]
		if z := out[i][2].Sub(y.Mul(out[i][2].Dot(y))); z.Len() > 1e-9 {
			out[i][2] = z.Norm()
		}
		out[i][0] = y.Cross(out[i][2]).Norm()
	}
	return out
}
