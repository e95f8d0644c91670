package receiver

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"slices"
	"sort"
)

// The figure that walks: metres.
const (
	figureHeight = 1.75
	stepHeight   = 0.45 // that it climbs
	slack        = 0.02 // between what it stands on and what is seen there
)

// world is what arrived: what is seen and what is touched, in the file's units.
type world struct {
	faces, solid []triangle
	still        []triangle // those faces that no skeleton moves
	up           int
	metres       float64
	open         map[int]bool // nodes that one must be able to pass
	colours      []vec
}

// Place is a place in metres, along the target's axes.
type Place struct {
	At  [3]float64 `json:"at"`
	Why string     `json:"why"`
}

// Walk is what the figure met.
type Walk struct {
	Places  int     `json:"places"` // where it was dropped onto something
	Stands  int     `json:"stands"`
	Falls   []Place `json:"falls"`
	Floats  []Place `json:"floats"`
	Blocked []Place `json:"blocked"`
	Spacing float64 `json:"spacing"` // metres
}

const (
	mostPlaces = 20_000
	mostTold   = 100
)

// grid holds triangles by the cells of the ground that they lie over.
type grid struct {
	lo   [2]float64
	size float64
	nx   int
	ny   int
	in   [][]int32
	tri  []triangle
	a, b int // the ground's axes
	up   int
}

func newGrid(tri []triangle, up int, size float64, lo, hi [2]float64) *grid {
	g := &grid{tri: tri, up: up, a: (up + 1) % 3, b: (up + 2) % 3, lo: lo}
	for g.split(size, hi); g.held() > mostHeld && g.nx*g.ny > 1; {
		g.split(2*g.size, hi)
	}
	g.in = make([][]int32, g.nx*g.ny)
	for i := range tri {
		x0, x1, y0, y1 := g.under(i)
		for x := x0; x <= x1; x++ {
			for y := y0; y <= y1; y++ {
				g.in[x*g.ny+y] = append(g.in[x*g.ny+y], int32(i))
			}
		}
	}
	return g
}

// mostHeld is how often triangles may stand in cells: many large ones get larger
// cells.
const mostHeld = 20_000_000

func (g *grid) split(size float64, hi [2]float64) {
	g.size = size
	g.nx, g.ny = int((hi[0]-g.lo[0])/size)+1, int((hi[1]-g.lo[1])/size)+1
}

// under are the cells that a triangle lies over.
func (g *grid) under(i int) (x0, x1, y0, y1 int) {
	lo, hi := [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	for _, p := range g.tri[i].at {
		lo[0], hi[0] = math.Min(lo[0], p[g.a]), math.Max(hi[0], p[g.a])
		lo[1], hi[1] = math.Min(lo[1], p[g.b]), math.Max(hi[1], p[g.b])
	}
	return g.cell(lo[0], 0), g.cell(hi[0], 0), g.cell(lo[1], 1), g.cell(hi[1], 1)
}

func (g *grid) held() (n int) {
	for i := range g.tri {
		x0, x1, y0, y1 := g.under(i)
		n += (x1 - x0 + 1) * (y1 - y0 + 1)
	}
	return n
}

func (g *grid) cell(v float64, k int) int {
	n := []int{g.nx, g.ny}[k]
	return min(max(int((v-g.lo[k])/g.size), 0), n-1)
}

// hit is where a vertical line meets a face.
type hit struct {
	height float64
	floor  bool // the face looks up
	node   int
}

// over lists the faces over and under a place of the ground, from below.
func (g *grid) over(x, y float64) (out []hit) {
	for _, i := range g.in[g.cell(x, 0)*g.ny+g.cell(y, 1)] {
		t := &g.tri[i]
		p, q, r := t.at[0], t.at[1], t.at[2]
		d := (q[g.b]-r[g.b])*(p[g.a]-r[g.a]) + (r[g.a]-q[g.a])*(p[g.b]-r[g.b])
		if d == 0 {
			continue
		}
		u := ((q[g.b]-r[g.b])*(x-r[g.a]) + (r[g.a]-q[g.a])*(y-r[g.b])) / d
		v := ((r[g.b]-p[g.b])*(x-r[g.a]) + (p[g.a]-r[g.a])*(y-r[g.b])) / d
		if u < 0 || v < 0 || u+v > 1 {
			continue
		}
		n := q.sub(p).cross(r.sub(p))
		out = append(out, hit{u*p[g.up] + v*q[g.up] + (1-u-v)*r[g.up], n[g.up] > 0.5*n.len(), t.node})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].height < out[j].height })
	// On an edge both of its faces are met.
	return slices.CompactFunc(out, func(a, b hit) bool {
		return b.height-a.height < 1e-6 &&
			a.floor == b.floor && a.node == b.node
	})
}

// across tells whether faces stand between two places at a height over them.
func (g *grid) across(from, to vec, skip map[int]bool) bool {
	x0, x1 := g.cell(math.Min(from[g.a], to[g.a]), 0), g.cell(math.Max(from[g.a], to[g.a]), 0)
	y0, y1 := g.cell(math.Min(from[g.b], to[g.b]), 1), g.cell(math.Max(from[g.b], to[g.b]), 1)
	for x := x0; x <= x1; x++ {
		for y := y0; y <= y1; y++ {
			for _, i := range g.in[x*g.ny+y] {
				if t := &g.tri[i]; !skip[t.node] && crosses(from, to, t) {
					return true
				}
			}
		}
	}
	return false
}

// crosses tells whether a line from one place to another meets a triangle
// (Möller and Trumbore, "Fast, minimum storage ray/triangle intersection", 1997).
func crosses(from, to vec, t *triangle) bool {
	d := to.sub(from)
	e1, e2 := t.at[1].sub(t.at[0]), t.at[2].sub(t.at[0])
	p := d.cross(e2)
	det := e1.dot(p)
	if det == 0 {
		return false
	}
	s := from.sub(t.at[0])
	u := s.dot(p) / det
	q := s.cross(e1)
	v := d.dot(q) / det
	k := e2.dot(q) / det
	return u >= 0 && v >= 0 && u+v <= 1 && k > 0 && k < 1
}

// walk drops the figure on a grid of places and walks between them.
func (w *world) walk() *Walk {
	out := &Walk{Falls: []Place{}, Floats: []Place{}, Blocked: []Place{}}
	if len(w.still) == 0 {
		return out
	}
	a, b := (w.up+1)%3, (w.up+2)%3
	lo, hi := [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	for _, list := range [][]triangle{w.still, w.solid} {
		for i := range list {
			for _, p := range list[i].at {
				lo[0], hi[0] = math.Min(lo[0], p[a]), math.Max(hi[0], p[a])
				lo[1], hi[1] = math.Min(lo[1], p[b]), math.Max(hi[1], p[b])
			}
		}
	}
	space := 0.5 / w.metres
	for ((hi[0]-lo[0])/space+1)*((hi[1]-lo[1])/space+1) > mostPlaces {
		space *= 1.25
	}
	out.Spacing = math.Round(space*w.metres*100) / 100
	cell := math.Max(space, math.Max(hi[0]-lo[0], hi[1]-lo[1])/400)
	seen, solid := newGrid(w.still, w.up, cell, lo, hi), newGrid(w.solid, w.up, cell, lo, hi)
	last := map[int][]float64{} // floors of the row before, by column
	for ix := 0; ; ix++ {
		x := lo[0] + (float64(ix)+0.5)*space
		if x > hi[0] {
			break
		}
		row := map[int][]float64{}
		for iy := 0; ; iy++ {
			y := lo[1] + (float64(iy)+0.5)*space
			if y > hi[1] {
				break
			}
			row[iy] = w.drop(out, seen, solid, x, y)
			for _, from := range [][2]float64{{x - space, y}, {x, y - space}} {
				floors := last[iy]
				if from[0] == x {
					floors = row[iy-1]
				}
				w.pass(out, seen, solid, from, [2]float64{x, y}, floors, row[iy])
			}
		}
		last = row
	}
	return out
}

func (w *world) at(x, y, h float64) [3]float64 {
	var p [3]float64
	p[(w.up+1)%3], p[(w.up+2)%3], p[w.up] = x*w.metres, y*w.metres, h*w.metres
	return p
}

func tell(list *[]Place, p [3]float64, why string, a ...any) {
	if len(*list) < mostTold {
		*list = append(*list, Place{p, fmt.Sprintf(why, a...)})
	}
}

// floors are the faces that look up and have room for the figure above them.
func (w *world) floors(list []hit, lids []hit) (out []hit) {
	for _, h := range list {
		if !h.floor {
			continue
		}
		room := true
		for _, l := range lids {
			if l.height > h.height+stepHeight/w.metres && l.height < h.height+figureHeight/w.metres {
				room = false
			}
		}
		if room {
			out = append(out, h)
		}
	}
	return out
}

// drop puts the figure onto every floor at a place; what it returns are the
// heights at which it stands.
func (w *world) drop(out *Walk, seen, solid *grid, x, y float64) (stands []float64) {
	shown, touched := seen.over(x, y), solid.over(x, y)
	near := slack / w.metres
	for _, f := range w.floors(touched, touched) {
		off := math.Inf(1)
		for _, s := range shown {
			off = math.Min(off, math.Abs(s.height-f.height))
		}
		out.Places++
		if off > near {
			tell(&out.Floats, w.at(x, y, f.height), "stands %.2f m beside what is seen", off*w.metres)
			continue
		}
		out.Stands++
		stands = append(stands, f.height)
	}
	for _, f := range w.floors(shown, shown) {
		if w.open[f.node] {
			continue
		}
		held := false
		for _, t := range touched {
			held = held || math.Abs(t.height-f.height) <= stepHeight/w.metres
		}
		if !held {
			out.Places++
			tell(&out.Falls, w.at(x, y, f.height), "nothing to stand on")
		}
	}
	return stands
}

// pass walks between neighbouring places where a floor goes on: it must not
// meet what is not seen, nor what it is meant to pass.
func (w *world) pass(out *Walk, seen, solid *grid, from, to [2]float64, floors, next []float64) {
	for _, h := range floors {
		for _, g := range next {
			if math.Abs(h-g) > stepHeight/w.metres {
				continue
			}
			for _, over := range []float64{0.6, 1.2, 1.7} {
				p, q := vec(w.raw(from, h+over/w.metres)), vec(w.raw(to, g+over/w.metres))
				if solid.across(p, q, nil) && !seen.across(p, q, w.open) {
					tell(&out.Blocked, w.at((from[0]+to[0])/2, (from[1]+to[1])/2, h), "cannot pass at %.1f m", over)
					return
				}
			}
		}
	}
}

func (w *world) raw(at [2]float64, h float64) (p [3]float64) {
	p[(w.up+1)%3], p[(w.up+2)%3], p[w.up] = at[0], at[1], h
	return p
}

// see draws what is seen from three quarters above, with the places that were
// met as marks.
func (w *world) see(width, height int, walk *Walk) *image.NRGBA {
	img := image.NewNRGBA(image.Rect(0, 0, width, height))
	for i := 0; i < len(img.Pix); i += 4 {
		copy(img.Pix[i:], []byte{0x1f, 0x26, 0x2b, 0xff})
	}
	if len(w.faces) == 0 {
		return img
	}
	side, front, up := vec{}, vec{}, vec{}
	up[w.up], side[(w.up+1)%3], front[(w.up+2)%3] = 1, 1, 1
	s, c := math.Sincos(0.6)
	e, f := math.Sincos(0.5)
	right := side.mul(c).add(front.mul(-s))
	back := side.mul(s).add(front.mul(c))
	above := up.mul(f).add(back.mul(-e))
	towards := up.mul(e).add(back.mul(f))
	lo, hi := [2]float64{math.Inf(1), math.Inf(1)}, [2]float64{math.Inf(-1), math.Inf(-1)}
	for i := range w.faces {
		for _, p := range w.faces[i].at {
			x, y := p.dot(right), p.dot(above)
			lo[0], hi[0] = math.Min(lo[0], x), math.Max(hi[0], x)
			lo[1], hi[1] = math.Min(lo[1], y), math.Max(hi[1], y)
		}
	}
	scale := 0.9 * math.Min(float64(width)/math.Max(hi[0]-lo[0], 1e-9), float64(height)/math.Max(hi[1]-lo[1], 1e-9))
	to := func(p vec) (x, y, z float64) {
		return (p.dot(right)-(lo[0]+hi[0])/2)*scale + float64(width)/2,
			float64(height)/2 - (p.dot(above)-(lo[1]+hi[1])/2)*scale, p.dot(towards)
	}
	depth := make([]float64, width*height)
	for i := range depth {
		depth[i] = math.Inf(-1)
	}
	for i := range w.faces {
		t := &w.faces[i]
		n := t.at[1].sub(t.at[0]).cross(t.at[2].sub(t.at[0]))
		if n.len() == 0 {
			continue
		}
		light := 0.75 + 0.5*math.Abs(n.mul(1/n.len()).dot(vec(up.mul(0.8).add(right.mul(0.5)).add(towards.mul(0.33)))))
		colour := vec{0.72, 0.7, 0.66}
		if t.material >= 0 && t.material < len(w.colours) {
			colour = w.colours[t.material]
		}
		fill(img, depth, t, to, colour.mul(light))
	}
	if walk != nil {
		mark := func(list []Place, c color.NRGBA) {
			for _, p := range list {
				x, y, _ := to(vec(p.At).mul(1 / w.metres))
				for dy := -3; dy <= 3; dy++ {
					for dx := -3; dx <= 3; dx++ {
						if dx*dx+dy*dy <= 10 {
							img.SetNRGBA(int(x)+dx, int(y)+dy, c)
						}
					}
				}
			}
		}
		mark(walk.Falls, color.NRGBA{0xe0, 0x4a, 0x3a, 0xff})
		mark(walk.Floats, color.NRGBA{0xf0, 0xa8, 0x30, 0xff})
		mark(walk.Blocked, color.NRGBA{0xd0, 0x60, 0xd0, 0xff})
	}
	return img
}

func fill(img *image.NRGBA, depth []float64, t *triangle, to func(vec) (x, y, z float64), c vec) {
	var x, y, z [3]float64
	for k := range 3 {
		x[k], y[k], z[k] = to(t.at[k])
	}
	d := (y[1]-y[2])*(x[0]-x[2]) + (x[2]-x[1])*(y[0]-y[2])
	if d == 0 {
		return
	}
	w, h := img.Rect.Dx(), img.Rect.Dy()
	x0, x1 := max(int(min(x[0], x[1], x[2])), 0), min(int(max(x[0], x[1], x[2]))+1, w-1)
	y0, y1 := max(int(min(y[0], y[1], y[2])), 0), min(int(max(y[0], y[1], y[2]))+1, h-1)
	for py := y0; py <= y1; py++ {
		for px := x0; px <= x1; px++ {
			fx, fy := float64(px)+0.5, float64(py)+0.5
			u := ((y[1]-y[2])*(fx-x[2]) + (x[2]-x[1])*(fy-y[2])) / d
			v := ((y[2]-y[0])*(fx-x[2]) + (x[0]-x[2])*(fy-y[2])) / d
			if u < 0 || v < 0 || u+v > 1 {
				continue
			}
			far := u*z[0] + v*z[1] + (1-u-v)*z[2]
			if far <= depth[py*w+px] {
				continue
			}
			depth[py*w+px] = far
			img.SetNRGBA(px, py, color.NRGBA{uint8(min(c[0], 1) * 255), uint8(min(c[1], 1) * 255),
				uint8(min(c[2], 1) * 255), 255})
		}
	}
}
