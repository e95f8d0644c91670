// Package render is a software rasteriser: it draws a scene to a picture
// without a GPU, for thumbnails, for bands and for the command line.
//
// The scene is drawn upright, in metres, as its basis declares; what the
// basis leaves open is taken as glTF's. The camera frames the asset by
// itself, however large or small.
package render

import (
	"encoding/hex"
	"fmt"
	"image"
	"image/color"
	"math"
	"strings"
	"sync"

	"excavate/core/geom"
	"excavate/core/parallel"
	"excavate/core/ray"
	"excavate/core/scene"
)

// Options of Draw.
type Options struct {
	Width, Height int
	Background    color.NRGBA
	Figure        bool    // draw the scale figure, 1.75 m, beside the asset
	Ground        bool    // draw ground lines
	Turn          float64 // degrees about the up axis, from three quarters front
	Tilt          float64 // degrees that the camera stands higher than usual, from where it looks down
	Shade         bool    // corners are darker and things throw shadows; takes seconds
	Samples       int     // samples along each side of a pixel; 0 is 2
}

// Paper is the default background.
var Paper = color.NRGBA{0xef, 0xe9, 0xdc, 0xff}

// ParseBackground reads a background: "paper", which is also the empty text,
// "none", which lets through what lies behind, or a colour as "#rrggbb".
func ParseBackground(text string) (color.NRGBA, error) {
	var c color.NRGBA
	switch text {
	case "", "paper":
		return Paper, nil
	case "none":
		return c, nil
	}
	b, err := hex.DecodeString(strings.TrimPrefix(text, "#"))
	if err != nil || len(b) != 3 || text[0] != '#' {
		return c, fmt.Errorf("%q is no background: paper, none, or a colour such as #2f3b40", text)
	}
	return color.NRGBA{b[0], b[1], b[2], 255}, nil
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
	j := newJob(w, h, o.Background)
	var pictures parallel.Group
	pictures.Go(func() { j.materials(s) }) // decoded while the surfaces are posed
	box := geom.EmptyBox()
	world := s.World()
	type placed struct {
		pos, nrm []float32
		part     *scene.Part
	}
	var parts []placed
	var mu sync.Mutex
	for i := range s.Nodes {
		if s.Nodes[i].Mesh < 0 {
			continue
		}
		m := &s.Meshes[s.Nodes[i].Mesh]
		for k := range m.Parts {
			pos, nrm := s.Posed(i, &m.Parts[k], world)
			parallel.Share(len(pos)/3, least, func(from, to int) {
				own := geom.EmptyBox()
				for v := 3 * from; v < 3*to; v += 3 {
					p := change.Point(geom.Vec3{float64(pos[v]), float64(pos[v+1]), float64(pos[v+2])})
					own.Add(p)
					pos[v], pos[v+1], pos[v+2] = float32(p[0]), float32(p[1]), float32(p[2])
					if nrm != nil {
						q := change.Dir(geom.Vec3{float64(nrm[v]), float64(nrm[v+1]), float64(nrm[v+2])})
						nrm[v], nrm[v+1], nrm[v+2] = float32(q[0]), float32(q[1]), float32(q[2])
					}
				}
				mu.Lock()
				defer mu.Unlock()
				if !own.Empty() {
					box.Add(own.Min)
					box.Add(own.Max)
				}
			})
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
	cam := newCamera(frame, w, h, o.Turn, o.Tilt)
	if o.Ground {
		drawGround(j.pix, w, h, cam, box.Min[1], frame)
	}
	pictures.Wait()
	plain := int32(len(j.mats))
	j.mats = append(j.mats, texture{colour: [4]float32{0.55, 0.53, 0.49, 1}, alpha: scene.Opaque},
		texture{colour: [4]float32{0.52, 0.49, 0.41, 1}, alpha: scene.Opaque, flat: true})
	for _, p := range parts {
		j.part(p.pos, p.nrm, p.part, cam, plain, change.Flip)
	}
	if o.Figure {
		j.figure(figureAt, cam, plain+1)
	}
	// What lets light through comes last, as it comes.
	for _, l := range j.later {
		j.rows(l.verts, [][]triangle{l.tris})
	}
	img := resolve(j.pix, w, h, o.Samples)
	if o.Shade {
		lit := &shade{cam: newCamera(frame, o.Width, o.Height, o.Turn, o.Tilt), w: o.Width, h: o.Height,
			ground: box.Min[1], onto: o.Ground && o.Background.A == 255, reach: max(box.Size().Len()/4, 1e-9)}
		for _, p := range parts {
			if p.part.Material >= 0 && s.Materials[p.part.Material].Alpha == scene.Blend {
				continue
			}
			for _, v := range p.part.Triangles {
				lit.tri = append(lit.tri, geom.At(p.pos, v))
			}
		}
		lit.tree = ray.New(lit.tri)
		lit.darken(img)
	}
	return img
}

type camera struct {
	view   geom.Mat4
	scale  float64 // focal length in pixels
	cx, cy float64
	eye    geom.Vec3
	near   float64
}

// usualPitch is how far the camera looks down, in degrees.
const usualPitch = 14

// newCamera looks at the box from three quarters front, slightly above, from
// as far as it takes to see all corners.
func newCamera(box geom.Box, w, h int, turn, tilt float64) *camera {
	yaw := (-32 + turn) * math.Pi / 180
	pitch := min(max(usualPitch+tilt, -89), 89) * math.Pi / 180
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
