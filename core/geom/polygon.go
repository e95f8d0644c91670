package geom

// Triangulate cuts a polygon into triangles of its corner numbers, wound as
// the polygon is. Concave polygons are cut by ears (Meisters, "Polygons have
// ears", 1975); what has no ear, because it crosses itself, becomes a fan.
func Triangulate(corners []Vec3) [][3]int {
	n := len(corners)
	if n < 3 {
		return nil
	}
	out := make([][3]int, 0, n-2)
	if n > 3 && n <= 4096 {
		// The polygon's plane by Newell's method (Sutherland, Sproull and
		// Schumacker 1974): the sum of the edges' cross products.
		var normal Vec3
		for i := range corners {
			a, b := corners[i].Sub(corners[0]), corners[(i+1)%n].Sub(corners[0])
			normal = normal.Add(a.Cross(b))
		}
		left := make([]int, n)
		for i := range left {
			left[i] = i
		}
		turn := func(a, b, c int) float64 {
			return corners[b].Sub(corners[a]).Cross(corners[c].Sub(corners[a])).Dot(normal)
		}
		convex := true
		for i := range left {
			convex = convex && turn(i, (i+1)%n, (i+2)%n) > 0
		}
		for len(left) > 3 && !convex {
			ear := -1
			for i := range left {
				a, b, c := left[(i+len(left)-1)%len(left)], left[i], left[(i+1)%len(left)]
				if turn(a, b, c) <= 0 {
					continue
				}
				free := true
				for k, p := range left {
					// Only a corner that turns inwards can lie in an ear; one at the place of
					// the ear's own corners is the other side of a bridge to a hole.
					if turn(left[(k+len(left)-1)%len(left)], p, left[(k+1)%len(left)]) > 0 || corners[p] == corners[a] || corners[p] == corners[b] || corners[p] == corners[c] {
						continue
					}
					if p != a && p != b && p != c && turn(a, b, p) >= 0 && turn(b, c, p) >= 0 && turn(c, a, p) >= 0 {
						free = false
						break
					}
				}
				if free {
					ear = i
					out = append(out, [3]int{a, b, c})
					break
				}
			}
			if ear < 0 {
				break
			}
			left = append(left[:ear], left[ear+1:]...)
		}
		for k := 1; k+1 < len(left); k++ {
			out = append(out, [3]int{left[0], left[k], left[k+1]})
		}
		return out
	}
	for k := 1; k+1 < n; k++ {
		out = append(out, [3]int{0, k, k + 1})
	}
	return out
}
