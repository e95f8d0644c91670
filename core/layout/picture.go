package layout

import (
	"context"
	"fmt"
	"image"
	"strings"

	"excavate/core/limit"
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
	columns       *columnMap
	levels        *formula // mip levels
	images        string   // faces, layers or frames
	imageCount    *formula
}

type paletteMap struct {
	at, count *formula
	format    *choice[pixel.Format]
	big       bool
}

func (c *compiler) picture(n *node) {
	c.Layout.picture = c.pictureMap(n, c.topScope)
}

// pictureKeys are what a picture says of itself, wherever it stands.
var pictureKeys = []string{"width", "height", "format", "at", "rows", "palette", "order", "tiling", "tile", "columns", "levels", "images"}

func (c *compiler) pictureMap(n *node, sc *scope) *pictureMap {
	c.keys(n, pictureKeys...)
	if c.err != nil {
		return nil
	}
	inner := sc.child("level", "image", "column")
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
		format:   chooser(c, c.need(n, "format"), sc, texel),
		bottomUp: c.optionalOf(n, "rows", "top-down", "top-down", "bottom-up") == "bottom-up",
		big:      c.big(n), levels: c.optionalFormula(n, "levels", sc),
	}
	if x := n.get("columns"); x != nil && c.err == nil {
		c.keys(x, "at", "row", "count", "before", "after", "end")
		m.columns = &columnMap{at: c.needFormula(x, "at", inner), end: -1}
		for key, to := range map[string]*primitive{"row": &m.columns.row, "count": &m.columns.count} {
			if v := c.need(x, key); v != nil {
				*to = primitives[c.oneOf(v, "u8", "u16", "u32")]
			}
		}
		for key, to := range map[string]*int64{"before": &m.columns.before, "after": &m.columns.after, "end": &m.columns.end} {
			if v := x.get(key); v != nil {
				*to = c.whole(v)
			}
		}
		if m.columns.before < 0 || m.columns.before > 64 || m.columns.after < 0 || m.columns.after > 64 {
			c.fail(x, "before and after are 0 to 64 bytes around a run")
		}
		for _, key := range []string{"at", "tiling", "levels", "images"} {
			if v := n.get(key); v != nil {
				c.fail(v, "a picture of columns has no %s of its own", key)
			}
		}
	} else {
		m.at = c.needFormula(n, "at", inner)
	}
	if x := n.get("images"); x != nil && c.err == nil {
		c.keys(x, "are", "count")
		if v := c.need(x, "are"); v != nil {
			m.images = c.oneOf(v, "faces", "layers", "frames")
		}
		m.imageCount = c.needFormula(x, "count", sc)
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
	return m
}

// Pictured is what a picture's layout makes of a file: one image, or several.
type Pictured struct {
	Width, Height int
	Format        pixel.Format
	Images        []Image
}

// Image is one image of a picture, rows from the top.
type Image struct {
	Label string // such as "face 2, level 1"; empty for the first
	*image.NRGBA
}

// Image decodes the picture that the layout describes: the first image of
// several.
func (l *Layout) Image(ctx context.Context, in Input, around Surroundings) (*image.NRGBA, error) {
	p, err := l.Picture(ctx, in, around)
	if err != nil {
		return nil, err
	}
	return p.Images[0].NRGBA, nil
}

// Picture decodes all images of the picture that the layout describes.
func (l *Layout) Picture(ctx context.Context, in Input, around Surroundings) (*Pictured, error) {
	if l.picture == nil {
		return nil, &Error{Layout: l.Name, Msg: fmt.Sprintf("the layout describes a %s, not a picture", l.Kind)}
	}
	l = l.inOrder(in)
	r := newRun(ctx, l, in).with(around)
	e, err := r.fields()
	if err != nil {
		return nil, err
	}
	return r.pictured(e)
}

func (r *run) pictured(e *env) (*Pictured, error) { return r.layout.picture.decode(e, false) }

// decode reads the picture; firstOnly leaves the levels and images after the
// first alone.
func (m *pictureMap) decode(e *env, firstOnly bool) (*Pictured, error) {
	r := e.run
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
	w, h = min(max(w, -1), 1<<30), min(max(h, -1), 1<<30)
	p := &Pictured{Width: int(w), Height: int(h), Format: f}
	o := pixel.Options{BigEndian: m.big}
	if o.Tiling, err = m.tilingOf(e); err != nil {
		return nil, err
	}
	counts := [2]int64{1, 1}
	for i, x := range []*formula{m.levels, m.imageCount} {
		if x == nil || firstOnly {
			continue
		}
		if counts[i], err = x.int(e); err != nil {
			return nil, err
		}
		if most := []int64{32, 4096}[i]; counts[i] < 1 || counts[i] > most {
			return nil, r.errorf(x.line, x.col, "%d images: 1 to %d can be", counts[i], most)
		}
	}
	if f.Indexed() {
		if o.Palette, err = m.palette.read(e); err != nil {
			return nil, err
		}
	}
	inner := e.child(intVal(0), intVal(0), intVal(0))
	if m.columns != nil {
		img, err := m.columns.decode(m, inner, f, p.Width, p.Height, o)
		p.Images = []Image{{NRGBA: img}}
		return p, err
	}
	var after int64 // of the image before, where they follow one another
	texels := int64(0)
	for i := int64(0); i < counts[1]; i++ {
		for k := int64(0); k < counts[0]; k++ {
			if err := r.cancelled(); err != nil {
				return nil, err
			}
			inner.slots[0], inner.slots[1] = intVal(k), intVal(i)
			lw, lh := max(w>>k, min(w, 1)), max(h>>k, min(h, 1))
			need, err := o.Tiling.Span(f, int(lw), int(lh))
			if err != nil {
				return nil, r.errorf(m.width.line, m.width.col, "%v", err)
			}
			if texels += lw * lh; texels > limit.Texels {
				return nil, r.errorf(m.width.line, m.width.col, "more than %d texels in all", int64(limit.Texels))
			}
			src, at, err := m.at.place(inner)
			if err != nil {
				return nil, err
			}
			if !m.at.sees("level", "image") {
				at += after
			}
			data, err := r.read(m.at, src, at, need, "texels")
			if err != nil {
				return nil, err
			}
			after += need
			img, err := pixel.DecodeWith(f, data, int(lw), int(lh), o)
			if err != nil {
				return nil, r.errorf(m.at.line, m.at.col, "%v", err)
			}
			if m.bottomUp {
				pixel.FlipRows(img)
			}
			label := ""
			if counts[1] > 1 {
				label = fmt.Sprintf("%s %d", strings.TrimSuffix(m.images, "s"), i)
			}
			if k > 0 {
				label = strings.TrimPrefix(fmt.Sprintf("%s, level %d", label, k), ", ")
			}
			p.Images = append(p.Images, Image{label, img})
		}
	}
	return p, nil
}

// columnMap is a picture kept as columns, each a list of runs of texels with
// nothing between them.
type columnMap struct {
	at                 *formula // sees column
	row, count         primitive
	before, after, end int64
}

func (m *columnMap) decode(p *pictureMap, e *env, f pixel.Format, w, h int, o pixel.Options) (*image.NRGBA, error) {
	r := e.run
	one, err := f.Bytes(1, 1)
	two, _ := f.Bytes(2, 1)
	if err != nil || two != 2*one || f.Compressed() {
		return nil, r.errorf(p.width.line, p.width.col, "texels of %s cannot stand in columns: they are no whole bytes", f)
	}
	size, err := f.Bytes(w, h)
	if err != nil {
		return nil, r.errorf(p.width.line, p.width.col, "%v", err)
	}
	data, there := make([]byte, size), make([]bool, w*h)
	budget := 4*int64(w)*int64(h) + 1024 // runs may lie over one another, within reason
	for x := 0; x < w; x++ {
		e.slots[2] = intVal(int64(x))
		src, at, err := m.at.place(e)
		if err != nil {
			return nil, err
		}
		for {
			b, err := r.read(m.at, src, at, int64(m.row.size), fmt.Sprintf("column %d", x))
			if err != nil {
				return nil, err
			}
			row := m.row.number(b, byteOrder(p.big)).i
			if row == m.end {
				break
			}
			if b, err = r.read(m.at, src, at+int64(m.row.size), int64(m.count.size), "a run's length"); err != nil {
				return nil, err
			}
			n := m.count.number(b, byteOrder(p.big)).i
			if row+n > int64(h) {
				return nil, r.errorf(m.at.line, m.at.col, "column %d has a run of %d texels from row %d on, and there are %d rows", x, n, row, h)
			}
			if budget -= n + 1; budget < 0 {
				return nil, r.errorf(m.at.line, m.at.col, "column %d: more texels in runs than the picture has", x)
			}
			texels := at + int64(m.row.size+m.count.size) + m.before
			if b, err = r.read(m.at, src, texels, n*one, "a run"); err != nil {
				return nil, err
			}
			for y := row; y < row+n; y++ {
				i := y*int64(w) + int64(x)
				copy(data[i*one:(i+1)*one], b[(y-row)*one:])
				there[i] = true
			}
			at = texels + n*one + m.after
			if m.end < 0 {
				break // one run a column
			}
		}
	}
	img, err := pixel.DecodeWith(f, data, w, h, o)
	if err != nil {
		return nil, r.errorf(m.at.line, m.at.col, "%v", err)
	}
	for i, t := range there {
		if !t {
			copy(img.Pix[4*i:4*i+4], []byte{0, 0, 0, 0})
		}
	}
	if p.bottomUp {
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
	n, err := p.count.int(e)
	if err != nil {
		return nil, err
	}
	f, err := p.format.eval(e)
	if err != nil {
		return nil, err
	}
	if n < 0 || n > 1<<16 {
		return nil, r.errorf(p.count.line, p.count.col, "a palette of %d colours", n)
	}
	size, err := f.Bytes(int(max(n, 1)), 1)
	if err != nil {
		return nil, r.errorf(p.count.line, p.count.col, "%v", err)
	}
	data, err := p.at.bytes(e, "palette", size)
	if err != nil {
		return nil, err
	}
	pal, err := pixel.PaletteWith(f, data, int(n), p.big)
	if err != nil {
		return nil, r.errorf(p.at.line, p.at.col, "%v", err)
	}
	return pal, nil
}
