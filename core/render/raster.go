package render

import (
	"image/color"
	"math"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/scene"
)

type vertex struct {
	x, y, iw float32 // screen place, 1/w; not before the eye where iw is 0
	u, v     float32
	n        [3]float32
	c        [3]float32
}

type triangle struct {
	a, b, c  int32
	material int32
	size     int32 // of the box round it, in samples
	level    int8
	own      bool // n stands for the corners' normals
	n        [3]float32
}

// deferred is what is drawn after everything else.
type deferred struct {
	verts []vertex
	tris  []triangle
}

type job struct {
	w, h       int
	pix, depth []float32 // linear RGBA; 1/w of what is nearest
	mats       []texture
	later      []deferred
	seen       int // triangles so far
	spent      int // samples that they were asked for
}

func newJob(w, h int, background color.NRGBA) *job {
	j := &job{w: w, h: h, pix: make([]float32, 4*w*h), depth: make([]float32, w*h)}
	bg := [4]float32{toLinear(background.R), toLinear(background.G), toLinear(background.B), float32(background.A) / 255}
	for i := 0; i < len(j.pix); i += 4 {
		copy(j.pix[i:], bg[:])
	}
	return j
}

// budget is how many samples are looked at before triangles are left out: then
// every second is drawn, after as many again every fourth, and so on. A picture
// of hundreds of layers is much the same, and done in seconds.
func (j *job) budget() int { return max(1<<28, 256*j.w*j.h) }

// least is how many vertices or triangles are worth a core of their own.
const least = 1 << 11

// block is how many triangles are set up before they are drawn: memory holds
// no more, however many a part has.
const block = 1 << 17

func (j *job) part(pos, nrm []float32, p *scene.Part, cam *camera, plain int32, flip bool) {
	n := len(pos) / 3
	mat := plain
	if p.Material >= 0 {
		mat = int32(p.Material)
	}
	m := &j.mats[mat]
	var uv, colours []float32
	if m.set < len(p.UVs) {
		uv = p.UVs[m.set].Data
	}
	if len(p.Colours) > 0 {
		colours = p.Colours[0].Data
	}
	verts := make([]vertex, n)
	parallel.Share(n, least, func(from, to int) {
		for v := from; v < to; v++ {
			out := &verts[v]
			var ok bool
			if out.x, out.y, out.iw, ok = cam.project(geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}); !ok {
				out.iw = 0
			}
			if nrm != nil {
				copy(out.n[:], nrm[3*v:])
			}
			if uv != nil {
				out.u, out.v = uv[2*v], uv[2*v+1]
				if m.moved != nil {
					out.u, out.v = m.moved.Apply(out.u, out.v)
				}
			}
			out.c = [3]float32{1, 1, 1}
			if colours != nil {
				copy(out.c[:], colours[4*v:4*v+3])
			}
		}
	})
	total := len(p.Triangles) / 3
	for first, count := 0, 1<<12; first < total; { // the first few tell how large they are
		count = min(count, total-first)
		every := 1 << min(j.spent/j.budget(), 20)
		lists := parallel.Gather(count, least, func(from, to int) []triangle {
			list := make([]triangle, 0, to-from)
			for i := first + from; i < first+to; i++ {
				if every > 1 && (j.seen+i)%every != 0 {
					continue
				}
				t := triangle{a: int32(p.Triangles[3*i]), b: int32(p.Triangles[3*i+1]), c: int32(p.Triangles[3*i+2]), material: mat}
				if t.size = j.covers(&verts[t.a], &verts[t.b], &verts[t.c]); t.size == 0 {
					continue
				}
				if nrm == nil {
					at := func(v int32) geom.Vec3 {
						return geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
					}
					f := at(t.b).Sub(at(t.a)).Cross(at(t.c).Sub(at(t.a))).Norm()
					if flip {
						f = f.Mul(-1)
					}
					t.own, t.n = true, [3]float32{float32(f[0]), float32(f[1]), float32(f[2])}
				}
				j.level(&t, verts)
				list = append(list, t)
			}
			return list
		})
		asked := 0
		for _, l := range lists {
			for i := range l {
				asked += int(l[i].size)
			}
		}
		j.spent += asked
		first += count
		count = min(max(1<<26/max(1, asked/count), 1<<12), block)
		if m.alpha == scene.Blend {
			for _, l := range lists {
				if len(l) > 0 {
					j.later = append(j.later, deferred{verts, l})
				}
			}
			continue
		}
		j.rows(verts, lists)
	}
	j.seen += total
	ink := [3]float32{0.03, 0.028, 0.024}
	for i := 0; i+1 < len(p.Lines); i += 2 {
		j.stroke(&verts[p.Lines[i]], &verts[p.Lines[i+1]], ink)
	}
	for _, v := range p.Points {
		j.dot(&verts[v], ink)
	}
}

// inside is the samples whose centres lie between two places.
func inside(from, to float32, n int) (first, last int) {
	return max(0, int(math.Ceil(float64(from)-0.5))), min(n-1, int(math.Floor(float64(to)-0.5)))
}

// covers is how many samples the box round a triangle has.
func (j *job) covers(a, b, c *vertex) int32 {
	if a.iw == 0 || b.iw == 0 || c.iw == 0 {
		return 0
	}
	minX, maxX := min(a.x, b.x, c.x), max(a.x, b.x, c.x)
	minY, maxY := min(a.y, b.y, c.y), max(a.y, b.y, c.y)
	if !(maxX >= 0 && minX <= float32(j.w) && maxY >= 0 && minY <= float32(j.h)) {
		return 0 // beside the picture, or not a number
	}
	xs, xe := inside(minX, maxX, j.w)
	ys, ye := inside(minY, maxY, j.h)
	return int32(min(max(0, xe-xs+1)*max(0, ye-ys+1), math.MaxInt32))
}

// level chooses the picture's level that fits a triangle's size on screen.
func (j *job) level(t *triangle, verts []vertex) {
	m := &j.mats[t.material]
	levels := m.levels
	if !m.hasTexture {
		if levels = m.glow.levels; len(levels) == 0 {
			return
		}
	}
	va, vb, vc := &verts[t.a], &verts[t.b], &verts[t.c]
	screen := math.Abs(float64((vb.x-va.x)*(vc.y-va.y) - (vc.x-va.x)*(vb.y-va.y)))
	tex := math.Abs(float64((vb.u-va.u)*(vc.v-va.v)-(vc.u-va.u)*(vb.v-va.v))) * float64(levels[0].Rect.Dx()) * float64(levels[0].Rect.Dy())
	if screen > 0 && tex > screen {
		t.level = int8(min(math.Round(0.5*math.Log2(tex/screen)), float64(len(levels)-1)))
	}
}

// rows draws triangles, in their order; each core has rows of its own.
func (j *job) rows(verts []vertex, lists [][]triangle) {
	parallel.Share(j.h, 16, func(y0, y1 int) {
		for _, l := range lists {
			for i := range l {
				j.fill(verts, &l[i], y0, y1)
			}
		}
	})
}

var light = geom.Vec3{-0.45, 0.75, 0.62}.Norm()

func (j *job) fill(verts []vertex, t *triangle, y0, y1 int) {
	a, b, c := &verts[t.a], &verts[t.b], &verts[t.c]
	ys, ye := inside(min(a.y, b.y, c.y), max(a.y, b.y, c.y), j.h)
	ys, ye = max(ys, y0), min(ye, y1-1)
	if ys > ye {
		return
	}
	xs, xe := inside(min(a.x, b.x, c.x), max(a.x, b.x, c.x), j.w)
	area := (b.x-a.x)*(c.y-a.y) - (c.x-a.x)*(b.y-a.y)
	if area == 0 || area != area || xs > xe {
		return
	}
	inv := 1 / area
	m := &j.mats[t.material]
	lx, ly, lz := float32(light[0]), float32(light[1]), float32(light[2])
	stepB, stepC := (c.y-a.y)*inv, -(b.y-a.y)*inv // of the shares, a sample to the right
	for y := ys; y <= ye; y++ {
		px, py := float32(xs)+0.5, float32(y)+0.5
		rowB := ((px-a.x)*(c.y-a.y) - (c.x-a.x)*(py-a.y)) * inv
		rowC := ((b.x-a.x)*(py-a.y) - (px-a.x)*(b.y-a.y)) * inv
		for x := xs; x <= xe; x++ {
			k := float32(x - xs)
			wb, wc := rowB+k*stepB, rowC+k*stepC
			wa := 1 - wb - wc
			if wa < 0 || wb < 0 || wc < 0 {
				continue
			}
			iw := wa*a.iw + wb*b.iw + wc*c.iw
			o := y*j.w + x
			if iw <= j.depth[o] {
				continue
			}
			// Perspective-correct shares.
			pa, pb, pc := wa*a.iw/iw, wb*b.iw/iw, wc*c.iw/iw
			r, g, bl, al := m.colour[0], m.colour[1], m.colour[2], m.colour[3]
			if m.hasTexture {
				tr, tg, tb, ta := m.sample(pa*a.u+pb*b.u+pc*c.u, pa*a.v+pb*b.v+pc*c.v, int(t.level))
				r, g, bl, al = r*tr, g*tg, bl*tb, al*ta
			}
			if m.alpha == scene.Cutout && al < m.cutoff {
				continue
			}
			if !m.flat {
				r, g, bl = r*(pa*a.c[0]+pb*b.c[0]+pc*c.c[0]), g*(pa*a.c[1]+pb*b.c[1]+pc*c.c[1]), bl*(pa*a.c[2]+pb*b.c[2]+pc*c.c[2])
			}
			if !m.unlit && !m.flat {
				nx, ny, nz := t.n[0], t.n[1], t.n[2]
				if !t.own {
					nx, ny, nz = pa*a.n[0]+pb*b.n[0]+pc*c.n[0], pa*a.n[1]+pb*b.n[1]+pc*c.n[1], pa*a.n[2]+pb*b.n[2]+pc*c.n[2]
					if l := nx*nx + ny*ny + nz*nz; l > 0 {
						k := float32(1 / math.Sqrt(float64(l)))
						nx, ny, nz = nx*k, ny*k, nz*k
					}
				}
				d := nx*lx + ny*ly + nz*lz
				shade := 0.42 + 0.16*ny + 0.75*max(d, 0)
				r, g, bl = r*shade, g*shade, bl*shade
			}
			if m.emits {
				e := m.emission
				if n := len(m.glow.levels); n > 0 {
					er, eg, eb, _ := m.glow.sample(pa*a.u+pb*b.u+pc*c.u, pa*a.v+pb*b.v+pc*c.v, min(max(int(t.level)+m.shift, 0), n-1))
					e = [3]float32{e[0] * er, e[1] * eg, e[2] * eb}
				}
				r, g, bl = r+e[0], g+e[1], bl+e[2]
			}
			q := j.pix[4*o : 4*o+4]
			if m.alpha == scene.Blend && al < 1 {
				q[0], q[1], q[2] = q[0]+(r-q[0])*al, q[1]+(g-q[1])*al, q[2]+(bl-q[2])*al
				q[3] = max(q[3], al)
				continue
			}
			q[0], q[1], q[2], q[3] = r, g, bl, 1
			j.depth[o] = iw
		}
	}
}

// put draws one sample, slightly nearer than surfaces of the same depth.
func (j *job) put(x, y int, iw float32, c [3]float32) {
	if x < 0 || y < 0 || x >= j.w || y >= j.h {
		return
	}
	o := y*j.w + x
	if iw *= 1.0005; iw < j.depth[o] {
		return
	}
	j.depth[o] = iw
	q := j.pix[4*o : 4*o+4]
	q[0], q[1], q[2], q[3] = c[0], c[1], c[2], 1
}

// dot draws a point as a square of three samples.
func (j *job) dot(v *vertex, ink [3]float32) {
	if v.iw == 0 || !(v.x > -4 && v.y > -4 && v.x < float32(j.w+4) && v.y < float32(j.h+4)) {
		return
	}
	c := ink
	if v.c != [3]float32{1, 1, 1} {
		c = v.c
	}
	for dy := -1; dy <= 1; dy++ {
		for dx := -1; dx <= 1; dx++ {
			j.put(int(v.x)+dx, int(v.y)+dy, v.iw, c)
		}
	}
}

// stroke draws a line two samples wide.
func (j *job) stroke(a, b *vertex, ink [3]float32) {
	if a.iw == 0 || b.iw == 0 {
		return
	}
	n := float64(max(b.x-a.x, a.x-b.x, b.y-a.y, a.y-b.y))
	if !(n < float64(4*(j.w+j.h))) {
		return
	}
	for i, steps := 0, int(n)+1; i <= steps; i++ {
		f := float32(i) / float32(steps)
		x, y, iw := int(a.x+(b.x-a.x)*f), int(a.y+(b.y-a.y)*f), a.iw+(b.iw-a.iw)*f
		j.put(x, y, iw, ink)
		j.put(x+1, y, iw, ink)
		j.put(x, y+1, iw, ink)
	}
}
