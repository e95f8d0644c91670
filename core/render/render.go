// Package render is a software rasteriser: it draws a scene to a picture
// without a GPU, for thumbnails, for bands and for the command line.
//
// The scene is drawn upright, in metres, as its basis declares; what the
// basis leaves open is taken as glTF's. The camera frames the asset by
// itself, however large or small.
package render

import (
	"image"
	"image/color"
	"math"
	"runtime"
	"sync"

	"excavate/core/geom"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// Options of Draw.
type Options struct {
	Width, Height int
	Background    color.NRGBA
	Figure        bool    // draw the scale figure, 1.75 m, beside the asset
	Ground        bool    // draw ground lines
	Turn          float64 // degrees about the up axis, from three quarters front
	Samples       int     // samples along each side of a pixel; 0 is 2
}

// Paper is the default background.
var Paper = color.NRGBA{0xef, 0xe9, 0xdc, 0xff}

type vertex struct {
	x, y, z, iw float32 // screen place, depth, 1/w
	u, v        float32
	n           [3]float32
	c           [3]float32
}

type triangle struct {
	a, b, c  int32
	material int32
	level    int8
}

type texture struct {
	levels       []*image.NRGBA
	wrapU, wrapV scene.Wrap
	hasTexture   bool
	colour       [4]float32
	alpha        scene.AlphaMode
	cutoff       float32
	unlit        bool
	flat         bool // no lighting at all: figure and ground
}

type job struct {
	verts []vertex
	tris  []triangle
	mats  []texture
}

// Draw draws the scene at rest.
func Draw(s *scene.Scene, o Options) *image.NRGBA {
	if o.Samples <= 0 {
		o.Samples = 2
	}
	o.Width, o.Height = min(max(o.Width, 1), 8192), min(max(o.Height, 1), 8192)
	up := *s
	up.Basis = s.Basis.Or(geom.GLTF)
	// Only the map of world space is needed, not a scene in the other basis.
	change, err := geom.ChangeBasis(up.Basis, geom.GLTF)
	if err != nil { // a basis that mixes known and assumed axes badly
		change, _ = geom.ChangeBasis(geom.GLTF, geom.GLTF)
	}
	w, h := o.Width*o.Samples, o.Height*o.Samples
	j := &job{}
	box := geom.EmptyBox()
	world := s.World()
	type placed struct {
		pos, nrm []float32
		part     *scene.Part
	}
	var parts []placed
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		m := &s.Meshes[s.Nodes[i].Mesh]
		for k := range m.Parts {
			pos, nrm := s.Posed(i, &m.Parts[k], world)
			for v := 0; v+2 < len(pos); v += 3 {
				p := change.Point(geom.Vec3{float64(pos[v]), float64(pos[v+1]), float64(pos[v+2])})
				box.Add(p)
				pos[v], pos[v+1], pos[v+2] = float32(p[0]), float32(p[1]), float32(p[2])
				if nrm != nil {
					q := change.Dir(geom.Vec3{float64(nrm[v]), float64(nrm[v+1]), float64(nrm[v+2])})
					nrm[v], nrm[v+1], nrm[v+2] = float32(q[0]), float32(q[1]), float32(q[2])
				}
			}
			parts = append(parts, placed{pos, nrm, &m.Parts[k]})
		}
	}
	if box.Empty() {
		box = geom.Box{Min: geom.Vec3{-0.5, 0, -0.5}, Max: geom.Vec3{0.5, 1, 0.5}}
	}
	frame := box
	figureAt := geom.Vec3{}
	if o.Figure {
		figureAt = geom.Vec3{box.Min[0] - 0.55, box.Min[1], box.Centre()[2]}
		frame.Add(figureAt.Add(geom.Vec3{-0.35, 0, 0}))
		frame.Add(figureAt.Add(geom.Vec3{0.35, FigureHeight, 0}))
	}
	cam := newCamera(frame, w, h, o.Turn)

	j.materials(s)
	plainMat := int32(len(j.mats))
	j.mats = append(j.mats, texture{colour: [4]float32{0.55, 0.53, 0.49, 1}, alpha: scene.Opaque},
		texture{colour: [4]float32{0.52, 0.49, 0.41, 1}, alpha: scene.Opaque, flat: true})
	for _, p := range parts {
		j.part(p.pos, p.nrm, p.part, cam, plainMat, change.Flip)
	}
	if o.Figure {
		j.figure(figureAt, cam, plainMat+1)
	}

	pix := make([]float32, 4*w*h)
	bg := [3]float32{toLinear(o.Background.R), toLinear(o.Background.G), toLinear(o.Background.B)}
	bgA := float32(o.Background.A) / 255
	for i := 0; i < len(pix); i += 4 {
		pix[i], pix[i+1], pix[i+2], pix[i+3] = bg[0], bg[1], bg[2], bgA
	}
	depth := make([]float32, w*h)
	if o.Ground {
		drawGround(pix, w, h, cam, box.Min[1], frame)
	}
	// Each core draws its own rows.
	n := max(1, min(runtime.GOMAXPROCS(0), h/16))
	var wg sync.WaitGroup
	for k := 0; k < n; k++ {
		y0, y1 := h*k/n, h*(k+1)/n
		wg.Go(func() { j.rows(pix, depth, w, y0, y1) })
	}
	wg.Wait()
	return resolve(pix, w, h, o.Samples)
}

type camera struct {
	view   geom.Mat4
	scale  float64 // focal length in pixels
	cx, cy float64
	eye    geom.Vec3
	near   float64
}

// newCamera looks at the box from three quarters front, slightly above, from
// as far as it takes to see all corners.
func newCamera(box geom.Box, w, h int, turn float64) *camera {
	yaw := (-32 + turn) * math.Pi / 180
	pitch := 14 * math.Pi / 180
	// dir points from the target to the eye.
	dir := geom.Vec3{math.Sin(yaw) * math.Cos(pitch), math.Sin(pitch), math.Cos(yaw) * math.Cos(pitch)}
	right := geom.Vec3{0, 1, 0}.Cross(dir).Norm()
	up := dir.Cross(right)
	const fov = 28 * math.Pi / 180
	f := 1 / math.Tan(fov/2)
	aspect := float64(w) / float64(h)
	centre := box.Centre()
	dist := 0.0
	for i := 0; i < 8; i++ {
		p := box.Min
		for k := 0; k < 3; k++ {
			if i>>k&1 == 1 {
				p[k] = box.Max[k]
			}
		}
		d := p.Sub(centre)
		x, y, z := math.Abs(d.Dot(right)), math.Abs(d.Dot(up)), d.Dot(dir)
		dist = math.Max(dist, z+math.Max(y*f, x*f/aspect)*1.06)
	}
	if dist == 0 || math.IsNaN(dist) || math.IsInf(dist, 0) {
		dist = 1
	}
	eye := centre.Add(dir.Mul(dist))
	v := geom.Mat4{right[0], up[0], dir[0], 0, right[1], up[1], dir[1], 0, right[2], up[2], dir[2], 0,
		-right.Dot(eye), -up.Dot(eye), -dir.Dot(eye), 1}
	return &camera{view: v, scale: f * float64(h) / 2, cx: float64(w) / 2, cy: float64(h) / 2, eye: eye, near: dist * 1e-3}
}

// project returns the screen place, 1/w as depth (larger is nearer), and
// whether the point lies before the eye.
func (c *camera) project(p geom.Vec3) (x, y, iw float32, ok bool) {
	q := c.view.Point(p)
	d := -q[2]
	if d < c.near {
		return 0, 0, 0, false
	}
	return float32(c.cx + q[0]/d*c.scale), float32(c.cy - q[1]/d*c.scale), float32(1 / d), true
}

func (j *job) materials(s *scene.Scene) {
	cache := map[int][]*image.NRGBA{}
	for i := range s.Materials {
		m := &s.Materials[i]
		t := texture{colour: m.BaseColour, alpha: m.Alpha, cutoff: m.Cutoff, unlit: m.Unlit}
		if tx := m.Texture(scene.RoleColour); tx != nil {
			t.wrapU, t.wrapV = tx.WrapU, tx.WrapV
			levels, ok := cache[tx.Picture]
			if !ok {
				levels = mips(&s.Pictures[tx.Picture])
				cache[tx.Picture] = levels
			}
			t.levels, t.hasTexture = levels, len(levels) > 0
			if !t.hasTexture { // a missing picture is shown as plain clay
				t.colour = [4]float32{0.36, 0.33, 0.28, 1}
				t.alpha = scene.Opaque
			}
		}
		j.mats = append(j.mats, t)
	}
}

// mips decodes a picture and halves it down to one texel.
func mips(p *scene.Picture) []*image.NRGBA {
	if p.Missing() {
		return nil
	}
	img, err := pixel.DecodePicture(p.Data, p.MIME)
	if err != nil {
		return nil
	}
	base := pixel.ToNRGBA(img)
	levels := []*image.NRGBA{base}
	for base.Rect.Dx() > 1 && base.Rect.Dy() > 1 {
		w, h := base.Rect.Dx()/2, base.Rect.Dy()/2
		next := image.NewNRGBA(image.Rect(0, 0, w, h))
		for y := 0; y < h; y++ {
			for x := 0; x < w; x++ {
				a, b := base.PixOffset(2*x, 2*y), base.PixOffset(2*x, 2*y+1)
				o := next.PixOffset(x, y)
				for k := 0; k < 4; k++ {
					next.Pix[o+k] = byte((int(base.Pix[a+k]) + int(base.Pix[a+4+k]) + int(base.Pix[b+k]) + int(base.Pix[b+4+k]) + 2) / 4)
				}
			}
		}
		levels = append(levels, next)
		base = next
	}
	return levels
}

func (j *job) part(pos, nrm []float32, p *scene.Part, cam *camera, plain int32, flip bool) {
	n := len(pos) / 3
	first := int32(len(j.verts))
	mat := plain
	var uv []float32
	if p.Material >= 0 {
		mat = int32(p.Material)
	}
	if len(p.UVs) > 0 {
		uv = p.UVs[0].Data
	}
	var colours []float32
	if len(p.Colours) > 0 {
		colours = p.Colours[0].Data
	}
	visible := make([]bool, n)
	for v := 0; v < n; v++ {
		var out vertex
		out.x, out.y, out.iw, visible[v] = cam.project(geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])})
		if nrm != nil {
			copy(out.n[:], nrm[3*v:])
		}
		if uv != nil {
			out.u, out.v = uv[2*v], uv[2*v+1]
		}
		out.c = [3]float32{1, 1, 1}
		if colours != nil {
			copy(out.c[:], colours[4*v:4*v+3])
		}
		j.verts = append(j.verts, out)
	}
	for i := 0; i+2 < len(p.Triangles); i += 3 {
		a, b, c := p.Triangles[i], p.Triangles[i+1], p.Triangles[i+2]
		if !visible[a] || !visible[b] || !visible[c] {
			continue
		}
		if nrm == nil { // flat shading needs corners of its own
			at := func(v uint32) geom.Vec3 {
				return geom.Vec3{float64(pos[3*v]), float64(pos[3*v+1]), float64(pos[3*v+2])}
			}
			f := at(b).Sub(at(a)).Cross(at(c).Sub(at(a))).Norm()
			if flip {
				f = f.Mul(-1)
			}
			k := int32(len(j.verts))
			for _, v := range []uint32{a, b, c} {
				x := j.verts[first+int32(v)]
				x.n = [3]float32{float32(f[0]), float32(f[1]), float32(f[2])}
				j.verts = append(j.verts, x)
			}
			j.add(k, k+1, k+2, mat)
			continue
		}
		j.add(first+int32(a), first+int32(b), first+int32(c), mat)
	}
}

// add queues a triangle with the picture level that fits its size on screen.
func (j *job) add(a, b, c, mat int32) {
	t := triangle{a: a, b: b, c: c, material: mat}
	if m := &j.mats[mat]; m.hasTexture {
		va, vb, vc := &j.verts[a], &j.verts[b], &j.verts[c]
		screen := math.Abs(float64((vb.x-va.x)*(vc.y-va.y) - (vc.x-va.x)*(vb.y-va.y)))
		tex := math.Abs(float64((vb.u-va.u)*(vc.v-va.v)-(vc.u-va.u)*(vb.v-va.v))) * float64(m.levels[0].Rect.Dx()) * float64(m.levels[0].Rect.Dy())
		if screen > 0 && tex > screen {
			t.level = int8(min(math.Round(0.5*math.Log2(tex/screen)), float64(len(m.levels)-1)))
		}
	}
	j.tris = append(j.tris, t)
}

// rows draws what falls into the rows y0 to y1: solid surfaces first, then
// those that let light through, from far to near as they come.
func (j *job) rows(pix, depth []float32, w, y0, y1 int) {
	for pass := 0; pass < 2; pass++ {
		for i := range j.tris {
			t := &j.tris[i]
			if blend := j.mats[t.material].alpha == scene.Blend; blend == (pass == 1) {
				j.fill(t, pix, depth, w, y0, y1)
			}
		}
	}
}

var light = geom.Vec3{-0.45, 0.75, 0.62}.Norm()

func (j *job) fill(t *triangle, pix, depth []float32, w, y0, y1 int) {
	a, b, c := &j.verts[t.a], &j.verts[t.b], &j.verts[t.c]
	minY, maxY := min(a.y, b.y, c.y), max(a.y, b.y, c.y)
	if maxY < float32(y0) || minY >= float32(y1) {
		return
	}
	minX, maxX := min(a.x, b.x, c.x), max(a.x, b.x, c.x)
	xs, xe := max(0, int(minX)), min(w-1, int(maxX)+1)
	ys, ye := max(y0, int(minY)), min(y1-1, int(maxY)+1)
	area := (b.x-a.x)*(c.y-a.y) - (c.x-a.x)*(b.y-a.y)
	if area == 0 || area != area || xs > xe {
		return
	}
	inv := 1 / area
	m := &j.mats[t.material]
	lx, ly, lz := float32(light[0]), float32(light[1]), float32(light[2])
	for y := ys; y <= ye; y++ {
		py := float32(y) + 0.5
		for x := xs; x <= xe; x++ {
			px := float32(x) + 0.5
			wb := ((px-a.x)*(c.y-a.y) - (c.x-a.x)*(py-a.y)) * inv
			wc := ((b.x-a.x)*(py-a.y) - (px-a.x)*(b.y-a.y)) * inv
			wa := 1 - wb - wc
			if wa < 0 || wb < 0 || wc < 0 {
				continue
			}
			iw := wa*a.iw + wb*b.iw + wc*c.iw
			o := y*w + x
			if iw <= depth[o] {
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
				nx, ny, nz := pa*a.n[0]+pb*b.n[0]+pc*c.n[0], pa*a.n[1]+pb*b.n[1]+pc*c.n[1], pa*a.n[2]+pb*b.n[2]+pc*c.n[2]
				if l := nx*nx + ny*ny + nz*nz; l > 0 {
					k := float32(1 / math.Sqrt(float64(l)))
					nx, ny, nz = nx*k, ny*k, nz*k
				}
				d := nx*lx + ny*ly + nz*lz
				shade := 0.42 + 0.16*ny + 0.75*max(d, 0)
				r, g, bl = r*shade, g*shade, bl*shade
			}
			q := pix[4*o : 4*o+4]
			if m.alpha == scene.Blend && al < 1 {
				q[0], q[1], q[2] = q[0]+(r-q[0])*al, q[1]+(g-q[1])*al, q[2]+(bl-q[2])*al
				q[3] = max(q[3], al)
				continue
			}
			q[0], q[1], q[2], q[3] = r, g, bl, 1
			depth[o] = iw
		}
	}
}

func (m *texture) sample(u, v float32, level int) (r, g, b, a float32) {
	img := m.levels[level]
	w, h := img.Rect.Dx(), img.Rect.Dy()
	x, y := place(u, w, m.wrapU), place(v, h, m.wrapV)
	p := img.Pix[y*img.Stride+4*x:]
	return linear[p[0]], linear[p[1]], linear[p[2]], float32(p[3]) / 255
}

func place(u float32, n int, wrap scene.Wrap) int {
	switch wrap {
	case scene.Clamp:
		u = min(max(u, 0), 1)
	case scene.Mirror:
		k := float32(math.Floor(float64(u)))
		u -= k
		if int64(k)&1 != 0 {
			u = 1 - u
		}
	default:
		u -= float32(math.Floor(float64(u)))
	}
	i := int(u * float32(n))
	return min(max(i, 0), n-1)
}

// The sRGB transfer function, IEC 61966-2-1.
var linear = func() (t [256]float32) {
	for i := range t {
		c := float64(i) / 255
		if c <= 0.04045 {
			t[i] = float32(c / 12.92)
		} else {
			t[i] = float32(math.Pow((c+0.055)/1.055, 2.4))
		}
	}
	return t
}()

func toLinear(b uint8) float32 { return linear[b] }

var srgb = func() (t [4097]uint8) {
	for i := range t {
		c := float64(i) / 4096
		if c <= 0.0031308 {
			c *= 12.92
		} else {
			c = 1.055*math.Pow(c, 1/2.4) - 0.055
		}
		t[i] = uint8(math.Round(c * 255))
	}
	return t
}()

func toSRGB(f float32) uint8 { return srgb[int(min(max(f, 0), 1)*4096)] }

func resolve(pix []float32, w, h, samples int) *image.NRGBA {
	ow, oh := w/samples, h/samples
	img := image.NewNRGBA(image.Rect(0, 0, ow, oh))
	k := 1 / float32(samples*samples)
	for y := 0; y < oh; y++ {
		for x := 0; x < ow; x++ {
			var s [4]float32
			for dy := 0; dy < samples; dy++ {
				row := pix[4*((y*samples+dy)*w+x*samples):]
				for dx := 0; dx < samples; dx++ {
					a := row[4*dx+3] // what is clear has no colour to share
					s[0], s[1], s[2], s[3] = s[0]+row[4*dx]*a, s[1]+row[4*dx+1]*a, s[2]+row[4*dx+2]*a, s[3]+a
				}
			}
			if s[3] == 0 {
				continue
			}
			o := img.PixOffset(x, y)
			img.Pix[o], img.Pix[o+1], img.Pix[o+2] = toSRGB(s[0]/s[3]), toSRGB(s[1]/s[3]), toSRGB(s[2]/s[3])
			img.Pix[o+3] = uint8(min(max(s[3]*k, 0), 1)*255 + 0.5)
		}
	}
	return img
}
