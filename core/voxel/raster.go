package voxel

import (
	"context"
	"fmt"
	"math"
	"slices"
	"sync/atomic"

	"excavate/core/limit"
	"excavate/core/parallel"
)

// Through the centres of the voxels go lines along each of the three axes. Where
// a surface crosses a line is all that is asked of it. Whether a line passes a
// triangle is decided in whole numbers (1/65536 of a voxel), and a line on an
// edge belongs to one of the two triangles that share it, so that a closed
// surface is crossed as often inwards as outwards (the top-left rule; Pineda, "A
// Parallel Algorithm for Polygon Rasterization", 1988).

// fine is how many steps a voxel has in whole numbers. A side of 1,024 voxels is
// 2^26 of them, and a product of two of those fits 64 bits.
const fine = 1 << 16

// crossing is where a surface crosses a line.
type crossing struct {
	line   uint32 // u + v * lines along u
	at     float32
	colour rgb
	into   bool // towards the end of the line the inside begins
}

// rgb is a colour in sRGB, 8 bits each, red lowest.
type rgb uint32

// along are the crossings of the lines along one axis.
type along struct {
	axis   int // 0 to 2
	u, v   int // the other two, in cyclic order
	nu, nv int // lines along them
	first  []uint32
	list   []crossing // by line, and along it
}

// of is the crossings of one line.
func (a *along) of(u, v int) []crossing {
	k := v*a.nu + u
	return a.list[a.first[k]:a.first[k+1]]
}

// cross finds where triangles cross the lines along an axis. positions are in
// voxels; those that are crossed are marked.
func cross(ctx context.Context, in *Input, dims [3]int, axis int, crossed []atomic.Uint64) (*along, error) {
	a := &along{axis: axis, u: (axis + 1) % 3, v: (axis + 2) % 3}
	a.nu, a.nv = dims[a.u], dims[a.v]
	type part struct {
		list []crossing
		err  error
	}
	parts := parallel.Gather(len(in.Positions)/9, 4096, func(from, to int) (p part) {
		for t := from; t < to; t++ {
			if t&1023 == 0 && ctx.Err() != nil {
				return part{err: ctx.Err()}
			}
			before := len(p.list)
			if p.list = a.triangle(in, t, p.list); len(p.list) > before {
				crossed[t/64].Or(1 << (t % 64))
			}
			if len(p.list) > limit.Crossings {
				return part{
					err: fmt.Errorf("the surfaces cross more than %d lines: choose larger voxels", limit.Crossings),
				}
			}
		}
		return p
	})
	total := 0
	for _, p := range parts {
		if p.err != nil {
			return nil, p.err
		}
		total += len(p.list)
	}
	if total > limit.Crossings {
		return nil, fmt.Errorf("the surfaces cross more than %d lines: choose larger voxels", limit.Crossings)
	}
	a.first = make([]uint32, a.nu*a.nv+1)
	for _, p := range parts {
		for i := range p.list {
			a.first[p.list[i].line+1]++
		}
	}
	for i := range a.nu * a.nv {
		a.first[i+1] += a.first[i]
	}
	a.list = make([]crossing, total)
	next := slices.Clone(a.first)
	for _, p := range parts {
		for i := range p.list {
			k := p.list[i].line
			a.list[next[k]] = p.list[i]
			next[k]++
		}
	}
	parallel.Share(a.nu*a.nv, 4096, func(from, to int) {
		for k := from; k < to; k++ {
			if l := a.list[a.first[k]:a.first[k+1]]; len(l) > 1 {
				slices.SortStableFunc(l, func(x, y crossing) int {
					switch {
					case x.at < y.at:
						return -1
					case x.at > y.at:
						return 1
					}
					return 0
				})
			}
		}
	})
	return a, ctx.Err()
}

// triangle adds the crossings of one triangle.
func (a *along) triangle(in *Input, t int, list []crossing) []crossing {
	p := in.Positions[9*t : 9*t+9]
	var u, v [3]int64
	for k := range 3 {
		u[k] = int64(math.Round(float64(p[3*k+a.u]) * fine))
		v[k] = int64(math.Round(float64(p[3*k+a.v]) * fine))
	}
	area := (u[1]-u[0])*(v[2]-v[0]) - (u[2]-u[0])*(v[1]-v[0])
	if area == 0 {
		return list
	}
	into := area < 0 // its front looks back along the line
	order := [3]int{0, 1, 2}
	if area < 0 {
		order, area = [3]int{0, 2, 1}, -area
	}
	// The first and the last line whose centre may lie within.
	u0, u1 := lines(min(u[0], u[1], u[2]), max(u[0], u[1], u[2]), a.nu)
	v0, v1 := lines(min(v[0], v[1], v[2]), max(v[0], v[1], v[2]), a.nv)
	for j := v0; j < v1; j++ {
		cv := int64(j)*fine + fine/2
		for i := u0; i < u1; i++ {
			cu := int64(i)*fine + fine/2
			var w [3]int64
			inside := true
			for k := range 3 {
				// The edge opposite of corner order[k].
				from, to := order[(k+1)%3], order[(k+2)%3]
				du, dv := u[to]-u[from], v[to]-v[from]
				w[k] = du*(cv-v[from]) - dv*(cu-u[from])
				if w[k] < 0 || w[k] == 0 && !(dv < 0 || dv == 0 && du > 0) {
					inside = false
					break
				}
			}
			if !inside {
				continue
			}
			var share [3]float64
			at := 0.0
			for k := range 3 {
				share[order[k]] = float64(w[k]) / float64(area)
				at += share[order[k]] * float64(p[3*order[k]+a.axis])
			}
			c, there := in.colour(t, share)
			if there {
				list = append(list, crossing{uint32(j*a.nu + i), float32(at), c, into})
			}
		}
	}
	return list
}

// lines are those from first to before last whose centres lie between two
// places, of n.
func lines(low, high int64, n int) (first, last int) {
	first = int((low + fine/2 - 1) >> 16)
	last = int((high + fine/2) >> 16)
	return max(first, 0), min(last, n)
}

// span is a stretch of a line within the solid: from one crossing to another.
type span struct{ from, to crossing }

// solid are the stretches of a line in which the surfaces that it has crossed
// so far wind round it; sound is false if it never comes out again: then
// somewhere a surface is open, and the last stretch has no end.
func solid(l []crossing, spans []span) (_ []span, sound bool) {
	winding := 0
	for i := range l {
		was := winding
		if l[i].into {
			winding++
		} else {
			winding--
		}
		switch {
		case was == 0:
			spans = append(spans, span{from: l[i]})
		case winding == 0:
			spans[len(spans)-1].to = l[i]
		}
	}
	return spans, winding == 0
}

// centres are the voxels from first to before last whose centres lie within a
// span, of n.
func (s span) centres(n int) (first, last int) {
	first = int(math.Ceil(float64(s.from.at) - 0.5))
	last = int(math.Ceil(float64(s.to.at) - 0.5))
	return max(first, 0), min(last, n)
}
