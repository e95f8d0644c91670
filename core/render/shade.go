package render

import (
	"image"
	"math"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/ray"
)

// Shading that a rasteriser does not have: corners that little light gets into
// are darker (ambient occlusion: Zhukov, Iones and Kronin, "An ambient light
// illumination model", 1998), and what stands in the sun throws a shadow. Lines
// are followed from each pixel to what it shows, and on from there; what lets
// light through throws none.

// shade is what is known of a picture's light.
type shade struct {
	tree   *ray.Tree
	tri    []geom.Vec3 // upright, metres
	cam    *camera     // of the picture's own pixels
	w, h   int
	ground float64 // height of the ground
	onto   bool    // the ground is drawn, and takes shadows
	reach  float64 // from how far away things darken
}

// Rays of a pixel. Neighbouring pixels have others, so that a block of pixels
// together has many; side is its width.
const (
	raysAPixel = 12
	side       = 4
	directions = raysAPixel * side * side
)

// sun is where the light comes from that throws shadows: from the left, above
// and before, as the shading of surfaces has it.
var sun = geom.Vec3{-0.45, 0.75, 0.62}.Norm()

// How much light is left: where no other comes in, and in the sun's shadow.
const (
	leastAmbient = 0.32
	inShadow     = 0.68
)

// spot is what a pixel shows.
type spot struct {
	at, normal geom.Vec3
	shown      bool
	light      float32 // from all round, 0 to 1
	sunlit     bool
}

// darken multiplies a picture by the light that gets to what it shows.
func (s *shade) darken(img *image.NRGBA) {
	spots := make([]spot, s.w*s.h)
	around := ray.Sphere(directions)
	parallel.Share(s.h, 4, func(from, to int) {
		for y := from; y < to; y++ {
			for x := range s.w {
				s.look(&spots[y*s.w+x], x, y, around)
			}
		}
	})
	parallel.Share(s.h, 8, func(from, to int) {
		for y := from; y < to; y++ {
			for x := range s.w {
				p := &spots[y*s.w+x]
				o := img.PixOffset(x, y)
				if !p.shown || img.Pix[o+3] == 0 {
					continue
				}
				light := leastAmbient + (1-leastAmbient)*s.mean(spots, x, y)
				if !p.sunlit {
					light *= inShadow
				}
				for k := range 3 {
					img.Pix[o+k] = toSRGB(toLinear(img.Pix[o+k]) * light)
				}
			}
		}
	})
}

// look finds what a pixel shows, and how much light gets there.
func (s *shade) look(p *spot, x, y int, around []geom.Vec3) {
	v := geom.Vec3{(float64(x) + 0.5 - s.cam.cx) / s.cam.scale, (s.cam.cy - float64(y) - 0.5) / s.cam.scale, -1}
	along := s.cam.world(v).Norm()
	t, at := s.tree.First(s.cam.eye, along, math.Inf(1))
	switch {
	case t >= 0:
		a, b, c := s.tri[3*t], s.tri[3*t+1], s.tri[3*t+2]
		p.normal = b.Sub(a).Cross(c.Sub(a)).Norm()
		if p.normal.Dot(along) > 0 {
			p.normal = p.normal.Mul(-1)
		}
	case s.onto && along[1] < -1e-6:
		at, p.normal = (s.ground-s.cam.eye[1])/along[1], geom.Vec3{0, 1, 0}
	default:
		return
	}
	p.shown = true
	p.at = s.cam.eye.Add(along.Mul(at)).Add(p.normal.Mul(1e-4 * s.reach))
	p.sunlit = p.normal.Dot(sun) > 0 && !s.tree.Meets(p.at, sun, 1e3*s.reach)
	u := geom.Vec3{1, 0, 0} // any direction that is not the normal's own
	if math.Abs(p.normal[0]) > 0.7 {
		u = geom.Vec3{0, 1, 0}
	}
	u = u.Sub(p.normal.Mul(u.Dot(p.normal))).Norm()
	w := p.normal.Cross(u)
	free := 0
	for i := range raysAPixel {
		d := around[(i*side+y%side)*side+x%side]
		// Towards the normal more than along the surface, as a dull surface takes
		// light (Lambert): directions of a sphere about the normal's end.
		q := p.normal.Mul(1 + d[2]).Add(u.Mul(d[0])).Add(w.Mul(d[1]))
		if l := q.Len(); l > 1e-9 && !s.tree.Meets(p.at, q.Mul(1/l), s.reach) {
			free++
		}
	}
	p.light = float32(free) / raysAPixel
}

// mean is the light of a block of pixels about one, of those that show a surface
// that lies alike.
func (s *shade) mean(spots []spot, x, y int) float32 {
	here := &spots[y*s.w+x]
	sum, n := float32(0), float32(0)
	for dy := -side / 2; dy < side/2; dy++ {
		for dx := -side / 2; dx < side/2; dx++ {
			u, v := x+dx, y+dy
			if u < 0 || v < 0 || u >= s.w || v >= s.h {
				continue
			}
			p := &spots[v*s.w+u]
			if p.shown && p.normal.Dot(here.normal) > 0.9 && math.Abs(p.at.Sub(here.at).Dot(here.normal)) < 0.02*s.reach {
				sum, n = sum+p.light, n+1
			}
		}
	}
	return sum / max(n, 1)
}

// world turns a direction of the camera's into one of the world.
func (c *camera) world(v geom.Vec3) geom.Vec3 {
	m := &c.view
	return geom.Vec3{
		m[0]*v[0] + m[1]*v[1] + m[2]*v[2],
		m[4]*v[0] + m[5]*v[1] + m[6]*v[2],
		m[8]*v[0] + m[9]*v[1] + m[10]*v[2],
	}
}
