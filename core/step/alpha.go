package step

import (
	"context"
	"fmt"
	"image"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// AlphaParams says what alpha does.
type AlphaParams struct {
	Where
	Mode      string  `json:"mode" jsonschema:"title=Alpha,enum=auto,enum=opaque,enum=cutout,enum=blend,description=auto looks at the alpha of the colour pictures"`
	Threshold float64 `json:"threshold" jsonschema:"title=Cutout at,minimum=0,maximum=1,description=Texels below are cut out"`
}

var _ = register(Kind{Name: "alpha", Title: "Alpha mode", Family: Material, On: Materials, Version: 1,
	Purpose: "Say what the alpha of materials does: nothing, cut holes, or let shine through. Glass and foliage often lose it on the way."},
	AlphaParams{Mode: "auto", Threshold: 0.5}, alpha)

func alpha(ctx context.Context, s *scene.Scene, p AlphaParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	seen := map[int]Histogram{}
	var told [3]int
	modes := [3]scene.AlphaMode{scene.Opaque, scene.Cutout, scene.Blend}
	var fault error
	out, err := eachMaterial(s, c, r, func(_ int, m *scene.Material) bool {
		was := *m
		mode := scene.AlphaMode(p.Mode)
		if p.Mode == "auto" {
			if mode, err = AlphaOf(ctx, s, m, seen); err != nil {
				fault = err
				return false
			}
		}
		for i := range modes {
			if modes[i] == mode {
				told[i]++
			}
		}
		if m.Alpha = mode; mode == scene.Cutout {
			m.Cutoff = float32(p.Threshold)
		}
		return m.Alpha != was.Alpha || m.Cutoff != was.Cutoff
	})
	if fault != nil {
		return nil, fault
	}
	if err == nil && !r.Idle {
		for i, n := range told {
			if n > 0 {
				r.Say("%d %s", n, modes[i])
			}
		}
	}
	return out, err
}

// Histogram says how a picture's alpha is spread.
type Histogram struct {
	Solid, Clear, Between int // texels of alpha above 247, below 8, and between
}

// Mode is what the alpha was most likely drawn for. A picture that is solid
// throughout is opaque, whatever a few texels at its rim say. One that is
// nearly all solid or clear, with no more between than the edges of holes
// have, cuts out. Anything else shines through.
func (h Histogram) Mode() scene.AlphaMode {
	all := h.Solid + h.Clear + h.Between
	switch {
	case h.Clear+h.Between <= all/1000:
		return scene.Opaque
	case h.Between <= 2*min(h.Clear, h.Solid)/5:
		return scene.Cutout
	}
	return scene.Blend
}

// AlphaOf is the mode that a material's colour picture and colour call for; seen
// keeps what was looked at.
func AlphaOf(ctx context.Context, s *scene.Scene, m *scene.Material, seen map[int]Histogram) (scene.AlphaMode, error) {
	if err := ctx.Err(); err != nil {
		return "", err
	}
	if m.BaseColour[3] < 1 {
		return scene.Blend, nil
	}
	t := m.Texture(scene.RoleColour)
	if t == nil || s.Pictures[t.Picture].Missing() {
		return m.Alpha, nil // nothing tells
	}
	h, ok := seen[t.Picture]
	if !ok {
		p := &s.Pictures[t.Picture]
		img, err := decodePicture(p)
		if err != nil {
			return "", err
		}
		h = alphaHistogram(img)
		seen[t.Picture] = h
	}
	return h.Mode(), nil
}

func decodePicture(p *scene.Picture) (image.Image, error) {
	img, err := pixel.DecodePicture(p.Data, p.MIME)
	if err != nil {
		return nil, fmt.Errorf("picture %s: %w", p.Name, err)
	}
	return img, nil
}

func alphaHistogram(img image.Image) (h Histogram) {
	b := img.Bounds()
	count := func(a uint8) {
		switch {
		case a > 247:
			h.Solid++
		case a < 8:
			h.Clear++
		default:
			h.Between++
		}
	}
	if o, ok := img.(interface{ Opaque() bool }); ok && o.Opaque() {
		h.Solid = b.Dx() * b.Dy()
		return h
	}
	if n, ok := img.(*image.NRGBA); ok {
		for y := range b.Dy() {
			row := n.Pix[y*n.Stride:]
			for x := range b.Dx() {
				count(row[4*x+3])
			}
		}
		return h
	}
	for y := b.Min.Y; y < b.Max.Y; y++ {
		for x := b.Min.X; x < b.Max.X; x++ {
			_, _, _, a := img.At(x, y).RGBA()
			count(uint8(a >> 8))
		}
	}
	return h
}
