package step

import (
	"context"
	"fmt"
	"image"
	"slices"
	"strings"

	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/scene"

	"golang.org/x/image/draw"
)

// ChannelsParams says what goes into the channels of a picture.
type ChannelsParams struct {
	Where
	Role    PictureRole `json:"role" jsonschema:"title=Change the picture for"`
	Order   string      `json:"order,omitempty" jsonschema:"title=Channels in the order,maxLength=4,description=bgr swaps red and blue; 0 and 1 fill; the fourth is alpha. Before the others."`
	Into    string      `json:"into,omitempty" jsonschema:"title=Into,enum=,enum=r,enum=g,enum=b,enum=a,enum=rgb" jsonschema_extras:"empty=nothing"`
	Picture string      `json:"picture,omitempty" jsonschema:"title=From the picture,description=Its name with * for any letters; empty is the picture itself"`
	From    string      `json:"from_channel" jsonschema:"title=From channel,enum=r,enum=g,enum=b,enum=a,enum=grey,enum=0,enum=1,description=grey is brightness by Rec. 709; 0 and 1 fill"`
	Invert  bool        `json:"invert" jsonschema:"title=Invert,description=For roughness from gloss or the green of normals the other way round"`
}

// Validate refuses an order of what are no channels.
func (p *ChannelsParams) Validate() error {
	if n := len(p.Order); n > 0 && (n < 3 || n > 4 || strings.Trim(p.Order, "rgba01") != "") {
		return fmt.Errorf("the order %q is not three or four of r, g, b, a, 0 and 1", p.Order)
	}
	return p.Where.Validate()
}

func (p *ChannelsParams) asks() []Ask {
	if p.Picture == "" {
		return nil
	}
	return []Ask{{Pictures: p.Picture}}
}

var _ = registerBeyond(Kind{Name: "channels", Title: "Channels", Family: Material, On: Materials, Version: 1,
	Purpose: "Put a separate opacity, gloss or mask picture into a channel, swap, invert or fill channels."},
	ChannelsParams{Role: PictureRole(scene.RoleColour), From: "r"}, channels)

func channels(ctx context.Context, s *scene.Scene, p ChannelsParams, b Beyond, r *Report) (*scene.Scene, error) {
	if p.Into == "" && p.Order == "" {
		r.Nothing("no channel is named to change")
		return s, nil
	}
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	out := *s
	h := newShelf(ctx, &out, b, r)
	role := scene.Role(p.Role)
	made := map[[2]int]int{} // of a picture and the one taken from
	var lacking []string
	var fault error
	res, err := eachMaterial(s, c, r, func(i int, m *scene.Material) bool {
		if fault == nil {
			fault = ctx.Err()
		}
		if fault != nil {
			return false
		}
		own := scene.None
		if t := m.Texture(role); t != nil && !s.Pictures[t.Picture].Missing() {
			own = t.Picture
		}
		source := own
		if p.Picture != "" {
			if source, fault = h.find(filled(p.Picture, "", m.Name)); fault != nil {
				return false
			}
		}
		if source < 0 && (own < 0 || p.From != "0" && p.From != "1") {
			lacking = append(lacking, m.Name)
			return false
		}
		key := [2]int{own, source}
		at, ok := made[key]
		if !ok {
			if at, fault = p.make(h, own, source, role); fault != nil {
				return false
			}
			made[key] = at
		}
		if at == own {
			return false
		}
		return bind(m, role, at, -1)
	})
	if fault != nil {
		return nil, fault
	}
	if err != nil {
		return nil, err
	}
	if len(lacking) > 0 {
		r.Say("no picture to take from: %s", named(lacking))
	}
	h.tell(r)
	if r.Idle {
		return s, nil
	}
	if p.Into == "a" && role == scene.RoleColour && slices.ContainsFunc(res.Materials, func(m scene.Material) bool {
		return m.Alpha == scene.Opaque && m.Texture(role) != nil && m.Texture(role).Picture >= len(s.Pictures)
	}) {
		r.Say("alpha is in the pictures now; the step alpha makes materials use it")
	}
	both := *res
	both.Pictures = out.Pictures
	return h.swept(&both, s), nil
}

// make is the picture that comes of one and what is taken from another, or the
// one itself if nothing changes.
func (p *ChannelsParams) make(h *shelf, own, source int, role scene.Role) (int, error) {
	var img, from *image.NRGBA
	var err error
	name := ""
	if own >= 0 {
		if img, err = pixels(&h.out.Pictures[own]); err != nil {
			return 0, err
		}
		name = h.out.Pictures[own].Name
	}
	if from = img; source >= 0 && source != own {
		if from, err = pixels(&h.out.Pictures[source]); err != nil {
			return 0, err
		}
		if name == "" {
			name = h.out.Pictures[source].Name
		}
	}
	if img == nil { // white where nothing says otherwise
		img = image.NewNRGBA(from.Rect)
		for i := range img.Pix {
			img.Pix[i] = 255
		}
		name = strings.ReplaceAll(string(role), " ", "_") + "_" + name
	}
	if w, h := max(img.Rect.Dx(), from.Rect.Dx()), max(img.Rect.Dy(), from.Rect.Dy()); w*h > limit.Texels {
		return 0, fmt.Errorf("%s with the other picture's channel would be of %d x %d texels; make one of them smaller first",
			name, w, h)
	}
	img, from = sameSize(img, from)
	was := slices.Clone(img.Pix)
	if p.Order != "" {
		reorder(img, p.Order)
	}
	if p.Into != "" {
		p.put(img, from)
	}
	if own >= 0 && slices.Equal(was, img.Pix) {
		return own, nil
	}
	return h.add(img, name)
}

// sameSize makes the smaller picture as large as the larger one, and both our own.
func sameSize(a, b *image.NRGBA) (*image.NRGBA, *image.NRGBA) {
	w, h := max(a.Rect.Dx(), b.Rect.Dx()), max(a.Rect.Dy(), b.Rect.Dy())
	grown := func(x *image.NRGBA) *image.NRGBA {
		out := image.NewNRGBA(image.Rect(0, 0, w, h))
		if x.Rect.Dx() == w && x.Rect.Dy() == h {
			copy(out.Pix, x.Pix) // pixels are stored without gaps
			return out
		}
		// Channels by themselves: what is under clear alpha is a value too.
		pixel.Planes(out, x, func(dst, src *image.Gray) { draw.BiLinear.Scale(dst, dst.Rect, src, src.Rect, draw.Src, nil) })
		return out
	}
	ga := grown(a)
	if a == b {
		return ga, ga
	}
	return ga, grown(b)
}

func reorder(img *image.NRGBA, order string) {
	pick := func(p []uint8, c byte) uint8 {
		switch c {
		case '0':
			return 0
		case '1':
			return 255
		}
		return p[strings.IndexByte("rgba", c)]
	}
	for i := 0; i < len(img.Pix); i += 4 {
		p := [4]uint8(img.Pix[i : i+4])
		for k := range len(order) {
			img.Pix[i+k] = pick(p[:], order[k])
		}
	}
}

// put writes the channel that is asked for.
func (p *ChannelsParams) put(img, from *image.NRGBA) {
	value := func(t []uint8) uint8 {
		switch p.From {
		case "0":
			return 0
		case "1":
			return 255
		case "grey": // ITU-R BT.709, section 3.2, on the stored values
			return uint8((2126*uint32(t[0]) + 7152*uint32(t[1]) + 722*uint32(t[2]) + 5000) / 10000)
		}
		return t[strings.IndexByte("rgba", p.From[0])]
	}
	for i := 0; i < len(img.Pix); i += 4 {
		v := value(from.Pix[i : i+4])
		if p.Invert {
			v = 255 - v
		}
		if p.Into == "rgb" {
			img.Pix[i], img.Pix[i+1], img.Pix[i+2] = v, v, v
			continue
		}
		img.Pix[i+strings.IndexByte("rgba", p.Into[0])] = v
	}
}
