package corner

import (
	"math"

	"excavate/core/geom"
	"excavate/core/scene"
)

// flatNormal is normal to a face by Newell's sum, so that no corner counts
// more than another.
func flatNormal(positions []float32, corners []Ref) [3]float32 {
	a := geom.At(positions, uint32(corners[0].V))
	b := geom.At(positions, uint32(corners[1].V)).Sub(a)
	var sum geom.Vec3
	for _, c := range corners[2:] {
		d := geom.At(positions, uint32(c.V)).Sub(a)
		sum, b = sum.Add(b.Cross(d)), d
	}
	return unit(sum)
}

// shade makes the normals of smoothing groups. What lies at one place in one
// group has one, weighted by the angles at it (Thürmer and Wüthrich, "Computing
// Vertex Normals from Polygonal Facets", 1998), so that it does not depend on
// how polygons are cut; corners that differ in texture only do not break the
// surface.
func (p *Part) shade(out *scene.Part) {
	if len(p.groups) == 0 {
		return
	}
	place, places := p.places(out.Positions)
	sums := make([]geom.Vec3, places)
	for c := range p.triangles.n {
		t := p.triangles.at(c)
		if place[t[0]] < 0 {
			continue
		}
		var v, edge [3]geom.Vec3
		for k := range v {
			v[k] = geom.At(out.Positions, t[k])
		}
		n := v[1].Sub(v[0]).Cross(v[2].Sub(v[0])).Norm()
		for k := range edge {
			edge[k] = v[(k+1)%3].Sub(v[k]).Norm()
		}
		for k := range v {
			angle := math.Acos(max(-1, min(1, -edge[k].Dot(edge[(k+2)%3]))))
			s := &sums[place[t[k]]]
			*s = s.Add(n.Mul(angle))
		}
	}
	for v, at := range place {
		if at >= 0 {
			n := unit(sums[at])
			copy(out.Normals[3*v:], n[:])
		}
	}
}

// places numbers the places of the vertices of smoothing groups; of other
// vertices it is None.
func (p *Part) places(positions []float32) (place []int32, places int) {
	place = make([]int32, p.refs.n)
	var firsts []int32 // the first vertex at each place
	at := func(v int32) [3]float32 {
		q := positions[3*v:][:3]
		return [3]float32{q[0] + 0, q[1] + 0, q[2] + 0} // 0 and -0 are one
	}
	hash := func(v int32) uint32 {
		q := at(v)
		return mix(math.Float32bits(q[0]), math.Float32bits(q[1]), math.Float32bits(q[2])) ^ uint32(p.refs.at(int(v)).N)*2654435761
	}
	var t table
	for i := range place {
		v := int32(i)
		n := p.refs.at(int(v)).N
		if n >= None || n%2 == 0 {
			place[v] = None
			continue
		}
		k := t.number(hash(v), len(firsts), func(k int) bool { return p.refs.at(int(firsts[k])).N == n && at(firsts[k]) == at(v) },
			func(k int) uint32 { return hash(firsts[k]) })
		if k == len(firsts) {
			firsts = append(firsts, v)
		}
		place[v] = int32(k)
	}
	return place, len(firsts)
}

// unit is a vector made as long as 1, upward where it has no direction.
func unit(v geom.Vec3) [3]float32 {
	l := math.Sqrt(v.Dot(v))
	if l == 0 || l-l != 0 {
		return [3]float32{0, 1, 0}
	}
	return [3]float32{float32(v[0] / l), float32(v[1] / l), float32(v[2] / l)}
}
