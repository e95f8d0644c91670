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
	big           bool
	tiling        *choice[pixel.TilingKind]
	tile          [4]*formula // width, height, swap row, swap unit
	palette       *paletteMap
}

type paletteMap struct {
	at, count *formula
	format    *choice[pixel.Format]
	big       bool
}

func (c *compiler) picture(n *node) {
	c.keys(n, "width", "height", "format", "at", "rows", "palette", "order", "tiling", "tile")
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
		big:      c.big(n),
	}
	m.tiling = chooser(c, n.get("tiling"), sc, func(n *node) pixel.TilingKind {
		w := c.oneOf(n, pixel.Tilings...)
		if w == "linear" {
			return pixel.Linear
		}
		return pixel.TilingKind(w)
	})
	if t := n.get("tile"); t != nil && c.err == nil {
		c.keys(t, "width", "height", "swap_row", "swap_unit")
		m.tile = [4]*formula{c.needFormula(t, "width", sc), c.needFormula(t, "height", sc), c.optionalFormula(t, "swap_row", sc), c.optionalFormula(t, "swap_unit", sc)}
	}
	if p := n.get("palette"); p != nil && c.err == nil {
		c.keys(p, "at", "count", "format", "order")
		m.palette = &paletteMap{big: c.big(p), at: c.needFormula(p, "at", sc), count: c.needFormula(p, "count", sc), format: chooser(c, c.need(p, "format"), sc, texel)}
	}
	c.Layout.picture = m
}

// Image decodes the picture that the layout describes, rows from the top.
func (l *Layout) Image(ctx context.Context, in Input) (*image.NRGBA, error) {
	if l.picture == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a picture", l.Kind)}
	}
	l = l.inOrder(in)
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
	o := pixel.Options{BigEndian: m.big}
	if o.Tiling, err = m.tilingOf(e); err != nil {
		return nil, err
	}
	need, err := o.Tiling.Span(f, int(min(max(w, -1), 1<<30)), int(min(max(h, -1), 1<<30)))
	if err != nil {
		return nil, r.errorf(m.width.line, m.width.col, "%v", err)
	}
	r.at = at
	data, err := in.Bytes(at, need)
	if err != nil {
		return nil, r.errorf(m.at.line, m.at.col, "texels: %v", err)
	}
	if f.Indexed() {
		if o.Palette, err = m.palette.read(e); err != nil {
			return nil, err
		}
	}
	img, err := pixel.DecodeWith(f, data, int(w), int(h), o)
	if err != nil {
		return nil, r.errorf(m.at.line, m.at.col, "%v", err)
	}
	if m.bottomUp {
		pixel.FlipRows(img)
	}
	return img, nil
}

// big reads the byte order of texels or colours; it is the file's unless they
// have one of their own.
func (c *compiler) big(n *node) bool {
	usual := "little"
	if c.Layout.order == bigEndian {
		usual = "big"
	}
	return c.optionalOf(n, "order", usual, "little", "big") == "big"
}

func (m *pictureMap) tilingOf(e *env) (t pixel.Tiling, err error) {
	if m.tiling == nil {
		return t, nil
	}
	if t.Kind, err = m.tiling.eval(e); err != nil || t.Kind != pixel.Tiled {
		return t, err
	}
	for i, to := range []*int{&t.TileW, &t.TileH, &t.SwapRow, &t.SwapUnit} {
		f := m.tile[i]
		if f == nil {
			if i < 2 {
				return t, e.run.errorf(0, 0, "tiles need their width and height under tile")
			}
			continue
		}
		v, err := f.int(e)
		if err != nil {
			return t, err
		}
		if v < 0 || v > 1<<20 {
			return t, e.run.errorf(f.line, f.col, "a tile's %d", v)
		}
		*to = int(v)
	}
	return t, nil
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
	pal, err := pixel.PaletteWith(f, data, int(n), p.big)
	if err != nil {
		return nil, r.errorf(p.at.line, p.at.col, "%v", err)
	}
	return pal, nil
}
