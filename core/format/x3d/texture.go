package x3d

import (
	"fmt"
	"image"
	"image/color"

	"excavate/core/format"
	"excavate/core/limit"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// textureField is a field of a material that holds a texture (ISO/IEC
// 19775-1:2023, clause 12.4).
type textureField struct {
	name string
	role scene.Role // empty for what a scene has no place for
}

var textureFields = []textureField{{"baseTexture", scene.RoleColour}, {"diffuseTexture", scene.RoleColour}, {"metallicRoughnessTexture", scene.RoleMetalRgh}, {"normalTexture", scene.RoleNormal},
	{"occlusionTexture", scene.RoleOcclusion}, {"emissiveTexture", scene.RoleEmission}, {"ambientTexture", ""}, {"specularTexture", ""}, {"shininessTexture", ""}}

// within is the node of a field; in XML the one that names the field.
func (n *node) within(field string) *node {
	if v := n.fields[field]; v != nil && len(v.nodes) > 0 {
		return v.nodes[0]
	}
	for _, k := range n.kids {
		if k.text("containerField") == field {
			return k
		}
	}
	return nil
}

// textures gives a material the textures of an appearance and of its material.
func (b *builder) textures(m *scene.Material, a, mat *node) {
	add := func(t *node, role scene.Role) (name string) {
		k, name, ok := b.picture(t)
		if !ok {
			b.Lose("a node of the kind %s was left out", t.typ)
			return ""
		}
		x := scene.Texture{Role: role, Picture: k, Scale: 1}
		if !t.flag("repeatS", true) {
			x.WrapU = scene.Clamp
		}
		if !t.flag("repeatT", true) {
			x.WrapV = scene.Clamp
		}
		if mat != nil && role == scene.RoleNormal {
			x.Scale = float32(mat.num("normalScale", 1))
		}
		if mat != nil && role == scene.RoleOcclusion {
			x.Scale = float32(mat.num("occlusionStrength", 1))
		}
		m.Textures = append(m.Textures, x)
		return name
	}
	if mat != nil {
		for _, f := range textureFields {
			t := mat.within(f.name)
			if t == nil {
				continue
			}
			role := f.role
			if mat.typ == "UnlitMaterial" && f.name == "emissiveTexture" {
				role = scene.RoleColour
			}
			if role == "" || m.Texture(role) != nil {
				b.Lose("a texture in %s was left out", f.name)
				continue
			}
			add(t, role)
		}
	}
	// An appearance's own is in the place of the material's colour, if that has none.
	t := a.child("texture", "ImageTexture", "PixelTexture", "MovieTexture", "MultiTexture")
	if t == nil {
		return
	}
	if m.Texture(scene.RoleColour) != nil {
		b.Lose("a texture beside a material's own was left out")
		return
	}
	name := add(t, scene.RoleColour)
	if name == "" {
		return
	}
	if mat != nil && mat.typ == "Material" { // a picture in colour takes the place of the diffuse colour
		m.BaseColour[0], m.BaseColour[1], m.BaseColour[2] = 1, 1, 1
	}
	if m.Name == "" {
		m.Name = name
	}
}

// picture is the number of a texture's picture; ok is false for what is none.
// One that several use is made once.
func (b *builder) picture(t *node) (k int, name string, ok bool) {
	key, url := any(t), ""
	switch t.typ {
	case "ImageTexture":
		if url = t.text("url"); url == "" {
			return 0, "", false
		}
		key = url
	case "PixelTexture":
	default:
		return 0, "", false
	}
	if k, ok = b.pictures[key]; ok {
		return k, b.s.Pictures[k].Name, true
	}
	k = len(b.s.Pictures)
	p := scene.Picture{Name: t.def}
	if p.Name == "" {
		p.Name = fmt.Sprintf("picture %d", k+1)
	}
	data, inside, err := format.DataURI(url)
	switch {
	case inside:
		b.take(&p, data, err)
	case url != "":
		p.Name, p.Ref = base(url), url
	default:
		img, err := pixels(t.nums("image"))
		if err == nil {
			data, err = pixel.PNG(img)
		}
		b.take(&p, data, err)
	}
	b.pictures[key] = k
	b.s.Pictures = append(b.s.Pictures, p)
	return k, p.Name, true
}

// take puts a picture's bytes into it, or says why there are none.
func (b *builder) take(p *scene.Picture, data []byte, err error) {
	if err == nil {
		p.Data, p.MIME, _, p.Width, p.Height, err = pixel.Encoded(data)
	}
	if err != nil {
		p.Data, p.Looked = nil, []string{err.Error()}
		return
	}
	p.Found = "inside the file"
}

// pixels makes a picture of an SFImage: width, height, components, then a
// number for each pixel, rows from below (ISO/IEC 19775-1, 5.3.6).
func pixels(v []float64) (image.Image, error) {
	if len(v) < 3 {
		return nil, fmt.Errorf("a picture of %d numbers", len(v))
	}
	w, h, n := v[0], v[1], v[2]
	if v = v[3:]; !(w >= 1 && h >= 1 && n >= 1 && n <= 4) || w*h > float64(min(len(v), limit.Texels)) {
		return nil, fmt.Errorf("a picture of %g by %g pixels of %g components, and %d pixels", w, h, n, len(v))
	}
	img := image.NewNRGBA(image.Rect(0, 0, int(w), int(h)))
	for i, x := range v[:int(w)*int(h)] {
		u := uint32(int64(x))
		c := color.NRGBA{A: 255}
		switch int(n) {
		case 1:
			c.R, c.G, c.B = byte(u), byte(u), byte(u)
		case 2:
			c = color.NRGBA{byte(u >> 8), byte(u >> 8), byte(u >> 8), byte(u)}
		case 3:
			c.R, c.G, c.B = byte(u>>16), byte(u>>8), byte(u)
		case 4:
			c = color.NRGBA{byte(u >> 24), byte(u >> 16), byte(u >> 8), byte(u)}
		}
		img.SetNRGBA(i%int(w), int(h)-1-i/int(w), c)
	}
	return img, nil
}
