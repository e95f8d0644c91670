package step

import (
	"context"
	"encoding/json"
	"fmt"
	"image"
	"slices"

	"excavate/core/pixel"
	"excavate/core/scene"
)

// AtlasParams says how pictures come together.
type AtlasParams struct {
	Where
	Size   int `json:"size" jsonschema:"title=Sheet at most,minimum=16,maximum=16384" jsonschema_extras:"unit=px"`
	Gutter int `json:"gutter" jsonschema:"title=Gutter,minimum=0,maximum=64,description=Round each picture its own rim goes on so far: neighbours do not bleed into it" jsonschema_extras:"unit=px"`
}

var _ = register(Kind{Name: "atlas", Title: "Pictures into one sheet", Family: Material, On: Materials, Version: 1,
	Purpose: "Make one material of several that differ only in their pictures, with all pictures of a kind on one sheet. Surfaces that repeat a picture stay apart."},
	AtlasParams{Size: 4096, Gutter: 4}, atlas)

func atlas(ctx context.Context, s *scene.Scene, p AtlasParams, r *Report) (*scene.Scene, error) {
	c, any, err := p.whole(s, r)
	if err != nil || !any {
		return s, err
	}
	a := &atlasMaker{s: s, p: p, out: *s, to: map[int]int{}, on: map[int]sheetPlace{}}
	a.out.Materials = slices.Clone(s.Materials)
	h := newShelf(ctx, &a.out, Nowhere{}, r)
	groups, repeated := a.groups(c.Parts)
	if a.variants {
		r.Say("parts with variants stay as they are: choose one first")
	}
	var pictures, joined int
	for _, g := range groups {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		if err := a.sheet(h, g); err != nil {
			return nil, err
		}
		pictures += len(g) * len(s.Materials[g[0]].Textures)
		joined += len(g)
	}
	if joined == 0 {
		r.Nothing("no two chosen materials differ only in pictures that could share a sheet%s",
			ifAny(len(repeated), "; %s", "repeated on their surfaces: "+named(repeated)))
		return s, nil
	}
	out, err := eachPart(&a.out, c, func(q *scene.Part) (scene.Part, error) { return a.moved(q), nil })
	if err != nil {
		return nil, err
	}
	r.Say("%s of %s on %s", count(pictures, "picture", "pictures"), count(joined, "material", "materials"),
		count(len(a.out.Pictures)-len(s.Pictures), "sheet", "sheets"))
	for i := len(s.Pictures); i < len(out.Pictures); i++ {
		r.Say("%s: %d × %d px", out.Pictures[i].Name, out.Pictures[i].Width, out.Pictures[i].Height)
	}
	if len(repeated) > 0 {
		r.Say("repeated on their surfaces, and so by themselves: %s", named(repeated))
	}
	return h.swept(out, s), nil
}

// atlasMaker puts pictures of materials onto sheets.
type atlasMaker struct {
	s   *scene.Scene
	p   AtlasParams
	out scene.Scene
	to  map[int]int        // the material that each becomes
	on  map[int]sheetPlace // where each one's pictures stand

	variants bool // chosen parts have several looks, and so stay
}

// sheetPlace is where a picture stands on a sheet, in texels, and the UV set
// that it is looked up by.
type sheetPlace struct {
	set, w, h, x, y int
	sheetW, sheetH  int
}

// outOfPicture is how far UVs may lie outside of their picture: what rounding does.
const outOfPicture = 1e-3

// groups lists materials that can share a sheet: they are alike in all but
// their pictures, all parts that use them are chosen, and none repeats them.
func (a *atlasMaker) groups(chosen func(node int) []bool) (out [][]int, repeated []string) {
	n := len(a.s.Materials)
	used, other, over := make([]bool, n), make([]bool, n), make([]bool, n)
	for i := range a.s.Nodes {
		for j, taken := range chosen(i) {
			part := &a.s.Meshes[a.s.Nodes[i].Mesh].Parts[j]
			if !taken || part.Variants != nil {
				for _, m := range part.Looks() {
					if m >= 0 {
						other[m] = true
					}
				}
				a.variants = a.variants || taken
				continue
			}
			m := part.Material
			if m < 0 {
				continue
			}
			used[m] = true
			if set, ok := a.set(m); ok && repeats(part, set) {
				over[m] = true
			}
		}
	}
	at := map[string]int{}
	for m := range a.s.Materials {
		set, ok := a.set(m)
		if !used[m] || other[m] || !ok {
			continue
		}
		if over[m] {
			repeated = append(repeated, a.s.Materials[m].Name)
			continue
		}
		key := a.key(m, set)
		k, seen := at[key]
		if !seen {
			k = len(out)
			at[key] = k
			out = append(out, nil)
		}
		out[k] = append(out[k], m)
	}
	return slices.DeleteFunc(out, func(g []int) bool { return len(g) < 2 }), repeated
}

// set is the UV set that all pictures of a material lie on; false where they
// lie on several, are moved, or one is missing.
func (a *atlasMaker) set(m int) (int, bool) {
	list := a.s.Materials[m].Textures
	for _, t := range list {
		if t.UVSet != list[0].UVSet || t.Transform != nil || a.s.Pictures[t.Picture].Missing() {
			return 0, false
		}
	}
	if len(list) == 0 {
		return 0, false
	}
	return list[0].UVSet, true
}

// key is all of a material but its name and which pictures it has.
func (a *atlasMaker) key(m, set int) string {
	x := a.s.Materials[m]
	x.Name = ""
	x.Textures = slices.Clone(x.Textures)
	for i := range x.Textures {
		x.Textures[i].Picture = 0
		x.Textures[i].WrapU, x.Textures[i].WrapV = scene.Repeat, scene.Repeat
	}
	slices.SortFunc(x.Textures, func(a, b scene.Texture) int {
		return slices.Index(scene.Roles, a.Role) - slices.Index(scene.Roles, b.Role)
	})
	b, _ := json.Marshal(x) // of finite numbers it has no error
	return fmt.Sprint(set, string(b))
}

// repeats tells whether a part shows more than its picture once.
func repeats(p *scene.Part, set int) bool {
	if set >= len(p.UVs) {
		return true // it has no place on the picture
	}
	uv := p.UVs[set].Data
	for _, v := range p.Triangles {
		for _, x := range uv[2*v : 2*v+2] {
			if x < -outOfPicture || x > 1+outOfPicture {
				return true
			}
		}
	}
	return false
}

// sheet makes the sheets of a group, one for each job of its pictures.
func (a *atlasMaker) sheet(h *shelf, group []int) error {
	places := make([]sheetPlace, len(group))
	for i, m := range group {
		set, _ := a.set(m)
		places[i].set = set
		for _, t := range a.s.Materials[m].Textures {
			pic := &a.s.Pictures[t.Picture]
			places[i].w, places[i].h = max(places[i].w, pic.Width), max(places[i].h, pic.Height)
		}
	}
	w, hgt, err := packed(places, a.p.Size, a.p.Gutter)
	if err != nil {
		return fmt.Errorf("the pictures of %s: %w", named(a.names(group)), err)
	}
	means := meanings(a.s)
	one := a.s.Materials[group[0]]
	one.Textures = slices.Clone(one.Textures)
	for k := range one.Textures {
		t := &one.Textures[k]
		img := image.NewNRGBA(image.Rect(0, 0, w, hgt))
		for i, m := range group {
			from := a.s.Materials[m].Texture(t.Role)
			pic, err := pixels(&a.s.Pictures[from.Picture])
			if err != nil {
				return err
			}
			if p := places[i]; pic.Rect.Dx() != p.w || pic.Rect.Dy() != p.h {
				pic = pixel.Resized(pic, p.w, p.h, means[from.Picture])
			}
			lay(img, pic, places[i], a.p.Gutter)
		}
		if t.Picture, err = h.add(img, "sheet_"+string(t.Role)); err != nil {
			return err
		}
		t.WrapU, t.WrapV = scene.Clamp, scene.Clamp
	}
	for i, m := range group {
		p := places[i]
		p.sheetW, p.sheetH = w, hgt
		a.to[m], a.on[m] = group[0], p
	}
	a.out.Materials[group[0]] = one
	return nil
}

func (a *atlasMaker) names(group []int) (out []string) {
	for _, m := range group {
		out = append(out, a.s.Materials[m].Name)
	}
	return out
}

// moved is a part with its UVs where its picture stands on the sheet.
func (a *atlasMaker) moved(q *scene.Part) scene.Part {
	to, ok := a.to[q.Material]
	if !ok {
		return *q
	}
	on := a.on[q.Material]
	out := *q
	out.Material = to
	out.UVs = slices.Clone(q.UVs)
	d := make([]float32, len(q.UVs[on.set].Data))
	for i := 0; i+1 < len(d); i += 2 {
		u, v := float64(q.UVs[on.set].Data[i]), float64(q.UVs[on.set].Data[i+1])
		u, v = min(1, max(0, u)), min(1, max(0, v))
		d[i], d[i+1] = float32((float64(on.x)+u*float64(on.w))/float64(on.sheetW)), float32((float64(on.y)+v*float64(on.h))/float64(on.sheetH))
	}
	out.UVs[on.set].Data = d
	return out
}

// packed places rectangles on rows, the highest first, on the smallest sheet
// whose sides are powers of two, and returns its size.
func packed(list []sheetPlace, most, gutter int) (w, h int, err error) {
	order := make([]int, len(list))
	area, widest := 0, 0
	for i, p := range list {
		order[i] = i
		area += (p.w + 2*gutter) * (p.h + 2*gutter)
		widest = max(widest, p.w+2*gutter)
	}
	slices.SortStableFunc(order, func(i, j int) int { return list[j].h - list[i].h })
	for w = 16; w < widest || w*w < area/2; w *= 2 {
	}
	for ; w <= most; w *= 2 {
		x, y, row := 0, 0, 0
		for _, i := range order {
			p := &list[i]
			if x+p.w+2*gutter > w {
				x, y, row = 0, y+row, 0
			}
			p.x, p.y = x+gutter, y+gutter
			x += p.w + 2*gutter
			row = max(row, p.h+2*gutter)
		}
		for h = 16; h < y+row; h *= 2 {
		}
		if h <= w || 2*w > most {
			if h <= most {
				return w, h, nil
			}
			break
		}
	}
	return 0, 0, fmt.Errorf("%d pictures of %d texels in all do not fit on a sheet of %d × %d; make them smaller first, or choose fewer",
		len(list), area, most, most)
}

// lay copies a picture onto a sheet, with its rim going on round it.
func lay(dst, src *image.NRGBA, at sheetPlace, gutter int) {
	for y := -gutter; y < at.h+gutter; y++ {
		for x := -gutter; x < at.w+gutter; x++ {
			dst.SetNRGBA(at.x+x, at.y+y, src.NRGBAAt(min(at.w-1, max(0, x)), min(at.h-1, max(0, y))))
		}
	}
}
