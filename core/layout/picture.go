package layout

import (
	"context"
	"fmt"
	"image"

	"excavate/core/pixel"
)

type pictureMap struct {
	width, height *formula
	format        *choice[pixel.Format]
	at            *formula
	bottomUp      bool
	palette       *paletteMap
}

type paletteMap struct {
	at, count *formula
	format    *choice[pixel.Format]
}

func (c *compiler) picture(n *node) {
	c.keys(n, "width", "height", "format", "at", "rows", "palette")
	if c.err != nil {
		return
	}
	sc := c.topScope
	texel := func(n *node) pixel.Format {
		f := pixel.Format(c.word(n))
		if c.err == nil && !f.Valid() {
			_, err := f.Bytes(1, 1)
			c.fail(n, "%v", err)
		}
		return f
	}
	m := &pictureMap{
		width: c.needFormula(n, "width", sc), height: c.needFormula(n, "height", sc),
		format: chooser(c, c.need(n, "format"), sc, texel), at: c.needFormula(n, "at", sc),
		bottomUp: c.optionalOf(n, "rows", "top-down", "top-down", "bottom-up") == "bottom-up",
	}
	if p := n.get("palette"); p != nil && c.err == nil {
		c.keys(p, "at", "count", "format")
		m.palette = &paletteMap{at: c.needFormula(p, "at", sc), count: c.needFormula(p, "count", sc), format: chooser(c, c.need(p, "format"), sc, texel)}
	}
	c.Layout.picture = m
}

// Image decodes the picture that the layout describes, rows from the top.
func (l *Layout) Image(ctx context.Context, in Input) (*image.NRGBA, error) {
	if l.picture == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a picture", l.Kind)}
	}
	r := newRun(ctx, l, in)
	e, err := r.fields()
	if err != nil {
		return nil, err
	}
	m := l.picture
	w, err := m.width.int(e)
	if err != nil {
		return nil, err
	}
	h, err := m.height.int(e)
	if err != nil {
		return nil, err
	}
	f, err := m.format.eval(e)
	if err != nil {
		return nil, err
	}
	at, err := m.at.int(e)
	if err != nil {
		return nil, err
	}
	need, err := f.Bytes(int(min(max(w, -1), 1<<30)), int(min(max(h, -1), 1<<30)))
	if err != nil {
		return nil, r.errorf(m.width.line, m.width.col, "%v", err)
	}
	r.at = at
	data, err := in.Bytes(at, need)
	if err != nil {
		return nil, r.errorf(m.at.line, m.at.col, "texels: %v", err)
	}
	var pal []byte
	if f == pixel.Indexed8 {
		if pal, err = m.palette.read(e); err != nil {
			return nil, err
		}
	}
	img, err := pixel.Decode(f, data, int(w), int(h), pal)
	if err != nil {
		return nil, r.errorf(m.at.line, m.at.col, "%v", err)
	}
	if m.bottomUp {
		flipRows(img)
	}
	return img, nil
}

func (p *paletteMap) read(e *env) ([]byte, error) {
	r := e.run
	if p == nil {
		return nil, r.errorf(0, 0, "the texels are indexed and the layout names no palette")
	}
	at, err := p.at.int(e)
	if err != nil {
		return nil, err
	}
	n, err := p.count.int(e)
	if err != nil {
		return nil, err
	}
	f, err := p.format.eval(e)
	if err != nil {
		return nil, err
	}
	r.at = at
	if n < 0 || n > 1<<16 {
		return nil, r.errorf(p.count.line, p.count.col, "a palette of %d colours", n)
	}
	size, err := f.Bytes(int(max(n, 1)), 1)
	if err != nil {
		return nil, r.errorf(p.count.line, p.count.col, "%v", err)
	}
	data, err := r.in.Bytes(at, size)
	if err != nil {
		return nil, r.errorf(p.at.line, p.at.col, "palette: %v", err)
	}
	pal, err := pixel.Palette(f, data, int(n))
	if err != nil {
		return nil, r.errorf(p.at.line, p.at.col, "%v", err)
	}
	return pal, nil
}

func flipRows(img *image.NRGBA) {
	h := img.Rect.Dy()
	tmp := make([]byte, img.Stride)
	for y := 0; y < h/2; y++ {
		a, b := img.Pix[y*img.Stride:(y+1)*img.Stride], img.Pix[(h-1-y)*img.Stride:(h-y)*img.Stride]
		copy(tmp, a)
		copy(a, b)
		copy(b, tmp)
	}
}
