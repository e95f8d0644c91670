package gltf

import (
	"bytes"
	"encoding/json"
	"image"
	"image/color"
	"image/png"
	"math"
	"slices"

	"excavate/core/format"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// The material extensions under KHR_materials_*, each as its own
// specification in the Khronos registry gives it.

type (
	xEmissive struct {
		Strength *float32 `json:"emissiveStrength,omitempty"`
	}
	xIOR struct {
		IOR *float32 `json:"ior,omitempty"`
	}
	xClearcoat struct {
		Factor       *float32     `json:"clearcoatFactor,omitempty"`
		Texture      *textureInfo `json:"clearcoatTexture,omitempty"`
		Roughness    *float32     `json:"clearcoatRoughnessFactor,omitempty"`
		RoughnessTex *textureInfo `json:"clearcoatRoughnessTexture,omitempty"`
		NormalTex    *textureInfo `json:"clearcoatNormalTexture,omitempty"`
	}
	xSpecular struct {
		Factor    *float32     `json:"specularFactor,omitempty"`
		Texture   *textureInfo `json:"specularTexture,omitempty"`
		Colour    *[3]float32  `json:"specularColorFactor,omitempty"`
		ColourTex *textureInfo `json:"specularColorTexture,omitempty"`
	}
	xTransmission struct {
		Factor  *float32     `json:"transmissionFactor,omitempty"`
		Texture *textureInfo `json:"transmissionTexture,omitempty"`
	}
	xSheen struct {
		Colour       *[3]float32  `json:"sheenColorFactor,omitempty"`
		ColourTex    *textureInfo `json:"sheenColorTexture,omitempty"`
		Roughness    *float32     `json:"sheenRoughnessFactor,omitempty"`
		RoughnessTex *textureInfo `json:"sheenRoughnessTexture,omitempty"`
	}
	xGlossiness struct {
		Diffuse    *[4]float32  `json:"diffuseFactor,omitempty"`
		DiffuseTex *textureInfo `json:"diffuseTexture,omitempty"`
		Specular   *[3]float32  `json:"specularFactor,omitempty"`
		Glossiness *float32     `json:"glossinessFactor,omitempty"`
		Texture    *textureInfo `json:"specularGlossinessTexture,omitempty"`
	}
	xTransform struct {
		Offset   *[2]float32 `json:"offset,omitempty"`
		Rotation float32     `json:"rotation,omitempty"`
		Scale    *[2]float32 `json:"scale,omitempty"`
		TexCoord *int        `json:"texCoord,omitempty"`
	}
)

// decode reads one extension's data into v.
func decode(raw json.RawMessage, v any, at string) error {
	if err := json.Unmarshal(raw, v); err != nil {
		return format.Errorf(at, "%v", err)
	}
	return nil
}

// layers reads a material's extensions. Names are visited in order so that the
// same file gives the same scene.
func (r *reader) layers(m *scene.Material, ext map[string]json.RawMessage, where string) error {
	names := make([]string, 0, len(ext))
	for n := range ext {
		names = append(names, n)
	}
	slices.Sort(names)
	layer := func() *scene.Layers {
		if m.Layers == nil {
			m.Layers = &scene.Layers{}
		}
		return m.Layers
	}
	for _, name := range names {
		raw, at := ext[name], where+".extensions."+name
		textures := map[scene.Role]*textureInfo{}
		var err error
		switch name {
		case "KHR_materials_unlit":
			m.Unlit = true
		case "KHR_materials_emissive_strength":
			var x xEmissive
			if err = decode(raw, &x, at); err == nil && x.Strength != nil {
				for k := range m.Emissive {
					m.Emissive[k] *= max(*x.Strength, 0)
				}
			}
		case "KHR_materials_ior":
			var x xIOR
			if err = decode(raw, &x, at); err == nil {
				layer().IOR = or(x.IOR, 1.5)
			}
		case "KHR_materials_clearcoat":
			var x xClearcoat
			if err = decode(raw, &x, at); err == nil {
				layer().Clearcoat, layer().ClearcoatRoughness = or(x.Factor, 0), or(x.Roughness, 0)
				textures[scene.RoleClearcoat], textures[scene.RoleClearcoatRoughness], textures[scene.RoleClearcoatNormal] = x.Texture, x.RoughnessTex, x.NormalTex
			}
		case "KHR_materials_specular":
			var x xSpecular
			if err = decode(raw, &x, at); err == nil {
				layer().Specular, layer().SpecularColour = or(x.Factor, 1), or(x.Colour, [3]float32{1, 1, 1})
				textures[scene.RoleSpecular], textures[scene.RoleSpecularColour] = x.Texture, x.ColourTex
			}
		case "KHR_materials_transmission":
			var x xTransmission
			if err = decode(raw, &x, at); err == nil {
				layer().Transmission = or(x.Factor, 0)
				textures[scene.RoleTransmission] = x.Texture
			}
		case "KHR_materials_sheen":
			var x xSheen
			if err = decode(raw, &x, at); err == nil {
				layer().SheenColour, layer().SheenRoughness = or(x.Colour, [3]float32{}), or(x.Roughness, 0)
				textures[scene.RoleSheenColour], textures[scene.RoleSheenRoughness] = x.ColourTex, x.RoughnessTex
			}
		case "KHR_materials_pbrSpecularGlossiness":
			var x xGlossiness
			if err = decode(raw, &x, at); err == nil {
				err = r.glossiness(m, &x, at)
			}
		case "VRMC_materials_mtoon":
			err = r.toon(m, raw, textures, at)
		default:
			r.Lose("material data %s was left out", name)
		}
		if err != nil {
			return err
		}
		for _, role := range scene.Roles {
			t, err := r.texture(role, textures[role], where)
			if err != nil {
				return err
			}
			if t != nil {
				m.Textures = append(m.Textures, *t)
			}
		}
	}
	return nil
}

func or[T any](p *T, otherwise T) *T {
	if p == nil {
		return &otherwise
	}
	return p
}

// glossiness turns a specular-glossiness surface into a metallic-roughness
// one, by the conversion that the Khronos group gives with
// KHR_materials_pbrSpecularGlossiness: the metalness solves the equation that
// makes diffuse and specular reflection come out alike.
func (r *reader) glossiness(m *scene.Material, x *xGlossiness, at string) error {
	diffuse, specular, gloss := *or(x.Diffuse, [4]float32{1, 1, 1, 1}), *or(x.Specular, [3]float32{1, 1, 1}), *or(x.Glossiness, 1)
	dt, err := r.texture(scene.RoleColour, x.DiffuseTex, at)
	if err != nil {
		return err
	}
	st, err := r.texture(scene.RoleMetalRgh, x.Texture, at)
	if err != nil {
		return err
	}
	m.Textures = slices.DeleteFunc(m.Textures, func(t scene.Texture) bool {
		return t.Role == scene.RoleColour || t.Role == scene.RoleMetalRgh
	})
	if st == nil {
		m.BaseColour, m.Metallic = metallic(diffuse, specular)
		m.Roughness = 1 - gloss
		if dt != nil {
			m.Textures = append(m.Textures, *dt)
			if m.Metallic > 0 { // the picture holds the diffuse colour only
				m.BaseColour, m.Metallic = diffuse, 0
				m.Layers = &scene.Layers{Specular: or[float32](nil, 1), SpecularColour: &specular}
			}
		}
		return nil
	}
	sp, ok := r.texels(st.Picture)
	if !ok {
		r.Lose("a specular-glossiness picture that is not there was left out of its material")
		if dt != nil {
			m.Textures = append(m.Textures, *dt)
		}
		m.BaseColour, m.Metallic, m.Roughness = diffuse, 0, 1-gloss
		return nil
	}
	w, h := sp.Rect.Dx(), sp.Rect.Dy()
	var dp *image.NRGBA
	if dt != nil {
		if dp, ok = r.texels(dt.Picture); ok && (dp.Rect.Dx() > w || dp.Rect.Dy() > h) {
			w, h = max(w, dp.Rect.Dx()), max(h, dp.Rect.Dy())
		}
	}
	if dt != nil && st.UVSet != dt.UVSet {
		r.Lose("a specular-glossiness picture on another UV set than the diffuse one was converted as if on the same")
	}
	base, mr := image.NewNRGBA(image.Rect(0, 0, w, h)), image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for i := range w {
			d := diffuse
			if dp != nil {
				c := dp.NRGBAAt(i*dp.Rect.Dx()/w, y*dp.Rect.Dy()/h)
				d[0], d[1], d[2], d[3] = d[0]*format.Bytes8[c.R], d[1]*format.Bytes8[c.G], d[2]*format.Bytes8[c.B], d[3]*float32(c.A)/255
			}
			c := sp.NRGBAAt(i*sp.Rect.Dx()/w, y*sp.Rect.Dy()/h)
			s := [3]float32{specular[0] * format.Bytes8[c.R], specular[1] * format.Bytes8[c.G], specular[2] * format.Bytes8[c.B]}
			b, metal := metallic(d, s)
			base.SetNRGBA(i, y, color.NRGBA{format.Display8(b[0]), format.Display8(b[1]), format.Display8(b[2]), byte(math.Round(255 * float64(min(max(b[3], 0), 1))))})
			mr.SetNRGBA(i, y, color.NRGBA{255, byte(math.Round(255 * float64(1-gloss*float32(c.A)/255))), byte(math.Round(255 * float64(metal))), 255})
		}
	}
	m.BaseColour, m.Metallic, m.Roughness = [4]float32{1, 1, 1, 1}, 1, 1
	put := func(img *image.NRGBA, role scene.Role, from *scene.Texture) error {
		var b bytes.Buffer
		if err := png.Encode(&b, img); err != nil {
			return err
		}
		name := r.s.Pictures[st.Picture].Name + " " + string(role)
		r.s.Pictures = append(r.s.Pictures, scene.Picture{Name: name, MIME: "image/png", Width: w, Height: h, Found: "made of specular and glossiness", Data: b.Bytes()})
		t := *from
		t.Role, t.Picture = role, len(r.s.Pictures)-1
		m.Textures = append(m.Textures, t)
		return nil
	}
	from := st
	if dt != nil {
		from = dt
	}
	if err := put(base, scene.RoleColour, from); err != nil {
		return err
	}
	r.s.Notes = append(r.s.Notes, scene.Note{Text: "material " + m.Name + ": specular and glossiness were turned into metal and roughness", Where: at})
	return put(mr, scene.RoleMetalRgh, from)
}

// texels decodes a picture of the scene.
func (r *reader) texels(i int) (*image.NRGBA, bool) {
	if r.s.Pictures[i].Missing() {
		return nil, false
	}
	src, err := pixel.DecodePicture(r.s.Pictures[i].Data, r.s.Pictures[i].MIME)
	if err != nil {
		return nil, false
	}
	return pixel.ToNRGBA(src), true
}

// metallic is the base colour and metalness of a diffuse and a specular
// colour, all linear.
func metallic(d [4]float32, s [3]float32) ([4]float32, float32) {
	const dielectric, eps = 0.04, 1e-6
	brightness := func(r, g, b float32) float64 {
		return math.Sqrt(0.299*float64(r)*float64(r) + 0.587*float64(g)*float64(g) + 0.114*float64(b)*float64(b))
	}
	strength := 1 - float64(max(s[0], s[1], s[2]))
	db, sb := brightness(d[0], d[1], d[2]), brightness(s[0], s[1], s[2])
	metal := 0.0
	if sb >= dielectric {
		b := db*strength/(1-dielectric) + sb - 2*dielectric
		disc := math.Max(b*b-4*dielectric*(dielectric-sb), 0)
		metal = math.Min(math.Max((-b+math.Sqrt(disc))/(2*dielectric), 0), 1)
	}
	out := [4]float32{3: d[3]}
	for k := range s {
		fromD := float64(d[k]) * strength / (1 - dielectric) / math.Max(1-metal, eps)
		fromS := (float64(s[k]) - dielectric*(1-metal)) / math.Max(metal, eps)
		out[k] = float32(math.Min(math.Max(fromD+(fromS-fromD)*metal*metal, 0), 1))
	}
	return out, float32(metal)
}

// writeLayers adds the extensions of a material that has layers.
func (w *writer) writeLayers(g *material, m *scene.Material) {
	put := func(name string, v any) {
		raw, err := json.Marshal(v)
		if err != nil {
			return // structs of numbers; Validate has refused those that are not finite
		}
		if g.Extensions == nil {
			g.Extensions = map[string]json.RawMessage{}
		}
		g.Extensions[name] = raw
		w.use(name)
	}
	if m.Unlit {
		put("KHR_materials_unlit", struct{}{})
	}
	if most := max(m.Emissive[0], m.Emissive[1], m.Emissive[2]); most > 1 {
		e := m.Emissive
		for k := range e {
			e[k] = max(e[k]/most, 0)
		}
		g.EmissiveF = &e
		put("KHR_materials_emissive_strength", xEmissive{&most})
	}
	if w.vrm != nil && m.Toon != nil {
		put("VRMC_materials_mtoon", w.toon(m))
	} else if m.Toon != nil {
		w.lose("%d toon surfaces are written as plain ones; VRM carries them", 1)
	}
	l := m.Layers
	if l == nil {
		return
	}
	tex := func(r scene.Role) *textureInfo { return w.texture(m.Texture(r)) }
	if l.IOR != nil {
		put("KHR_materials_ior", xIOR{l.IOR})
	}
	if l.Clearcoat != nil {
		put("KHR_materials_clearcoat", xClearcoat{l.Clearcoat, tex(scene.RoleClearcoat), l.ClearcoatRoughness, tex(scene.RoleClearcoatRoughness), tex(scene.RoleClearcoatNormal)})
	}
	if l.Specular != nil {
		put("KHR_materials_specular", xSpecular{l.Specular, tex(scene.RoleSpecular), l.SpecularColour, tex(scene.RoleSpecularColour)})
	}
	if l.Transmission != nil {
		put("KHR_materials_transmission", xTransmission{l.Transmission, tex(scene.RoleTransmission)})
	}
	if l.SheenColour != nil {
		put("KHR_materials_sheen", xSheen{l.SheenColour, tex(scene.RoleSheenColour), l.SheenRoughness, tex(scene.RoleSheenRoughness)})
	}
}
