package step

import (
	"context"
	"fmt"
	"image"
	"path"
	"slices"
	"strings"

	"excavate/core/distinct"
	"excavate/core/pick"
	"excavate/core/pixel"
	"excavate/core/scene"
)

// shelf finds pictures by globs for a scene that is being made: its own, then
// those beyond it, which it takes in once.
type shelf struct {
	ctx   context.Context
	out   *scene.Scene // its list of pictures is its own
	b     Beyond
	found map[string]int // by glob
	from  map[string]int // by path beyond
	names distinct.Names
	r     *Report
	many  []string // globs that several pictures fit, and which was taken
}

func newShelf(ctx context.Context, out *scene.Scene, b Beyond, r *Report) *shelf {
	out.Pictures = slices.Clone(out.Pictures)
	h := &shelf{ctx: ctx, out: out, b: b, r: r, found: map[string]int{}, from: map[string]int{}}
	for i := range out.Pictures {
		h.names.Name(out.Pictures[i].Name, " ")
	}
	return h
}

// find is the first picture that fits a glob, None if none does.
func (h *shelf) find(glob string) (int, error) {
	if k, ok := h.found[glob]; ok {
		return k, nil
	}
	k, err := h.search(glob)
	if err == nil {
		h.found[glob] = k
	}
	return k, err
}

func (h *shelf) search(glob string) (int, error) {
	var own []int
	for i := range h.out.Pictures {
		if p := &h.out.Pictures[i]; !p.Missing() && pictureFits(glob, p) {
			own = append(own, i)
		}
	}
	if len(own) > 0 {
		if len(own) > 1 {
			h.many = append(h.many, fmt.Sprintf("%d pictures fit %s, and %s was taken", len(own), glob, h.out.Pictures[own[0]].Name))
		}
		return own[0], nil
	}
	list, err := h.b.Pictures(h.ctx, glob)
	if err != nil || len(list) == 0 {
		return scene.None, err
	}
	if len(list) > 1 {
		h.many = append(h.many, fmt.Sprintf("%d pictures fit %s, and %s was taken", len(list), glob, list[0]))
	}
	return h.take(list[0])
}

// take takes a picture in from beyond.
func (h *shelf) take(name string) (int, error) {
	if k, ok := h.from[name]; ok {
		return k, nil
	}
	p, err := h.b.Picture(h.ctx, name)
	if err != nil {
		return scene.None, err
	}
	h.r.Took = append(h.r.Took, p.Found)
	p.Name = h.names.Name(p.Name, " ")
	h.from[name] = len(h.out.Pictures)
	h.out.Pictures = append(h.out.Pictures, p)
	return len(h.out.Pictures) - 1, nil
}

// add puts a picture that was made onto the shelf.
func (h *shelf) add(img image.Image, name string) (int, error) {
	data, err := pixel.PNG(img)
	if err != nil {
		return scene.None, fmt.Errorf("picture %s: %w", name, err)
	}
	name = h.names.Name(strings.TrimSuffix(name, path.Ext(name)), "_") + ".png"
	h.out.Pictures = append(h.out.Pictures, scene.Picture{Name: name, Ref: name, MIME: "image/png", Width: img.Bounds().Dx(), Height: img.Bounds().Dy(),
		Data: data, Found: "made by a step", How: "made"})
	return len(h.out.Pictures) - 1, nil
}

// swept is the scene without pictures that were taken in and are used by
// nothing, nor those that nothing uses any more.
func (h *shelf) swept(out, was *scene.Scene) *scene.Scene {
	before := *was
	before.Pictures = out.Pictures
	all := scene.Material{}
	for i := len(was.Pictures); i < len(out.Pictures); i++ {
		all.Textures = append(all.Textures, scene.Texture{Picture: i})
	}
	before.Materials = append(slices.Clone(was.Materials), all)
	return out.Sweep(&before)
}

// tell reports where globs left a choice.
func (h *shelf) tell(r *Report) {
	for _, m := range h.many {
		r.Say("%s", m)
	}
}

// pictureFits tells whether a glob fits the name of a picture or of the file
// that it was asked for as, with its ending or without, in any case.
func pictureFits(glob string, p *scene.Picture) bool {
	glob = strings.ToLower(glob)
	for _, name := range []string{p.Name, path.Base(strings.ReplaceAll(p.Ref, `\`, "/"))} {
		name = strings.ToLower(name)
		if pick.Fits(glob, name) || pick.Fits(glob, strings.TrimSuffix(name, path.Ext(name))) {
			return true
		}
	}
	return false
}

// pixels decodes a picture of the scene as eight bits a channel.
func pixels(p *scene.Picture) (*image.NRGBA, error) {
	img, err := decodePicture(p)
	if err != nil {
		return nil, err
	}
	return pixel.ToNRGBA(img), nil
}
