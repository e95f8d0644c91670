package brush

import "excavate/core/geom"

// solved is a solid with its corners: a face's outline is nil where other faces
// leave nothing of it.
type solved struct {
	faces  []outline
	fault  fault
	turned bool // its planes look inward: it was read the other way round
	spare  int  // faces that lie outside of it, or twice
	lined  int  // faces whose three points lie on one line
}

type outline struct {
	normal  geom.Vec3 // of length one, outward
	corners []geom.Vec3
}

// fault is why a solid is left out.
type fault string

const (
	sound   fault = ""
	empty   fault = "empty: its half-spaces have no room in common"
	endless fault = "without an end: its faces do not close"
)

// solve finds the corners of a solid.
func solve(s *solid) (out solved) {
	planes := around()
	own := make([]int, len(s.faces)) // the plane of each face
	for i := range s.faces {
		p, ok := planeOf(&s.faces[i].points)
		if !ok {
			out.lined++
			own[i] = -1
			continue
		}
		own[i] = len(planes)
		planes = append(planes, p)
	}
	polygons, n := meet(planes)
	if n < 4 && len(planes) > box+3 {
		turned := append([]plane{}, planes[:box]...)
		for _, p := range planes[box:] {
			turned = append(turned, p.flipped())
		}
		if again, m := meet(turned); m >= 4 && !unbounded(again) {
			planes, polygons, n, out.turned = turned, again, m, true
		}
	}
	switch {
	case unbounded(polygons):
		out.fault = endless
		return out
	case n < 4:
		out.fault = empty
		return out
	}
	out.faces = make([]outline, len(s.faces))
	places := map[[3]int]geom.Vec3{}
	for i, k := range own {
		if k < 0 {
			continue
		}
		g := &polygons[k-box]
		if len(g.corners) == 0 {
			out.spare++
			continue
		}
		o := outline{normal: planes[k].n.Norm()}
		for c := range g.corners {
			o.corners = append(o.corners, placed(places, &g.corners[c], planes))
		}
		out.faces[i] = o
	}
	return out
}

// placed is a corner's place; exact division is dear, so those of the same
// planes share theirs.
func placed(known map[[3]int]geom.Vec3, c *corner, planes []plane) geom.Vec3 {
	key := c.of
	if key[0] > key[1] {
		key[0], key[1] = key[1], key[0]
	}
	if key[1] > key[2] {
		key[1], key[2] = key[2], key[1]
	}
	if key[0] > key[1] {
		key[0], key[1] = key[1], key[0]
	}
	at, ok := known[key]
	if !ok {
		at = c.place(planes)
		known[key] = at
	}
	return at
}

// meet are the faces of the planes behind the box, and how many there are.
func meet(planes []plane) (out []polygon, n int) {
	var c cutter
	for i := box; i < len(planes); i++ {
		g := c.faceOf(planes, i)
		if len(g.corners) > 0 {
			n++
		}
		out = append(out, g)
	}
	return out, n
}

func unbounded(list []polygon) bool {
	for i := range list {
		if list[i].endless() {
			return true
		}
	}
	return false
}
