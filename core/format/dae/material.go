package dae

import (
	"bytes"
	"fmt"
	"math"
	"net/url"
	"slices"
	"strings"

	"excavate/core/format"
	"excavate/core/format/markup"
	"excavate/core/scene"
)

// binding is an <instance_material>: the material of a symbol, and which UV
// set of the geometry each name of the material's stands for.
type binding struct {
	material *markup.Node
	sets     map[string]int
}

func (r *reader) bindings(inst *markup.Node) (map[string]*binding, error) {
	out := map[string]*binding{}
	for _, m := range inst.Child("bind_material", "technique_common").All("instance_material") {
		t, err := r.follow(m, "target")
		if err != nil {
			r.Lose("%v", err)
			continue
		}
		b := &binding{t, map[string]int{}}
		for _, v := range m.All("bind_vertex_input") {
			if v.Attr("input_semantic") == "TEXCOORD" || v.Attr("input_semantic") == "UV" {
				n := 0
				fmt.Sscan(v.Attr("input_set"), &n)
				b.sets[v.Attr("semantic")] = n
			}
		}
		out[m.Attr("symbol")] = b
	}
	return out, nil
}

// unbound is the material of a part whose symbol is bound to nothing: the one
// with the symbol for its id, as older exporters meant it, else a plain one of
// that name, so that it can still be told from others.
func (r *reader) unbound(inst *markup.Node, p part) int {
	if m := r.docFor(inst).ids[p.symbol]; m != nil && m.Name == "material" {
		if at, err := r.material(&binding{m, map[string]int{}}, p.sets); err == nil {
			r.Lose("a material symbol that is bound to nothing was taken for the material of that id")
			return at
		}
	}
	at, ok := r.materials[p.symbol]
	if !ok {
		r.Lose("the material symbol %s is bound to nothing; it is plain", p.symbol)
		at = len(r.s.Materials)
		r.materials[p.symbol] = at
		r.s.Materials = append(r.s.Materials, scene.NewMaterial(p.symbol))
	}
	return at
}

// material makes the material of a binding for a part with these UV sets.
func (r *reader) material(b *binding, sets []int) (int, error) {
	if b == nil {
		return scene.None, nil
	}
	e := &effect{r: r, set: func(name string) int {
		n, ok := b.sets[name]
		if !ok {
			return 0
		}
		return max(slices.Index(sets, n), 0)
	}}
	m, err := e.read(b.material)
	if err != nil {
		return scene.None, err
	}
	key := fmt.Sprintf("%p", b.material)
	for _, t := range m.Textures {
		key += fmt.Sprintf(" %d", t.UVSet)
	}
	at, ok := r.materials[key]
	if !ok {
		at = len(r.s.Materials)
		r.materials[key] = at
		r.s.Materials = append(r.s.Materials, m)
	}
	return at, nil
}

type effect struct {
	r      *reader
	set    func(name string) int
	params map[string]*markup.Node // <newparam> and <setparam> by name
	doc    *document
}

func (e *effect) read(n *markup.Node) (scene.Material, error) {
	m := scene.NewMaterial(nameOf(n))
	inst := n.Child("instance_effect")
	if inst == nil {
		return m, nil
	}
	fx, err := e.r.follow(inst, "url")
	if err != nil {
		e.r.Lose("%v", err)
		return m, nil
	}
	e.doc, e.params = e.r.docFor(fx), map[string]*markup.Node{}
	p := fx.Child("profile_COMMON")
	if p == nil {
		e.r.Lose("an effect without a common profile was left out")
		return m, nil
	}
	t := p.Child("technique")
	for _, from := range []*markup.Node{fx, p, t} {
		for _, x := range from.All("newparam") {
			e.params[x.Attr("sid")] = x
		}
	}
	for _, x := range inst.All("setparam") {
		e.params[x.Attr("ref")] = x
	}
	var k *markup.Node
	for _, kind := range []string{"phong", "blinn", "lambert", "constant"} {
		if k == nil {
			k = t.Child(kind)
		}
	}
	if k == nil {
		return m, nil
	}
	m.Unlit = k.Name == "constant"
	main := "diffuse"
	if m.Unlit {
		main = "emission"
	}
	if c, tex := e.value(k.Child(main), scene.RoleColour); tex != nil {
		m.Textures = append(m.Textures, *tex)
	} else if c != nil {
		m.BaseColour = [4]float32{c[0], c[1], c[2], 1}
	}
	if !m.Unlit {
		if c, tex := e.value(k.Child("emission"), scene.RoleEmission); tex != nil {
			m.Textures, m.Emissive = append(m.Textures, *tex), [3]float32{1, 1, 1}
		} else if c != nil {
			m.Emissive = [3]float32(c[:3])
		}
	}
	if s := k.Child("shininess"); s != nil && (k.Name == "phong" || k.Name == "blinn") {
		if v := e.number(s, 0); v > 0 {
			// The exponent of Blinn and Phong as a roughness (Walter and others,
			// "Microfacet models for refraction", 2007, section 5.2), squared in glTF.
			m.Roughness = float32(math.Sqrt(math.Sqrt(2 / (float64(v) + 2))))
		}
	}
	if c, tex := e.value(k.Child("specular"), scene.RoleSpecularColour); tex != nil {
		e.r.Lose("a specular picture was left out")
	} else if c != nil && max(c[0], c[1], c[2]) == 0 && m.Roughness < 1 {
		m.Roughness = 1
	}
	e.alpha(k, &m)
	e.extra(fx, p, t, &m)
	return m, nil
}

// alpha applies transparent and transparency ("Determining Transparency" in
// the specification).
func (e *effect) alpha(k *markup.Node, m *scene.Material) {
	tr := k.Child("transparent")
	amount := float32(1)
	if t := k.Child("transparency"); t != nil {
		amount = e.number(t, 1)
	}
	if tr == nil {
		if k.Child("transparency") != nil && amount < 1 && amount > 0 {
			m.BaseColour[3], m.Alpha = amount, scene.Blend
		}
		return
	}
	mode := tr.Attr("opaque")
	if mode == "" {
		mode = "A_ONE"
	}
	if x := tr.Child("texture"); x != nil {
		tex := e.texture(x, scene.RoleColour)
		base := m.Texture(scene.RoleColour)
		switch {
		case tex == nil:
		case base != nil && tex.Picture == base.Picture && mode == "A_ONE":
			m.Alpha = scene.Blend
		default:
			e.r.Lose("an opacity picture of its own was left out")
		}
		return
	}
	c, ok := e.colour(tr, false)
	if !ok {
		return
	}
	lum := 0.212671*c[0] + 0.715160*c[1] + 0.072169*c[2]
	a := float32(1)
	switch mode {
	case "A_ONE":
		a = c[3] * amount
	case "A_ZERO":
		a = 1 - c[3]*amount
	case "RGB_ZERO":
		a = 1 - lum*amount
	case "RGB_ONE":
		a = lum * amount
	}
	if a = min(max(a, 0), 1); a == 0 {
		// Writers disagree on which end is clear; nobody means to hide everything.
		e.r.Lose("a surface that would be wholly clear was made opaque")
		return
	}
	if a < 1 {
		m.BaseColour[3], m.Alpha = a, scene.Blend
	}
}

// extra reads what common profiles have no place for, as it is usually kept.
func (e *effect) extra(fx, p, t *markup.Node, m *scene.Material) {
	for _, at := range []*markup.Node{fx, p, t} {
		for _, x := range at.All("extra") {
			for _, q := range x.All("technique") {
				if d := q.Child("double_sided"); d != nil && d.Words() == "1" {
					m.TwoSided = true
				}
				if b := q.Child("bump"); b != nil {
					if strings.EqualFold(b.Attr("bumptype"), "NORMALMAP") {
						if tex := e.texture(b.Child("texture"), scene.RoleNormal); tex != nil {
							m.Textures = append(m.Textures, *tex)
						}
					} else {
						e.r.Lose("a bump picture was left out")
					}
				}
				if q.Attr("profile") == profile {
					m.Metallic, m.Roughness, m.Cutoff = number(q, m.Metallic, "metallic"), number(q, m.Roughness, "roughness"), number(q, m.Cutoff, "cutoff")
					switch a := scene.AlphaMode(q.Child("alpha").Words()); a {
					case scene.Opaque, scene.Cutout, scene.Blend:
						m.Alpha = a
					}
					for _, c := range q.All("picture") {
						role := scene.Role(c.Attr("role"))
						if tex := e.texture(c.Child("texture"), role); tex != nil && slices.Contains(scene.Roles, role) && m.Texture(role) == nil {
							m.Textures = append(m.Textures, *tex)
						}
					}
				}
			}
		}
	}
}

// profile is the name under which we keep what the common profile has no
// place for.
const profile = "excavate"

// value is a colour, linear, or a texture.
func (e *effect) value(n *markup.Node, role scene.Role) (*[4]float32, *scene.Texture) {
	if n == nil {
		return nil, nil
	}
	if t := e.texture(n.Child("texture"), role); t != nil {
		return nil, t
	}
	if c, ok := e.colour(n, true); ok {
		return &c, nil
	}
	return nil, nil
}

func (e *effect) colour(n *markup.Node, linear bool) (out [4]float32, ok bool) {
	c := n.Child("color")
	if c == nil {
		if p := e.params[n.Child("param").Attr("ref")]; p != nil {
			for _, k := range []string{"float4", "float3"} {
				if c == nil {
					c = p.Child(k)
				}
			}
		}
	}
	if c == nil {
		return out, false
	}
	want := 4
	if c.Name == "float3" || len(bytes.Fields(c.Text)) == 3 {
		want = 3
	}
	v, err := c.Floats(want, nil)
	if err != nil || len(v) < 3 {
		return out, false
	}
	if out[3] = 1; len(v) == 4 {
		out[3] = v[3]
	}
	for i := range 3 {
		if out[i] = v[i]; linear {
			out[i] = format.Linear(float64(v[i]))
		}
	}
	return out, true
}

func (e *effect) number(n *markup.Node, usual float32) float32 {
	if f := n.Child("float"); f != nil {
		return number(n, usual, "float")
	}
	if p := e.params[n.Child("param").Attr("ref")]; p != nil {
		return number(p, usual, "float")
	}
	return usual
}

// texture follows a sampler to its image: in 1.4 by a surface, in 1.5 straight.
// Some writers name the image itself.
func (e *effect) texture(n *markup.Node, role scene.Role) *scene.Texture {
	if n == nil {
		return nil
	}
	out := &scene.Texture{Role: role, UVSet: e.set(n.Attr("texcoord")), Scale: 1}
	name := n.Attr("texture")
	var image *markup.Node
	if s := e.params[name].Child("sampler2D"); s != nil {
		wrap := func(k string) scene.Wrap {
			switch s.Child(k).Words() {
			case "CLAMP", "BORDER":
				return scene.Clamp
			case "MIRROR":
				return scene.Mirror
			}
			return scene.Repeat
		}
		out.WrapU, out.WrapV = wrap("wrap_s"), wrap("wrap_t")
		out.Nearest = s.Child("magfilter").Words() == "NEAREST"
		if i := s.Child("instance_image"); i != nil {
			image, _ = e.r.target(e.doc, i.Attr("url"))
		} else if f := e.params[s.Child("source").Words()].Child("surface"); f != nil {
			image = e.doc.ids[f.Child("init_from").Words()]
			if image == nil {
				if ref := f.Child("init_from", "ref"); ref != nil {
					image = e.doc.ids[ref.Words()]
				}
			}
		}
	} else {
		image = e.doc.ids[name]
	}
	if image == nil || image.Name != "image" {
		e.r.Lose("the picture %q of a material is not in the file", name)
		return nil
	}
	out.Picture = e.r.picture(image)
	return out
}

func (r *reader) picture(n *markup.Node) int {
	init := n.Child("init_from")
	ref := init.Words()
	if c := init.Child("ref"); c != nil {
		ref = c.Words()
	}
	key := r.docFor(n).url + "\x00" + ref
	if ref == "" {
		key = fmt.Sprintf("%p", n)
	}
	if at, ok := r.pictures[key]; ok {
		return at
	}
	p := scene.Picture{Name: nameOf(n), Ref: clean(ref)}
	if i := strings.LastIndexAny(p.Ref, "/\\"); p.Ref != "" {
		p.Name = p.Ref[i+1:]
	}
	if ref == "" {
		p.Looked = []string{"the file holds the picture in a form that is not read"}
	} else if at := r.docFor(n).url; strings.Contains(at, "/") && !strings.HasPrefix(p.Ref, "/") {
		p.Ref = at[:strings.LastIndexByte(at, '/')+1] + p.Ref
	}
	r.s.Pictures = append(r.s.Pictures, p)
	r.pictures[key] = len(r.s.Pictures) - 1
	return r.pictures[key]
}

// clean makes a path of a reference: file URLs of other machines lose what
// leads to them.
func clean(ref string) string {
	ref = strings.TrimPrefix(ref, "file://")
	if u, err := url.PathUnescape(ref); err == nil {
		ref = u
	}
	ref = strings.ReplaceAll(ref, "\\", "/")
	ref = strings.TrimPrefix(ref, "./")
	if len(ref) > 2 && ref[0] == '/' && ref[2] == ':' {
		ref = ref[1:]
	}
	return ref
}
